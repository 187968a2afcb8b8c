"""Finding sources, and the map from frames to times."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from boxkite.core.errors import FootageError
from boxkite.core.footage.find import find_sources, group_sequences
from boxkite.core.footage.frames import _table_from_times, measure_frames
from boxkite.core.footage.probe import read_source
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
    table = _table_from_times(times, origin, 0, Fraction(1, 1000), rate)
    assert (table.constant, table.frame_count, table.rate) == (True, frames, rate)
    assert [table.frame_at(int(pts)) for pts in times] == list(range(frames))
    assert all(abs(table.pts_of(number) - times[number]) <= 1 for number in range(frames))


@given(st.lists(st.integers(15, 60), min_size=20, max_size=200))
def test_a_variable_rate_keeps_its_length_whatever_its_steps(steps: list[int]) -> None:
    times = np.concatenate(([0], np.cumsum(steps)))
    table = _table_from_times(times, 0, 33, Fraction(1, 1000), FrameRate.parse("30"))
    lasts = Fraction(int(times[-1]) + 33, 1000)
    assert abs(table.rate.seconds(table.frame_count) - lasts) <= Fraction(60, 1000)


def test_frames_before_the_first_keyframe_are_left_out_and_said() -> None:
    table = _table_from_times(np.arange(10) * 40, 80, 40, Fraction(1, 1000), RATE)
    assert (table.frame_count, table.first_pts) == (8, 80)
    assert "2 frames before the first keyframe" in table.warnings[0]


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


@pytest.mark.parametrize("ending", ["mov", "mkv", "mp4"])
@pytest.mark.parametrize("rate", ["23.976", "29.97", "50"])
def test_facts_are_read_from_every_container(ending: str, rate: str, tmp_path: Path) -> None:
    parsed = FrameRate.parse(rate)
    timecode = "10:00:00;00" if parsed.can_drop else "10:00:00:00"
    codec = "aac" if ending == "mp4" else "pcm_s16le"
    path = tmp_path / f"clip.{ending}"
    write_movie(Movie(path, 33, parsed, ((0, VAT),), width=160, height=90, timecode=timecode, reel="A004",
                      sound_codec=codec, layout="mono", sample_aspect=Fraction(16, 11)))  # fmt: skip
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
    assert source.reel == ("" if ending == "mp4" else "A004")
    table = measure_frames(source)
    assert (table.frame_count, table.constant) == (33, True)


def test_sound_alone_is_a_source_but_has_no_frames(tmp_path: Path) -> None:
    import av

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
    with pytest.raises(FootageError, match="no picture"):
        measure_frames(source)
