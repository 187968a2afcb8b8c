"""Finding sources, and the map from frames to times."""

from __future__ import annotations

import os
import signal
import sys
from fractions import Fraction
from pathlib import Path

import av
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from boxkite.core.footage import probe
from boxkite.core.footage.deep import read_deep
from boxkite.core.footage.find import find_sources, group_sequences
from boxkite.core.footage.frame_index import measure_frames
from boxkite.core.footage.measuring import table_from_times
from boxkite.core.footage.probe import read_source
from boxkite.core.footage.said_picture import said_picture
from boxkite.core.footage.source import Source
from boxkite.core.render.mixing import silence
from boxkite.core.timebase import FrameRate
from boxkite.demo.movies import Movie, write_movie
from boxkite.demo.pictures import VAT

RATE = FrameRate.parse("25")


@given(
    st.sampled_from(["23.976", "24", "25", "29.97", "50", "59.94"]),
    st.integers(2, 400),
    st.integers(-5000, 5000),
)
def test_times_rounded_to_milliseconds_are_still_a_constant_rate(name: str, frames: int, origin: int) -> None:
    rate = FrameRate.parse(name)
    times = np.array([origin + round(1000 * number / rate.fraction) for number in range(frames)])
    table = table_from_times(times, origin, 0, Fraction(1, 1000), rate)
    assert (table.constant, table.frame_count, table.rate) == (True, frames, rate)
    assert [table.frame_at(int(pts)) for pts in times] == list(range(frames))
    assert all(abs(table.pts_of(number) - times[number]) <= 1 for number in range(frames))


@given(st.lists(st.integers(15, 60), min_size=20, max_size=200))
def test_a_variable_rate_keeps_its_length_whatever_its_steps(steps: list[int]) -> None:
    times = np.concatenate(([0], np.cumsum(steps)))
    table = table_from_times(times, 0, 33, Fraction(1, 1000), FrameRate.parse("30"))
    lasts = Fraction(int(times[-1]) + 33, 1000)
    assert abs(table.rate.seconds(table.frame_count) - lasts) <= Fraction(60, 1000)


def test_frames_before_the_first_keyframe_are_left_out_and_reported() -> None:
    table = table_from_times(np.arange(10) * 40, 80, 40, Fraction(1, 1000), RATE)
    assert (table.frame_count, table.first_pts) == (8, 80)
    assert [(one.kind, one.values) for one in table.warnings] == [("before-keyframe", {"frames": 2})]


def test_numbered_images_are_grouped_by_all_but_their_number(tmp_path: Path) -> None:
    names = [f"a_{number:03d}.png" for number in (1, 2, 4)] + [
        "a_05.png",
        "b7.tif",
        "b8.tif",
        "b.tif",
        "c1.mov",
        "c2.mov",
    ]
    sequences, singles = group_sequences([tmp_path / name for name in names])
    assert [(one.label, one.missing) for one in sequences] == [("a_[001-004].png", (3,)), ("b[7-8].tif", ())]
    assert sorted(path.name for path in singles) == ["a_05.png", "b.tif", "c1.mov", "c2.mov"]


def test_nothing_is_skipped_in_silence_but_what_systems_hide(tmp_path: Path) -> None:
    (tmp_path / "card").mkdir()
    write_movie(Movie(tmp_path / "card/clip.mov", 5, RATE, ((0, VAT),), width=160, height=90))
    for name in ("card/.hidden.mov", "card/notes.pdf", "card/clip.r3d", "card/half.mp4", "card/list.m3u8"):
        (tmp_path / name).write_text("#EXTM3U\nclip.mov\n")
    found = find_sources([tmp_path / "card", tmp_path / "nowhere"])
    assert [source.label for source in found.sources] == ["clip.mov"]
    reasons = {item.path.name: item.reason for item in found.unreadable}
    assert set(reasons) == {"notes.pdf", "clip.r3d", "half.mp4", "list.m3u8", "nowhere"}
    assert "raw" in reasons["clip.r3d"]
    assert "broken" in reasons["half.mp4"]


@pytest.mark.parametrize("extension", ["mov", "mkv", "mp4"])
@pytest.mark.parametrize("rate", ["23.976", "29.97", "50"])
def test_metadata_are_read_from_every_container(extension: str, rate: str, tmp_path: Path) -> None:
    parsed = FrameRate.parse(rate)
    timecode = "10:00:00;00" if parsed.can_drop else "10:00:00:00"
    codec = "aac" if extension == "mp4" else "pcm_s16le"
    path = tmp_path / f"clip.{extension}"
    write_movie(Movie(path, 33, parsed, ((0, VAT),), width=160, height=90, timecode=timecode, reel="A004",
                      audio_codec=codec, layout="mono", sample_aspect=Fraction(16, 11)))  # fmt: skip
    source = read_source(path)
    video = source.video
    assert video
    assert (str(source.start_timecode), video.rate, video.size, video.frame_count) == (
        timecode,
        parsed,
        "160x90",
        33,
    )
    assert (source.audio[0].sample_rate_hz, source.audio[0].shown_layout) == (48_000, "mono")
    assert video.sample_aspect == Fraction(16, 11)
    assert source.reel == ("" if extension == "mp4" else "A004")
    table = measure_frames(source)
    assert (table.frame_count, table.constant) == (33, True)


TAGGED = {"colorspace": 9, "color_primaries": 9, "color_trc": 16}
HEADERS = {
    "plain": ("a.mov", "yuv420p", "", {}, "pcm_s16le", True),
    "4:2:2": ("a.mp4", "yuv422p", "", {}, "aac", True),
    "4:4:4": ("a.mov", "yuv444p", "", {}, "", True),
    "full range": ("a.mp4", "yuvj420p", "fullrange=on", {}, "", True),
    "colours": ("a.mov", "yuv420p", "colorprim=bt709:transfer=bt709:colormatrix=bt709", {}, "", True),
    "colours of the container": ("a.mp4", "yuv420p", "", TAGGED, "", True),
    "two kinds of colours": ("a.mov", "yuv420p", "colorprim=bt709:transfer=bt709:colormatrix=bt709", TAGGED, "", False),
    "shape": ("a.mov", "yuv420p", "", {"sample_aspect_ratio": Fraction(16, 11)}, "", True),
    "another shape": ("a.mov", "yuv420p", "sar=4/3", {"sample_aspect_ratio": Fraction(16, 11)}, "", False),
    "interlaced": ("a.mov", "yuv420p", "tff=1", {}, "", False),
    "10 bit": ("a.mov", "yuv420p10le", "", {}, "", False),
    "R'G'B'": ("a.mov", "yuv444p", "qp=0:colormatrix=GBR", {}, "", False),
    "grey": ("a.mov", "gray", "", {}, "", False),
    "MP3": ("a.mp4", "yuv420p", "", {}, "mp3", False),
    "slow AAC": ("a.mp4", "yuv420p", "", {}, "aac 24000", False),
    "fragments": ("fragments.mp4", "yuv420p", "", {}, "", False),
}  # fmt: skip


@pytest.mark.parametrize("kind", HEADERS)
def test_facts_are_the_same_from_a_header_as_from_a_decoded_frame(
    kind: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    name, pixel_format, params, of_context, audio, is_said = HEADERS[kind]
    options = {"movflags": "frag_keyframe+empty_moov"} if name.startswith("fragments") else {}
    with av.open(str(tmp_path / name), "w", options=options) as container:
        stream = container.add_stream("libx264", rate=Fraction(30000, 1001), options={"x264-params": params})
        stream.width, stream.height, stream.pix_fmt = 98, 64, pixel_format
        for key, value in of_context.items():
            setattr(stream.codec_context, key, value)
        codec, _, hz = audio.partition(" ")
        heard = container.add_stream(codec, rate=int(hz or 48_000), layout="mono") if audio else None
        for number in range(9):
            frame = av.VideoFrame(98, 64, pixel_format)
            for plane in frame.planes:
                plane.update(bytes(plane.buffer_size))
            frame.pts, frame.time_base = number, Fraction(1001, 30000)
            container.mux(stream.encode(frame))
        if heard:
            block = silence(4800)
            block.pts = 0
            for part in av.AudioResampler(heard.format.name, "mono", heard.rate, 1024).resample(block):
                container.mux(heard.encode(part))
            container.mux(heard.encode(None))
        container.mux(stream.encode(None))
    said: list[object] = []
    monkeypatch.setattr(
        probe, "said_picture", lambda container: said.append(said_picture(container)) or said[-1]
    )
    found = read_source(tmp_path / name)
    assert bool(said[0]) == is_said
    monkeypatch.setattr(probe, "said_picture", lambda _: None)
    assert found == read_source(tmp_path / name)


def test_audio_alone_is_a_source_and_is_cut_by_frames_of_a_usual_rate(tmp_path: Path) -> None:
    with av.open(str(tmp_path / "room.wav"), "w") as container:
        stream = container.add_stream("pcm_s24le", rate=48_000, layout="stereo")
        sound = av.AudioFrame.from_ndarray(
            np.zeros((1, 96_000), dtype=np.int32), format="s32", layout="stereo"
        )
        sound.sample_rate = 48_000
        container.mux(stream.encode(sound))
        container.mux(stream.encode(None))
    source = read_source(tmp_path / "room.wav")
    assert (source.kind, source.duration, source.video) == ("audio", 1, None)
    table = measure_frames(source)
    assert (str(table.rate), table.frame_count, table.stored_count) == ("25", 25, 0)


def test_everything_the_container_says_is_known(tmp_path: Path) -> None:
    path = tmp_path / "a.mov"
    write_movie(
        Movie(path, 60, RATE, ((0, VAT),), width=160, height=90, turn_degrees=90, sample_aspect=Fraction(4, 3),
              timecode="01:00:00:00", reel="A003", chapters=((0, "dip"), (30, "lift")))
    )  # fmt: skip
    source = read_source(path)
    video = source.video
    assert video
    assert (video.rotation_degrees, video.sample_aspect, video.colour) == (
        90,
        Fraction(4, 3),
        "BT.709, limited range",
    )
    assert (source.reel, [chapter.name for chapter in source.chapters]) == ("A003", ["dip", "lift"])
    assert measure_frames(source).rotation_degrees == 90


@pytest.mark.parametrize("turn", [0, 90, 180, 270])
def test_the_stored_turn_is_what_the_codec_library_hands_out_with_frames(tmp_path: Path, turn: int) -> None:
    write_movie(Movie(tmp_path / "a.mp4", 2, RATE, ((0, VAT),), width=160, height=90, turn_degrees=turn))
    with av.open(str(tmp_path / "a.mp4")) as container:
        handed_out = round(next(container.decode(video=0)).rotation) % 360
    video = read_source(tmp_path / "a.mp4").video
    assert video and video.rotation_degrees == handed_out == turn


def test_packets_tell_where_keyframes_lie_and_how_steady_the_rate_is(tmp_path: Path) -> None:
    steady = tmp_path / "steady.mov"
    write_movie(
        Movie(
            steady,
            70,
            RATE,
            ((0, VAT),),
            width=160,
            height=90,
            options={"g": "25", "bf": "2", "sc_threshold": "0"},
        )
    )
    deep = read_deep(read_source(steady))
    assert deep and (deep.pictures, deep.keyframes, deep.spacing) == (70, (0, 25, 50), (20, 25, 25))
    assert not deep.is_variable and deep.drawn(7) == "█·█··█·"
    times = [0, 40, 80, 180, 220, 300, 340]
    write_movie(
        Movie(tmp_path / "odd.mkv", 7, RATE, ((0, VAT),), width=160, height=90, times=times, audio_tracks=0)
    )
    odd = read_deep(read_source(tmp_path / "odd.mkv"))
    assert odd and odd.is_variable and (odd.least_rate, odd.most_rate) == (10, 25)


def test_the_second_look_remembers_until_the_file_changes(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    path = tmp_path / "a.mov"
    write_movie(Movie(path, 10, RATE, ((0, VAT),), width=160, height=90))
    first = find_sources([tmp_path]).sources
    monkeypatch.setattr(
        "boxkite.core.footage.probe.read_source", lambda _: pytest.fail("it was opened again")
    )
    assert find_sources([tmp_path]).sources == first
    monkeypatch.undo()
    write_movie(Movie(path, 20, RATE, ((0, VAT),), width=160, height=90))
    assert find_sources([tmp_path]).sources[0].video.frame_count == 20


def test_a_folder_of_many_files_is_read_by_processes_and_read_on_when_one_of_them_dies(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    write_movie(Movie(tmp_path / "a000.mov", 4, RATE, ((0, VAT),), width=160, height=90))
    for number in range(1, 120):
        os.link(tmp_path / "a000.mov", tmp_path / f"a{number:03d}.mov")
    (tmp_path / "a050.mov").unlink()
    (tmp_path / "a050.mov").write_bytes((tmp_path / "a000.mov").read_bytes()[:900])
    monkeypatch.setenv("BOXKITE_CACHE", "")
    here, read_here, dies = os.getpid(), [], [""]

    def read(path: Path) -> Source:
        if os.getpid() == here:
            read_here.append(path.name)
        elif path.name == dies[0]:
            os.kill(os.getpid(), signal.SIGKILL)
        return read_source(path)

    monkeypatch.setattr("boxkite.core.footage.find._read_source", read)
    monkeypatch.setattr("boxkite.core.footage.find.usable_cores", lambda: 2)
    for module in ("footage.find", "processes"):  # other tests may have left threads that wait
        monkeypatch.setattr(f"boxkite.core.{module}.can_fork", lambda: sys.platform == "linux")
    found = find_sources([tmp_path])
    assert [one.path.name for one in found.unreadable] == ["a050.mov"]
    if sys.platform == "linux":
        assert read_here == ["a050.mov"]
    dies[0] = "a090.mov"
    assert find_sources([tmp_path]) == found
    assert "a090.mov" in read_here
    monkeypatch.setattr("boxkite.core.footage.find.can_fork", lambda: False)
    assert find_sources([tmp_path]) == found


def test_junk_is_counted_and_sidecars_are_no_riddle(tmp_path: Path) -> None:
    write_movie(Movie(tmp_path / "a.mov", 4, RATE, ((0, VAT),), width=160, height=90))
    for name in (".DS_Store", "Thumbs.db", "._a.mov", "a.xmp", "a.mov.xmp", "b.xmp"):
        (tmp_path / name).write_bytes(b"x" * 9)
    found = find_sources([tmp_path])
    assert (len(found.sources), found.junk) == (1, 3)
    assert [item.path.name for item in found.unreadable] == ["b.xmp"]
