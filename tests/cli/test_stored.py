"""Files that do not store what they show: order, hidden frames, repeats, doubtful beginnings, other containers."""

from __future__ import annotations

import re
from collections.abc import Callable
from fractions import Fraction
from pathlib import Path

import av
import numpy as np
import pytest

from boxkite.core.render.edit_lists import hide_after
from boxkite.core.timebase import FrameRate
from boxkite.demo import read_barcode
from boxkite.demo.movies import Movie, write_movie
from boxkite.demo.pictures import LOFT, VAT
from tests.verification import boxkite, decoded_hash, frames_of, kinds

RATE = FrameRate.parse("25")
FRAMES = 60
B_FRAMES = {"bf": "3", "b-pyramid": "normal", "g": "20", "x264-params": "b-adapt=0:scenecut=0"}


def movie(path: Path, **changes: object) -> Path:
    shown = {"width": 320, "height": 180, "scenes": ((0, VAT), (30, LOFT)), "audio_tracks": 0, **changes}
    write_movie(Movie(path, FRAMES, RATE, **shown))  # type: ignore[arg-type]
    return path


def remuxed(source: Path, target: Path, change: Callable[[av.Packet, int], bytes | None]) -> Path:
    """A copy of a file's picture with its packets changed; where that gives bytes, they take the packet's place."""
    with av.open(str(source)) as incoming, av.open(str(target), "w") as outgoing:
        stream = incoming.streams.video[0]
        written = outgoing.add_stream_from_template(stream, opaque=True)
        for number, packet in enumerate(incoming.demux(stream)):
            if packet.size:
                data = change(packet, number)
                other = packet if data is None else av.Packet(data)
                other.pts, other.dts, other.time_base = packet.pts, packet.dts, packet.time_base
                other.is_keyframe, other.stream = packet.is_keyframe, written
                outgoing.mux(other)
    return target


def times_of_decoding(packet: av.Packet, number: int) -> None:
    packet.pts = packet.dts = number * 512


def made(folder: Path, source: Path, *outputs: str) -> list[dict]:
    """The files of a run on a whole source, in the order of the outputs."""
    words = [word for one in outputs for word in ("--to", f"{one}:{one}")]
    done = boxkite("run", source, "--by", "files", *words, "--json", cwd=folder)
    assert done.status == 0, done.out + done.err
    return done.json["files"]


@pytest.mark.parametrize("extension", [".mp4", ".mov"])
def test_frames_are_shown_in_order_where_a_file_stores_the_times_of_decoding(
    tmp_path: Path, extension: str
) -> None:
    right = movie(tmp_path / "right.mp4", options=B_FRAMES)
    wrong = remuxed(right, tmp_path / f"wrong{extension}", times_of_decoding)
    with av.open(str(wrong)) as container:
        shown = [picture.pts for picture in container.decode(video=0)]
    assert shown != sorted(shown)
    made(tmp_path, wrong, "web", "copy")
    assert frames_of(tmp_path / "web/wrong.mp4") == [(1, number) for number in range(FRAMES)]
    assert decoded_hash(tmp_path / f"copy/wrong{extension}") == decoded_hash(wrong)
    (tmp_path / "part.csv").write_text("name,in,out\npart,23,57\n")
    done = boxkite(
        "run", wrong, "--marks", "part.csv", "--to", "web:w", "--to", "copy:c", "--json", cwd=tmp_path
    )
    assert done.status == 0, done.out + done.err
    copied = next(file for file in done.json["files"] if file["preset"] == "copy")
    made_anew = next(file for file in done.json["files"] if file["preset"] == "web")
    assert [frame for _, frame in frames_of(Path(made_anew["path"]))] == list(range(23, 57))
    with av.open(copied["path"]) as container:
        found = [read_barcode(picture)[1] for picture in container.decode(video=0)]
    assert (
        found == list(range(copied["in_frame"], copied["out_frame"])) and found[0] <= 23 and found[-1] >= 56
    )


def test_a_stream_that_does_not_say_how_far_it_reorders_loses_no_frame(tmp_path: Path) -> None:
    near = B_FRAMES | {"bf": "1", "b-pyramid": "none"}
    parts = [movie(tmp_path / f"{at}.mp4", options=options) for at, options in enumerate((near, B_FRAMES))]
    bare = tmp_path / "bare.h264"
    bare.write_bytes(b"".join(map(annex_b, parts)))
    shown = [packet.pts for part in parts for packet in av.open(str(part)).demux(video=0) if packet.size]
    later = FRAMES * 512
    source = tmp_path / "silent.ts"
    with av.open(str(bare)) as incoming, av.open(str(source), "w") as outgoing:
        written = outgoing.add_stream_from_template(incoming.streams.video[0], opaque=True)
        packets = [packet for packet in incoming.demux(video=0) if packet.size]
        for number, packet in enumerate(packets):
            packet.pts, packet.dts = shown[number] + later * (number >= FRAMES) + 2048, number * 512
            packet.time_base = Fraction(1, 12800)
            packet.stream = written
            outgoing.mux(packet)
    with av.open(str(source)) as container:
        assert len(list(container.decode(video=0))) < 2 * FRAMES  # the library alone drops some
    made(tmp_path, source, "web")
    assert [frame for _, frame in frames_of(tmp_path / "web/silent.mp4")] == [*range(FRAMES), *range(FRAMES)]


def annex_b(source: Path) -> bytes:
    """The picture of a file as a byte stream whose parameter sets do not restrict it (H.264, annex B)."""
    bare = source.with_suffix(".h264")
    with av.open(str(source)) as incoming, av.open(str(bare), "w", format="h264") as outgoing:
        stream = incoming.streams.video[0]
        written = outgoing.add_stream_from_template(stream, opaque=True)
        for packet in incoming.demux(stream):
            if packet.size:
                packet.stream = written
                outgoing.mux(packet)
    units = re.split(b"\0\0\0?\1", bare.read_bytes())[1:]
    units = [without_restriction(unit) if unit[0] & 31 == 7 else unit for unit in units]
    return b"".join(b"\0\0\0\1" + unit for unit in units)


def without_restriction(unit: bytes) -> bytes:
    """A sequence parameter set whose usability information ends before its bitstream restriction (H.264, E.1.1)."""
    bits = "".join(f"{byte:08b}" for byte in unit.replace(b"\0\0\3", b"\0\0")).rstrip("0")
    coded = ["0" * (len(f"{value + 1:b}") - 1) + f"{value + 1:b}" for value in range(17)]  # Exp-Golomb, 9.1
    tails = [
        "1111" + coded[size] + coded[size] + coded[far] + coded[held]
        for size in range(8, 17)
        for held in range(1, 17)
        for far in (1, 2)
    ]
    tail = next(tail for tail in tails if bits.endswith(tail + "1"))
    bits = bits[: -len(tail) - 1] + "0" + "1"
    data = int(bits.ljust(-(-len(bits) // 8) * 8, "0"), 2).to_bytes(-(-len(bits) // 8), "big")
    return re.sub(b"\0\0([\0-\3])", b"\0\0\3\\1", data)


def test_frames_that_an_edit_list_hides_are_not_copied_into_view(tmp_path: Path) -> None:
    source = movie(tmp_path / "long.mp4", options=B_FRAMES)
    hide_after(source, Fraction(FRAMES - 2, 25))
    with av.open(str(source)) as container:
        assert len(list(container.decode(video=0))) == FRAMES - 2

    def earlier(packet: av.Packet, number: int) -> None:
        packet.pts, packet.dts = packet.pts - 3 * 512, packet.dts - 3 * 512

    late = remuxed(source, tmp_path / "late.mov", earlier)
    for one in (source, late):
        files = made(tmp_path, one, "copy", "web")
        assert decoded_hash(Path(files[0]["path"])) == decoded_hash(one)
        with av.open(str(one)) as container:
            shown = [read_barcode(picture) for picture in container.decode(video=0)]
        assert frames_of(Path(files[1]["path"])) == shown and len(shown) < FRAMES


def test_avi_with_reordered_frames_is_cut_and_copied_to_the_frame(tmp_path: Path) -> None:
    source = movie(tmp_path / "old.avi", encoder="mpeg4", options={"bf": "2", "g": "12", "qscale": "2"})
    (tmp_path / "part.csv").write_text("name,in,out\npart,24,50\n")
    done = boxkite(
        "run", source, "--marks", "part.csv", "--to", "web:w", "--to", "copy:c", "--json", cwd=tmp_path
    )
    assert done.status == 0, done.out + done.err
    assert [frame for _, frame in frames_of(tmp_path / "w/old_part.mp4")] == list(range(24, 50))
    copied = next(file for file in done.json["files"] if file["preset"] == "copy")
    with av.open(copied["path"]) as container:
        found = [read_barcode(picture)[1] for picture in container.decode(video=0)]
    assert found == list(range(copied["in_frame"], copied["out_frame"])) and {24, 49} <= set(found)


def test_frames_that_the_decoder_doubts_at_the_very_start_are_made_and_reported(tmp_path: Path) -> None:
    source = movie(tmp_path / "whole.mp4", options={"bf": "0", "g": "20", "x264-params": "scenecut=0"})

    def damaged(at: int) -> Callable[[av.Packet, int], bytes | None]:
        return lambda packet, number: _with_a_hole(bytes(packet)) if number == at else None

    for at in (0, 20):
        cut = remuxed(source, tmp_path / f"at{at}.mp4", damaged(at))
        with av.open(str(cut)) as container:
            assert [picture.is_corrupt for picture in container.decode(video=0)].index(True) == at
        done = boxkite("run", cut, "--by", "files", "--to", "web:web", "--json", cwd=tmp_path)
        (file,) = done.json["files"]
        if at:
            assert done.status == 1 and "frame 20 is damaged" in file["failure"]
        else:
            assert (
                done.status == 0 and file["frames"] == FRAMES and "frames-flagged" in kinds(file["warnings"])
            )


def _with_a_hole(data: bytes) -> bytes:
    middle = len(data) // 2
    return data[:middle] + bytes(200) + data[middle + 200 :]


def test_streams_go_into_a_container_that_holds_them(tmp_path: Path) -> None:
    movie(tmp_path / "phone.mp4", audio_tracks=1).rename(tmp_path / "phone.3gp")
    (file,) = made(tmp_path, tmp_path / "phone.3gp", "copy")
    assert Path(file["path"]).name == "phone.mp4"
    assert decoded_hash(tmp_path / "copy/phone.mp4") == decoded_hash(tmp_path / "phone.3gp")
    planned = boxkite(
        "plan", tmp_path / "phone.3gp", "--by", "files", "--to", "copy:c", "--json", cwd=tmp_path
    )
    assert planned.json["rows"][0]["path"].endswith("phone.mp4")


def test_recordings_joined_end_to_end_keep_every_frame_and_say_that_their_times_start_over(
    tmp_path: Path,
) -> None:
    parts = [
        movie(tmp_path / f"{number}.ts", source=number, options={"bf": "2", "g": "12"}) for number in (1, 2)
    ]
    joined = tmp_path / "joined.ts"
    joined.write_bytes(b"".join(part.read_bytes() for part in parts))
    row = made(tmp_path, joined, "web")[0]
    assert "times-restart" in kinds(row["warnings"])
    wanted = [(source, frame) for source in (1, 2) for frame in range(FRAMES)]
    assert frames_of(Path(row["path"])) == wanted
    (tmp_path / "r.csv").write_text(f"name,in,out\nx,{FRAMES - 3},{FRAMES + 4}\n")
    done = boxkite("run", joined, "--marks", "r.csv", "--to", "web:x", "--json", cwd=tmp_path)
    assert frames_of(Path(done.json["files"][0]["path"])) == wanted[FRAMES - 3 : FRAMES + 4]
    assert boxkite("plan", joined, "--to", "copy:y", cwd=tmp_path).status == 2


@pytest.mark.parametrize("codec", ["ac3", "mp3"])
def test_coded_audio_of_a_copied_avi_is_as_long_as_it_was(tmp_path: Path, codec: str) -> None:
    """Where the header counts it by its bytes, readers play it several times too fast."""
    source = tmp_path / "loft.avi"
    with av.open(str(source), "w") as container:
        video = container.add_stream("mpeg4", rate=25)
        video.width, video.height, video.pix_fmt = 96, 64, "yuv420p"
        audio = container.add_stream(codec, rate=48_000, layout="stereo")
        for number in range(100):
            frame = av.VideoFrame.from_ndarray(np.full((96, 96), number, np.uint8), format="yuv420p")
            frame.pts, frame.time_base = number, Fraction(1, 25)
            container.mux(video.encode(frame))
            block = av.AudioFrame.from_ndarray(
                np.zeros((2, 1920), np.float32), format="fltp", layout="stereo"
            )
            block.sample_rate, block.pts, block.time_base = 48_000, number * 1920, Fraction(1, 48_000)
            container.mux(audio.encode(block))
        container.mux(video.encode(None))
        container.mux(audio.encode(None))
    content = bytearray(source.read_bytes())
    block_align = content.find(b"strf", content.find(b"auds")) + 8 + 12
    content[block_align : block_align + 2] = (3840).to_bytes(2, "little")  # as cameras and recorders write it
    source.write_bytes(content)
    done = boxkite("run", "loft.avi", "--by", "files", "--to", "copy:out", "--json", cwd=tmp_path)
    (made,) = done.json["files"]
    with av.open(made["path"]) as container:
        stream = container.streams.audio[0]
        times = [packet.pts * packet.time_base for packet in container.demux(stream) if packet.size]
        assert stream.duration is None or stream.duration * stream.time_base < 5
    assert 3.9 < float(times[-1]) < 4.1
