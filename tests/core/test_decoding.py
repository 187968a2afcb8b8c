"""A decoder that is kept for the next span gives the same frames as one that begins anew."""

from __future__ import annotations

import os
import random
from collections.abc import Generator
from fractions import Fraction
from pathlib import Path

import av
import numpy as np
import pytest
from av.video.frame import VideoFrame
from msgspec.structs import replace

from boxkite.core.batch import sharing
from boxkite.core.errors import ChangedError, DamagedError
from boxkite.core.footage import decoding
from boxkite.core.footage.decoding import Damage, KeptDecoder, read_frames
from boxkite.core.footage.frame_index import measure_frames
from boxkite.core.footage.opening import KeptSource, OpenedSource
from boxkite.core.footage.probe import read_source
from boxkite.core.footage.source import Source
from boxkite.core.render import audio_reader
from boxkite.core.render.audio_reader import AudioReader
from boxkite.core.shots.placing import index_source
from boxkite.core.shots.shot import IndexedSource
from boxkite.core.timebase import FrameRate, Span
from boxkite.demo.movies import Movie, write_movie
from boxkite.demo.pictures import LOFT, VAT
from tests.builders import make_footage, make_shots, planned

FRAMES = 220
CODINGS = {
    "h264 long GOP": ("p.mov", "libx264", {"preset": "fast", "g": "100", "bf": "3", "sc_threshold": "0"}),
    "h264 open GOP": ("p.mkv", "libx264", {"x264-params": "open-gop=1:keyint=40:bframes=3:b-pyramid=normal"}),
    "refreshed": ("p.mp4", "libx264", {"x264-params": "intra-refresh=1:keyint=30"}),
    "transport stream": ("p.ts", "libx264", {"g": "50", "bf": "2"}),
    "hevc": ("p.mov", "libx265",
             {"preset": "ultrafast", "x265-params": "log-level=none:keyint=60:bframes=3:open-gop=1"}),
    "mpeg-2": ("p.mpg", "mpeg2video", {"g": "15", "bf": "2", "b": "4M"}),
}  # fmt: skip


def film(folder: Path, coding: str) -> Path:
    name, encoder, options = CODINGS[coding]
    rate = FrameRate.parse("25")
    write_movie(Movie(folder / name, FRAMES, rate, ((0, VAT), (110, LOFT)), width=320, height=180, encoder=encoder,
                      options=options, audio_tracks=0))  # fmt: skip
    return folder / name


def luma(frame: VideoFrame) -> bytes:
    plane = frame.planes[0]
    return (
        np.frombuffer(plane, np.uint8).reshape(-1, plane.line_size)[: frame.height, : frame.width].tobytes()
    )


@pytest.mark.parametrize("coding", CODINGS)
@pytest.mark.parametrize("threads", [1, 2])
def test_a_kept_decoder_gives_the_frames_that_a_new_one_gives(
    tmp_path: Path, coding: str, threads: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    source = read_source(film(tmp_path, coding))
    table = measure_frames(source)
    whole = [luma(frame) for _, frame in read_frames(source, table, Span(0, FRAMES))]
    opened: list[object] = []
    opening = decoding.open_source
    monkeypatch.setattr(decoding, "open_source", lambda *words: opened.append(words) or opening(*words))
    chance, kept, spans, gone_on = random.Random(coding), KeptDecoder(), 0, 0
    for _ in range(6):
        at = 0
        while at < FRAMES - 12:
            span = Span(at, min(FRAMES, at + chance.randint(1, 24)))
            before = len(opened)
            found = list(read_frames(source, table, span, threads=threads, kept=kept))
            assert [number for number, _ in found] == list(range(span.start, span.end))
            assert [luma(frame) for _, frame in found] == whole[span.start : span.end], span
            spans, gone_on = spans + 1, gone_on + (len(opened) == before)
            at = span.end + chance.choice((0, 0, 1, 3, 9, 30)) - chance.choice((0, 0, 0, 0, 5))
            at = max(at, 0)
    kept.close()
    assert (
        (0.3 if source.path.suffix in (".ts", ".mpg") else 0.5) * spans < gone_on < spans
    )  # those have no index


def test_a_picture_that_was_looked_at_is_not_lost_for_the_next_span(tmp_path: Path) -> None:
    whole, holed = film(tmp_path, "mpeg-2"), tmp_path / "holed.mkv"
    table = measure_frames(read_source(whole))
    with av.open(str(whole)) as incoming, av.open(str(holed), "w") as outgoing:
        stream = outgoing.add_stream("mjpeg", rate=25)
        stream.width, stream.height, stream.pix_fmt = 320, 180, "yuvj420p"
        for number, frame in enumerate(incoming.decode(video=0)):
            if number != 19:
                outgoing.mux(stream.encode(_at(frame, number)))
    source, kept = read_source(holed), KeptDecoder()
    table = replace(table, time_base=Fraction(1, 1000), first_pts=0)
    for span in (Span(0, 20), Span(20, 40)):
        damage = Damage()
        assert len(list(read_frames(source, table, span, damage=damage, kept=kept))) == 20
        assert damage.missing == ([19] if span.start == 0 else [])
    kept.close()


def test_where_a_kept_decoder_fails_on_its_way_another_begins_anew(tmp_path: Path) -> None:
    """It may have met damage that lies before the next keyframe."""
    source, kept = read_source(film(tmp_path, "h264 long GOP")), KeptDecoder()
    table = measure_frames(source)
    alone = [luma(frame) for _, frame in read_frames(source, table, Span(25, 40))]
    list(read_frames(source, table, Span(0, 20), kept=kept))
    assert kept._pass
    kept._pass.pictures = _failing(kept._pass.pictures)
    assert [luma(frame) for _, frame in read_frames(source, table, Span(25, 40), kept=kept)] == alone
    kept.close()


def _failing(
    pictures: Generator[tuple[int, VideoFrame], None, None],
) -> Generator[tuple[int, VideoFrame], None, None]:
    yield next(pictures)
    raise DamagedError("the picture is damaged near frame 21")


def _at(frame: VideoFrame, number: int) -> VideoFrame:
    changed = frame.reformat(format="yuvj420p")
    changed.pts, changed.time_base, changed.pict_type = number, Fraction(1, 25), 0
    return changed


def test_where_the_source_has_changed_a_kept_decoder_says_so(tmp_path: Path) -> None:
    path = film(tmp_path, "h264 long GOP")
    source = read_source(path)
    table, kept = measure_frames(source), KeptDecoder()
    list(read_frames(source, table, Span(0, 20), kept=kept))
    with path.open("r+b") as file:
        file.seek(-1, os.SEEK_END)
        file.write(b"\0")
    os.utime(path, ns=(1, 1))
    with pytest.raises(ChangedError):
        list(read_frames(source, table, Span(20, 40), kept=kept))


def heard(footage: IndexedSource, span: Span, kept: KeptSource | None) -> list[bytes]:
    reader = AudioReader(footage, span, (0,), kept=kept)
    blocks = [bytes(plane) for _, block in reader.until(span.end) for plane in block.planes]
    reader.close()
    return blocks


@pytest.mark.parametrize("codec", ["pcm_s16le", "pcm_s24le", "aac"])
def test_a_source_that_stays_open_gives_the_same_audio_as_one_opened_anew(
    codec: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    footages = []
    for name, rate in (("a", "25"), ("b", "24")):
        movie = Movie(tmp_path / f"{name}.mov", 60, FrameRate.parse(rate), ((0, VAT),), width=160, height=90,
                      audio_codec=codec)  # fmt: skip
        write_movie(movie)
        source = read_source(movie.path)
        footages.append(index_source(source, measure_frames(source), None))
    one, other = footages
    order = [
        (one, Span(20, 30)),
        (one, Span(30, 60)),
        (one, Span(0, 10)),
        (other, Span(20, 30)),
        (one, Span(1, 9)),
    ]
    anew = [heard(footage, span, None) for footage, span in order]
    opened: list[Source] = []

    def open_source(source: Source) -> OpenedSource:
        opened.append(source)
        return OpenedSource(source)

    monkeypatch.setattr(audio_reader, "open_source", open_source)
    kept = KeptSource()
    assert [heard(footage, span, kept) for footage, span in order] == anew
    kept.close()
    assert len(opened) == (5 if codec == "aac" else 3)  # decoders of others remember what was before


def test_where_the_source_has_changed_one_that_stays_open_says_so(tmp_path: Path) -> None:
    movie = Movie(tmp_path / "a.mov", 60, FrameRate.parse("25"), ((0, VAT),), width=160, height=90)
    write_movie(movie)
    source, kept = read_source(movie.path), KeptSource()
    footage = index_source(source, measure_frames(source), None)
    heard(footage, Span(0, 20), kept)
    os.utime(movie.path, ns=(1, 1))
    with pytest.raises(ChangedError):
        heard(footage, Span(20, 40), kept)


def test_shots_that_lie_close_are_made_one_after_the_other(tmp_path: Path) -> None:
    footage = make_footage(film(tmp_path, "h264 long GOP"))
    plan = planned(tmp_path, make_shots(footage, *((at, at + 4) for at in range(0, 200, 5))))
    threads = {row.number: 1 for row in plan.rows}
    stretches = sharing.stretches_of(plan.rows, threads, 2)
    lengths = [sum(len(group) for group in stretch) for stretch in stretches]
    assert sum(lengths) == len(plan.rows) and 8 <= len(stretches) <= 10 and max(lengths) <= 5
    for stretch in stretches:
        numbers = [group[0].number for group in stretch]
        assert numbers == list(range(numbers[0], numbers[0] + len(numbers)))
    apart = planned(tmp_path, make_shots(footage, (0, 4), (180, 184)))
    assert len(sharing.stretches_of(apart.rows, threads, 1)) == 2
