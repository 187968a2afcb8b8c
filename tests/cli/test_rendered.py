"""The edit, rendered: the pictures of its finished program, speeds and sizes of all kinds, sounds added up."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path

import av
import numpy as np
import pytest

from boxkite.core.edit.otio.writing import write_otio_edit
from boxkite.core.edit.timeline import Clip, ClipKind, MediaName, Timeline, Track, TrackKind, Transition
from boxkite.core.timebase import FrameRate, Span, Timecode, sample_at
from boxkite.demo import find_ticks
from boxkite.demo.barcode import BarcodeError, read_barcode
from boxkite.demo.movies import Movie, write_movie
from boxkite.demo.pictures import LOFT, PRESS, VAT
from boxkite.demo.ticks import tick_frames
from tests import wording
from tests.verification import audio_of, boxkite

RATE = FrameRate.parse("25")
LENGTH = 60


def clip(name: str, start: int, length: int, first: int, **more: object) -> Clip:
    media = MediaName(f"{name}.mov", f"{name}.mov")
    return Clip(name, ClipKind.MEDIA, Span(start, start + length), media, first, RATE, True, **more)  # type: ignore[arg-type]


@pytest.fixture(scope="module")
def cut(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Three sources of different size, rate and bits, in an edit with every kind of speed, a gap and a dissolve."""
    folder = tmp_path_factory.mktemp("cut")
    write_movie(Movie(folder / "vat.mov", LENGTH, RATE, ((0, VAT),), 1, 640, 360))
    write_movie(Movie(folder / "fast.mov", 2 * LENGTH, FrameRate.parse("50"), ((0, LOFT),), 2, 1280, 720))
    write_movie(Movie(folder / "tall.mov", LENGTH, RATE, ((0, PRESS),), 3, 320, 320, encoder="prores", options={},
                      pixel_format="yuv422p10le", audio_tracks=0))  # fmt: skip
    bottom = (
        clip("vat", 0, 20, 5, transition_out=Transition("dissolve", 3, 3)),
        clip("fast", 20, 20, 10, transition_in=Transition("dissolve", 3, 3)),
        # ten frames of nothing
        clip("vat", 50, 10, 20, speed=Fraction(-1)),
        clip("vat", 60, 10, 33, speed=Fraction(0)),
        clip("vat", 70, 10, 10, speed=Fraction(3, 2)),
    )
    tracks = (
        Track(TrackKind.PICTURE, "V1", bottom),
        Track(TrackKind.PICTURE, "V2", (clip("tall", 30, 5, 7),)),
        Track(TrackKind.AUDIO, "A1", (clip("vat", 0, 60, 0),)),
        Track(TrackKind.AUDIO, "A2", (clip("vat", 10, 30, 20),)),
    )
    timeline = Timeline("cut", RATE, Timecode.parse("10:00:00:00", RATE), tracks)
    write_otio_edit(folder / "cut.otio", timeline)
    return folder


def shown(path: Path) -> list[tuple[int, int] | None]:
    """What the bar code of each picture says; None where it is none: black, or two pictures mixed."""
    found: list[tuple[int, int] | None] = []
    with av.open(str(path)) as container:
        for picture in container.decode(video=0):
            try:
                found.append(read_barcode(picture))
            except BarcodeError:
                found.append(None)
    return found


def wanted() -> list[tuple[int, int] | None]:
    frames: list[tuple[int, int] | None] = [(1, 5 + place) for place in range(17)]
    frames += [None] * 6  # three frames of the dissolve on each side of the cut
    frames += [(2, 20 + 2 * place) for place in range(3, 20)]
    frames += [None] * 10
    frames += [(1, 29 - place) for place in range(10)]
    frames += [(1, 33)] * 10
    frames += [(1, 10 + place * 3 // 2) for place in range(10)]
    return frames


def test_every_frame_is_the_one_the_edit_shows_whatever_speed_size_and_rate(
    cut: Path, tmp_path: Path
) -> None:
    done = boxkite("run", cut / "cut.otio", "--picture", "edit", "--by", "timelines", "--media", cut,
                   "--tracks", "V1,A1",                   "--to", f"stock:{tmp_path}", "--json")  # fmt: skip
    assert done.status == 0, done.err + done.out
    found, expected = shown(tmp_path / "cut.mov"), wanted()
    assert len(found) == len(expected) == 80
    for frame, (one, other) in enumerate(zip(found, expected, strict=True)):
        if other is None or 17 <= frame < 23:
            continue
        assert one == other, frame
    assert all(found[frame] is None for frame in range(40, 50))
    with av.open(str(tmp_path / "cut.mov")) as container:
        pictures = [picture.reformat(format="gray").to_ndarray() for picture in container.decode(video=0)]
    assert pictures[0].shape == (360, 640)
    assert all(pictures[frame].max() <= 17 for frame in range(40, 50))
    a, b, mixed = (pictures[frame].astype(float) for frame in (16, 23, 19))
    share = ((mixed - a) * (b - a)).sum() / ((b - a) ** 2).sum()
    assert abs(share - 3 / 7) < 0.06  # the third frame of six


def test_the_upper_track_hides_the_lower_and_sizes_are_conformed_with_bars(cut: Path, tmp_path: Path) -> None:
    done = boxkite("run", cut / "cut.otio", "--picture", "edit", "--by", "timelines", "--media", cut,
                   "--in", "10:00:01:00", "--out", "10:00:01:13", "--to", f"stock:{tmp_path}", "--json")  # fmt: skip
    assert done.status == 0, done.err + done.out
    (file,) = done.json["files"]
    with av.open(file["path"]) as container:
        pictures = list(container.decode(video=0))
        assert container.streams.video[0].metadata["timecode"] == "10:00:01:00"
    assert len(pictures) == 13
    tall = pictures[5].reformat(format="gray").to_ndarray()
    assert tall[:, :130].max() <= 17 and tall[:, 510:].max() <= 17 and tall[100:300, 200:400].min() > 17
    codes = [read_barcode(pictures[place]) for place in (0, 4, 10)]
    assert codes == [(2, 30), (2, 38), (2, 50)]


def test_audio_of_all_tracks_are_added_up_to_the_sample(cut: Path, tmp_path: Path) -> None:
    for tracks in ("V1,A1", "V1,A2", "V1,A1,A2"):
        folder = tmp_path / tracks
        done = boxkite("run", cut / "cut.otio", "--picture", "edit", "--by", "timelines", "--media", cut,
                       "--tracks", tracks, "--to", f"audio-wav:{folder}")  # fmt: skip
        assert done.status == 0, done.err
    alone, other, both = (
        audio_of(tmp_path / tracks / "cut.wav")[0] for tracks in ("V1,A1", "V1,A2", "V1,A1,A2")
    )
    assert len(both) == sample_at(80, RATE, 48_000)
    assert np.abs(np.clip(alone + other, -1, 1) - both).max() < 1e-4
    ticks = [sample_at(frame, RATE, 48_000) for frame in tick_frames(60, RATE)]
    assert all(abs(a - b) <= 1 for a, b in zip(find_ticks(alone, 48_000), ticks, strict=True))
    moved = [tick - 10 * 1920 for tick in ticks if 20 * 1920 <= tick < 50 * 1920]
    assert all(abs(a - b) <= 1 for a, b in zip(find_ticks(other, 48_000), moved, strict=True))


def test_originals_get_the_speed_of_the_edit_where_that_is_asked(cut: Path, tmp_path: Path) -> None:
    done = boxkite("run", cut / "cut.otio", "--picture", "originals", "--by", "cuts", "--media", cut, "--retime",
                   "--names", "@(count:1)", "--to", f"archive:{tmp_path}", "--json")  # fmt: skip
    assert done.status == 0, done.err + done.out
    expected = wanted()
    for name, span in (("4", (50, 60)), ("5", (60, 70)), ("6", (70, 80))):
        assert shown(tmp_path / f"{name}.mkv") == expected[slice(*span)]
    refused = boxkite(
        "plan", cut / "cut.otio", "--picture", "edit", "--media", cut, "--tracks", "V7", "--to", "web:o"
    )
    assert refused.status == 2 and wording.NO_SUCH_TRACK in refused.err
