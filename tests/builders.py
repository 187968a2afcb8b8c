"""Builders shared by tests: sources and shots as plain values, and a day's folder of drawn footage on disk."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
from msgspec.structs import replace

from boxkite.core.footage.frame_index import FrameIndex
from boxkite.core.footage.source import Source, SourceKind, VideoInfo
from boxkite.core.job.job import Job, Output
from boxkite.core.picture import compiled
from boxkite.core.plan.planning import Outputs, plan_of_shots
from boxkite.core.plan.rows import Plan
from boxkite.core.records.record import FileRecord
from boxkite.core.shots.gathering import Gathered
from boxkite.core.shots.placing import index_source
from boxkite.core.shots.shot import IndexedSource, Shot
from boxkite.core.timebase import FrameRate, Span, Timecode
from boxkite.demo.day import START, CardClip, DayEdit
from boxkite.demo.movies import Movie, write_movie
from boxkite.demo.pictures import LEADER
from boxkite.demo.world import CLIPS

RATE = FrameRate.parse("25")


def needs_compiled() -> None:
    """Skip the test where there was no compiler when Box Kite was installed; the gate has one."""
    if compiled.change_colours is None:
        pytest.skip("samples.c could not be built here")


def make_source(
    path: str | Path = "mill.mov", *, rate: FrameRate = RATE, frames: int = 1000, start: str = "", reel: str = "",
    size: tuple[int, int] = (640, 360), pixel_format: str = "yuv420p",
) -> Source:  # fmt: skip
    """A source with a picture and no audio, of a constant rate; nothing of it is on disk."""
    bits = 10 if "10" in pixel_format else 8
    video = VideoInfo(0, "h264", *size, rate, frames, True, pixel_format, bits)
    timecode = Timecode.parse(start, rate) if start else None
    return Source(
        Path(path), SourceKind.VIDEO, "mov", 1_000_000, rate.seconds(frames), video, (), timecode, reel
    )


def indexed(source: Source, start_timecode: str | None = None) -> IndexedSource:
    """A source with the index of its frames. start_timecode: instead of its own."""
    assert source.video and source.video.frame_count
    rate, count = source.video.rate, source.video.frame_count
    index = FrameIndex(rate, count, count, 0, 1 / rate.fraction, constant=True)
    return index_source(source, index, start_timecode)


def make_footage(
    path: str | Path = "mill.mov", *, start_timecode: str | None = None, **of_source: Any
) -> IndexedSource:
    """An indexed source, by what make_source takes."""
    return indexed(make_source(path, **of_source), start_timecode)


def make_shots(footage: IndexedSource, *spans: tuple[int, int], **fields: Any) -> list[Shot]:
    """Shots of a source by their first frame and the first one after, with markers m<first frame>."""
    return [
        Shot(footage, Span(*span), **{"marker": f"m{span[0]}", "way": "ranges", **fields}) for span in spans
    ]


def planned(folder: Path, shots: list[Shot], names: str | None = None, **options: Any) -> Plan:
    """A plan of some shots, by the core's planning; outputs go below the folder."""
    outputs = options.pop("outputs", (Output("web", folder / "out"),))
    job = Job((folder,), outputs, names=names, **options)
    return plan_of_shots(job, Gathered(tuple(shots), (), (), (), {}), Outputs(job), lambda _: None)


def record(number: int, **changes: Any) -> FileRecord:
    """A file on record: ten frames of one source."""
    path, source = Path(f"/out/m{number}.mp4"), Path("/a.mov")
    return replace(FileRecord(number, path, f"m{number}", source, "1-1", 0, 10, "web", "r"), **changes)


def day_edit() -> DayEdit:
    """The demo's edit of its card, in the folder "card"."""
    clips = [CardClip(name, number, place, at, reel) for name, number, place, _, at, reel, _ in CLIPS]
    return DayEdit(clips, RATE, "card")


def write_day(folder: Path, size: tuple[int, int], *, with_program: bool = False) -> Path:
    """The demo's card and its edit in a folder, at another size; day.mov is the finished program."""
    (folder / "card").mkdir(parents=True)
    day = day_edit()
    day.write(folder)
    small = {"width": size[0], "height": size[1]}
    for name, number, place, frames, timecode, reel, tracks in CLIPS:
        write_movie(Movie(folder / f"card/{name}.mov", frames, RATE, ((0, place),), number, timecode=timecode,
                          reel=reel, audio_tracks=tracks, **small))  # fmt: skip
    if with_program:
        write_movie(Movie(folder / "day.mov", day.timeline(nested=True).length, RATE, ((0, LEADER),), timecode=START,
                          picture_at=day.picture(*size), **small))  # fmt: skip
    return folder
