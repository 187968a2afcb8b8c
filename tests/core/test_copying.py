"""Copies from file to file hold what copies by packets hold, and 4:4:4 pictures of older encoders stay right."""

from __future__ import annotations

import itertools
import os
import re
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import numpy as np
import pytest
from av.packet import Packet
from av.video.frame import VideoFrame

from boxkite.core.errors import ChangedError, DamagedError, NoKeyframeError, VerificationError
from boxkite.core.files import joining
from boxkite.core.files.boxes import boxes, new_box, replaced
from boxkite.core.files.checksum import file_checksum
from boxkite.core.footage import stream_start
from boxkite.core.footage.bitstream.obstacles import Obstacle
from boxkite.core.footage.decoding import read_frames
from boxkite.core.footage.frame_index import FrameIndex, measure_frames
from boxkite.core.footage.keyframes import StoredFrames, stored_frames
from boxkite.core.footage.probe import read_source
from boxkite.core.handover.good_frames import frame_of_file
from boxkite.core.plan.copies import copied_frames, splice_of
from boxkite.core.plan.planning import Output
from boxkite.core.plan.rows import Row
from boxkite.core.render.audio_reader import AudioReader
from boxkite.core.render.copy import copying, movie_index, stand_ins
from boxkite.core.render.copy.checking import check_copy
from boxkite.core.render.copy.copying import copy_packets
from boxkite.core.render.making import make_files
from boxkite.core.shots.placing import index_source
from boxkite.core.shots.shot import IndexedSource
from boxkite.core.timebase import FrameRate, Span
from boxkite.demo import read_barcode
from boxkite.demo.movies import Movie, write_movie
from boxkite.demo.pictures import VAT
from tests.builders import make_shots, planned

ALONE = {"g": "1", "bf": "0", "preset": "ultrafast"}
KINDS = {
    "a.mov": {"encoder": "prores_ks", "options": {}, "pixel_format": "yuv422p10le", "audio_tracks": 3,
              "timecode": "10:00:00:00", "reel": "A003", "rate": FrameRate.parse("25")},
    "b.mp4": {"encoder": "mjpeg", "options": {}, "pixel_format": "yuvj420p", "audio_codec": "aac"},
    "c.mp4": {"options": ALONE, "audio_tracks": 0, "timecode": "01:00:00;02"},
    "d.mov": {"encoder": "dnxhd", "options": {"profile": "dnxhr_lb"}, "pixel_format": "yuv422p", "audio_codec": "ac3"},
    "e.mov": {"encoder": "mjpeg", "options": {}, "pixel_format": "yuvj420p", "audio_codec": "aac",
              "times": [0, *np.cumsum(np.random.default_rng(3).choice([33, 50, 17], 39)).tolist()]},
}  # fmt: skip


PROGRAM = {"encoder": "mpeg1video", "options": {"g": "15", "bf": "2", "b": "100k"}, "audio_codec": "mp2"}


def row_of(path: Path, span: tuple[int, int], **options: Any) -> Row:
    read = read_source(path)
    shots = make_shots(index_source(read, measure_frames(read), None), span)
    return planned(path.parent, shots, outputs=(Output("copy", path.parent / "out"),), **options).rows[0]


def held(path: Path) -> list[object]:
    """What a file says of itself and of its streams, and every packet."""
    with av.open(str(path)) as container:
        said = [
            (stream.type, stream.duration, stream.frames, stream.time_base, sorted(stream.metadata.items()),
             stream.codec_context and (stream.codec_context.name, stream.codec_context.bit_rate,
                                       bytes(stream.codec_context.extradata or b"")))
            for stream in container.streams
        ]  # fmt: skip
        packets = [
            (packet.stream_index, packet.pts, packet.dts, packet.duration, packet.is_keyframe, bytes(packet))
            for packet in container.demux()
            if packet.size
        ]
        packets.sort(key=lambda packet: (packet[0], packet[2]))
        return [sorted(container.metadata.items()), said, packets]


@pytest.mark.parametrize("name", KINDS)
@pytest.mark.parametrize("is_far", [False, True])
def test_a_copy_from_file_to_file_holds_what_one_by_packets_holds(
    name: str, is_far: bool, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    source = tmp_path / name
    kind = {"rate": FrameRate.parse("29.97"), **KINDS[name]}
    write_movie(Movie(source, 40, scenes=((0, VAT),), width=322, height=180, **kind))
    row = row_of(source, (0, 40) if is_far else (7, 31))
    if is_far:
        monkeypatch.setattr(movie_index, "_FIRST_FAR", 0)  # as in files of more than 4 GB
        monkeypatch.delattr(joining.os, "copy_file_range", raising=False)  # as on other systems
    made = [tmp_path / f"{way}{source.suffix}" for way in ("bytes", "packets")]
    checked = []
    for path in made:
        path.touch()
        copied = copy_packets(row, path)
        checked.append((check_copy(row, path, copied), copied.checksum))
        monkeypatch.setattr(stand_ins, "CAN_JOIN", False)
    assert checked[0][1] == checked[0][0].checksum == file_checksum(made[0]) and not checked[1][1]
    assert checked[0][0].frames == checked[1][0].frames
    assert held(made[0]) == held(made[1])
    data, other = (path.read_bytes() for path in made)
    assert data.index(b"moov") < data.index(b"mdat") and (b"co64" in data) == is_far
    assert data[data.find(b"btrt") :][:16] == other[other.find(b"btrt") :][:16] or name.endswith("mov")


def test_a_copy_that_holds_other_frames_or_ends_too_soon_is_not_taken(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    source, copy = tmp_path / "a.mov", tmp_path / "copy.mov"
    write_movie(
        Movie(source, 40, FrameRate.parse("25"), ((0, VAT),), width=320, height=180, **KINDS["d.mov"])
    )
    row = row_of(source, (7, 31))
    copy.touch()
    copied = copy_packets(row, copy)
    with av.open(str(copy)) as container:
        last = container.streams.video[0].index_entries[23]
    with copy.open("r+b") as file:
        file.seek(last.pos + last.size - 1)
        file.write(b"\x01")
    with pytest.raises(VerificationError, match="frame 23 of the copy is not that of its source"):
        check_copy(row, copy, copied)
    own = stand_ins.PicturesInFile.take

    def too_far(pictures: stand_ins.PicturesInFile, times: set[int]) -> None:
        own(pictures, times)
        pictures.places[pictures.taken[-1]] = source.stat().st_size - 1

    monkeypatch.setattr(stand_ins.PicturesInFile, "take", too_far)
    with pytest.raises(DamagedError, match="cannot be read to the end"):
        copy_packets(row, copy)


def test_what_changes_while_it_is_copied_or_is_described_in_two_ways_is_not_copied_so(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    source, other, copy = (tmp_path / name for name in ("a.mov", "b.mov", "copy.mov"))
    write_movie(
        Movie(source, 12, FrameRate.parse("25"), ((0, VAT),), width=320, height=180, **KINDS["d.mov"])
    )
    data = source.read_bytes()
    (index,) = (data[found.start :] for found in boxes(data, 0, len(data)) if found.kind == b"moov")

    def twice(table: bytes) -> bytes:
        return new_box(b"stsd", bytes(7), b"\2", table[16:], table[16:])

    def changed(box: bytes, *path: bytes) -> bytes:
        return replaced(box, path[0], lambda child: changed(child, *path[1:])) if path else twice(box)

    other.write_bytes(data[: -len(index)] + changed(index, b"trak", b"mdia", b"minf", b"stbl", b"stsd"))
    copy.touch()
    assert copy_packets(row_of(source, (0, 12)), copy).checksum
    copied = copy_packets(row_of(other, (0, 12)), copy)
    assert not copied.checksum and copied.shown == 12
    own = copying.join_pictures

    def touched(*given: Any) -> str:
        os.utime(source)
        return own(*given)

    monkeypatch.setattr(copying, "join_pictures", touched)
    with pytest.raises(ChangedError, match="it has changed since"):
        copy_packets(row_of(source, (0, 12)), copy)


@pytest.mark.parametrize("how", ["file to file", "packet by packet", "exact cuts"])
def test_a_copy_tells_how_far_it_is(tmp_path: Path, monkeypatch: pytest.MonkeyPatch, how: str) -> None:
    """And from file to file the system is told as often to begin with the disk."""
    begun: list[tuple[int, int]] = []
    monkeypatch.setattr(joining, "_TO_DISK_AT_A_TIME", 1 << 12)
    monkeypatch.setattr(
        joining, "begin_to_sync", lambda _, start, length: begun.append((start, start + length))
    )
    options = ALONE if how == "file to file" else {"g": "50", "bf": "2"}
    source, copy, told = tmp_path / "in.mov", tmp_path / "copy.mov", list[int]()
    write_movie(Movie(source, 200, FrameRate.parse("25"), ((0, VAT),), width=96, height=64, options=options))
    copy.touch()
    row = row_of(source, (7, 195) if how == "exact cuts" else (0, 200), exact_cuts=how == "exact cuts")
    (result,) = make_files([row], [copy], threads=1, progress=told.append)
    assert not result.failure and bool(row.splice) == (how == "exact cuts")
    assert len(told) > 4 and told == sorted(told) and told[0] < 50 and 150 < told[-1] < row.span.length
    assert len(begun) == (len(told) if how == "file to file" else 0)
    assert [end for _, end in begun[:-1]] == [start for start, _ in begun[1:]]


def test_parts_of_program_streams_begin_with_the_header_that_stands_once(tmp_path: Path) -> None:
    written, source, copy = (tmp_path / name for name in ("often.mpg", "once.mpg", "copy.mpg"))
    write_movie(Movie(written, 90, FrameRate.parse("25"), ((0, VAT),), width=320, height=180, **PROGRAM))
    with av.open(str(written)) as often, av.open(str(source), "w", format="mpeg") as once:
        streams = [once.add_stream_from_template(stream) for stream in often.streams]
        for number, packet in enumerate(packet for packet in often.demux() if packet.size):
            content = bytes(packet)
            if packet.stream_index == 0 and number > 1:
                content = re.sub(rb"(?s)\x00\x00\x01\xb3.{8}", b"", content)
            left = Packet(content)
            left.pts, left.dts, left.time_base = packet.pts, packet.dts, packet.time_base
            left.is_keyframe, left.stream = packet.is_keyframe, streams[packet.stream_index]
            once.mux(left)
    assert written.read_bytes().count(b"\0\0\1\xb3") > 5 and source.read_bytes().count(b"\0\0\1\xb3") == 1
    holds_its_frames(row_of(source, (47, 81)), copy)


def holds_its_frames(row: Row, copy: Path) -> None:
    copy.touch()
    assert check_copy(row, copy, copy_packets(row, copy)).frames == row.frames
    with av.open(str(copy)) as container:
        frames = [read_barcode(frame)[1] for frame in container.decode(video=0)]
    assert frames == list(range(row.span.start, row.span.end))


def test_program_streams_that_tell_few_times_are_cut_at_the_very_frame_and_sample(tmp_path: Path) -> None:
    """Whoever begins in their middle counts frames and audio otherwise than one who read them from the start."""
    source = tmp_path / "sparse.mpg"
    write_movie(Movie(source, 200, FrameRate.parse("25"), ((0, VAT),), width=320, height=180, **PROGRAM))
    places = itertools.count()

    def without_time(found: re.Match[bytes], *, keep: bool = True) -> bytes:
        """Stuffing in its place (ISO/IEC 11172-1, 2.4.3.3), but in every eleventh packet."""
        return (
            found[0]
            if keep and next(places) % 11 == 0
            else found[1] + b"\xff" * (len(found[2]) - 1) + b"\x0f"
        )

    times = rb"(?s)(\x00\x00\x01[\xe0\xc0]..\xff*(?:[\x40-\x7f].)?)([\x20-\x2f].{4}|[\x30-\x3f].{9})"
    source.write_bytes(re.sub(times, without_time, source.read_bytes()))
    row = row_of(source, (0, 200))
    footage = row.shot.footage
    assert footage.frame_index.timestamped and footage.frame_index.frame_count == 200
    for frame in range(0, 200, 3):
        ((_, picture),) = read_frames(footage.source, footage.frame_index, Span(frame, frame + 1))
        assert read_barcode(picture)[1] == frame
    whole = audio_of(footage, Span(0, 200))
    for start in range(10, 180, 3):
        part = audio_of(footage, Span(start, start + 8))
        assert np.abs(whole[:, start * 1920 :][:, : part.shape[1]].astype(float) - part).mean() < 2
    untold = tmp_path / "untold.mpg"
    untold.write_bytes(re.sub(times, lambda found: without_time(found, keep=False), source.read_bytes()))
    read = read_source(untold)
    begin = audio_of(index_source(read, measure_frames(read), None), Span(0, 20))
    assert np.abs(begin.astype(float)).mean() > 100  # no times at all: it is still heard
    for start in range(16, 160, 9):
        copied = row_of(source, (start, start + 31))
        holds_its_frames(copied, tmp_path / "copy.mpg")
    for frame in range(0, 31, 2):
        still = frame_of_file(tmp_path / "copy.mpg", frame, 25, is_copied=True)
        assert still and read_barcode(VideoFrame.from_image(still))[1] == copied.span.start + frame


def test_transport_streams_that_tell_the_times_of_some_frames_are_counted(tmp_path: Path) -> None:
    """Two frames in a packet of the stream; where these are two fields, one time is all there is."""
    written, source, every = tmp_path / "all.ts", tmp_path / "some.ts", itertools.count()
    write_movie(Movie(written, 60, FrameRate.parse("25"), ((0, VAT),), width=320, height=180, encoder="libx264",
                      options={"g": "20", "bf": "2", "preset": "veryfast"}, audio_codec="mp2"))  # fmt: skip

    def without_time(found: re.Match[bytes]) -> bytes:
        """Stuffing in its place (ISO/IEC 13818-1, 2.4.3.7)."""
        return found[0] if next(every) % 2 == 0 else found[1] + b"\0" + found[3] + b"\xff" * len(found[4])

    times = (
        rb"(?s)(\x00\x00\x01\xe0..[\x80-\x8f])([\x80\xc0])(.)([\x20-\x2f].{4}|[\x30-\x3f].{4}[\x10-\x1f].{4})"
    )
    source.write_bytes(re.sub(times, without_time, written.read_bytes()))
    whole = row_of(written, (0, 60)).shot.footage
    read = read_source(source)
    footage = index_source(read, measure_frames(read), None)
    index = footage.frame_index
    assert (index.frame_count, index.rate, index.first_pts) == (
        60,
        FrameRate.parse("25"),
        whole.frame_index.first_pts,
    )
    assert whole.frame_index.timestamped and not index.timestamped
    (shot,), stored = make_shots(footage, (20, 40)), stored_frames(footage.source)
    with pytest.raises(NoKeyframeError, match="stored without a time"):
        copied_frames(shot, stored)
    assert splice_of(shot, stored) == (None, Obstacle.TIMES)
    frames = [read_barcode(picture)[1] for _, picture in read_frames(footage.source, index, Span(23, 47))]
    assert frames == [*range(23, 47)]
    told, heard = (audio_of(one, Span(23, 47)).astype(float) for one in (whole, footage))
    assert np.abs(told - heard).mean() < 2


def test_a_picture_without_a_container_is_counted_at_the_rate_in_its_header(tmp_path: Path) -> None:
    written, source = tmp_path / "in.mpg", tmp_path / "bare.mpg"
    write_movie(Movie(written, 60, FrameRate.parse("23.976"), ((0, VAT),), width=320, height=180,
                      **{**PROGRAM, "audio_tracks": 0}))  # fmt: skip
    with av.open(str(written)) as container:
        source.write_bytes(b"".join(bytes(packet) for packet in container.demux(video=0)))
    row = row_of(source, (20, 41))
    footage = row.shot.footage
    assert footage.source.container == "mpegvideo" and str(footage.frame_index.rate) == "23.976"
    assert (footage.frame_index.frame_count, footage.frame_index.timestamped) == (60, False)
    for frame in range(0, 60, 7):
        ((_, picture),) = read_frames(footage.source, footage.frame_index, Span(frame, frame + 1))
        assert read_barcode(picture)[1] == frame
    holds_its_frames(row, tmp_path / "copy.mpg")


def test_what_is_stored_in_the_middle_of_a_frame_belongs_to_the_next_one() -> None:
    times = np.array([0, 6, 12, 15, 20, 24])  # at 6 ticks a frame
    starts = np.array([True, *[False] * 5])
    stored = StoredFrames(times, starts, ~starts & False, times, starts)
    index = FrameIndex(FrameRate(Fraction(5, 2)), 5, 6, 0, Fraction(1, 15), constant=False)
    assert stored.places(index, Span(0, 3)) == (0, 2)
    assert stored.copied_span(index, Span(0, 3)) == Span(0, 3)


def audio_of(footage: IndexedSource, span: Span) -> np.ndarray:
    reader = AudioReader(footage, span, [0])
    blocks = [block.to_ndarray() for _, block in reader.until(span.end)]
    reader.close()
    return np.concatenate(blocks, axis=1)


def test_the_note_of_an_older_encoder_is_shown_to_decoders_and_copied(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Under a forged note decoders take today's pictures for damaged ones: where they see it, they give others."""
    written, source, copy = (tmp_path / name for name in ("today.mp4", "older.mp4", "copy.mp4"))
    options = {"g": "20", "bf": "2", "crf": "10", "sc_threshold": "0"}
    write_movie(Movie(written, 60, FrameRate.parse("25"), ((0, VAT),), width=320, height=180, options=options,
                      pixel_format="yuv444p", audio_tracks=0))  # fmt: skip
    data = written.read_bytes()
    place = data.index(b"x264 - core ") + 12
    source.write_bytes(data[:place] + b"148" + data[place + 3 :])
    with av.open(str(written)) as container:
        today = [frame.to_ndarray() for frame in container.decode(video=0)]

    def frame_45() -> np.ndarray:
        read = read_source(source)
        ((_, picture),) = read_frames(read, measure_frames(read), Span(45, 46))
        return picture.to_ndarray()

    assert not np.array_equal(frame_45(), today[45])
    copy.touch()
    copy_packets(row_of(source, (40, 60)), copy)
    with av.open(str(copy)) as container:
        first, second, *_ = (bytes(packet) for packet in container.demux(video=0))
    assert b"x264 - core 148" in first and b"x264" not in second
    alone = tmp_path / "alone.mp4"
    write_movie(Movie(alone, 8, FrameRate.parse("25"), ((0, VAT),), width=320, height=180, options=ALONE,
                      pixel_format="yuv444p", audio_tracks=0))  # fmt: skip
    assert not copy_packets(row_of(alone, (4, 8)), copy).checksum
    monkeypatch.setattr(stream_start, "may_need_note", lambda stream: False)
    assert np.array_equal(frame_45(), today[45])


def test_more_frames_a_second_than_files_count_are_made_without_timecode(tmp_path: Path) -> None:
    source, copy = tmp_path / "fast.mp4", tmp_path / "copy.mp4"
    write_movie(Movie(source, 60, FrameRate.parse("300"), ((0, VAT),), width=160, height=90, audio_tracks=0))
    row = row_of(source, (0, 60))
    copy.touch()
    assert check_copy(row, copy, copy_packets(row, copy)).frames == 60
    with av.open(str(copy)) as container:
        assert "timecode" not in container.streams.video[0].metadata
        assert container.streams.video[0].average_rate == Fraction(300)
