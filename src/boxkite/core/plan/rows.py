"""The plan as data: it can be shown, written out and run, here or elsewhere, without asking again."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum
from fractions import Fraction
from pathlib import Path
from typing import Any

from boxkite.core.presets.geometry import Geometry
from boxkite.core.presets.model import Position, Preset
from boxkite.core.shots.shot import EditPlace, LeftOut, Reel, Shot
from boxkite.core.timebase import Span, Timecode


class Running(StrEnum):
    """Parts of a burn-in that change from frame to frame."""

    TIMECODE = "timecode"
    FRAME = "frame"


@dataclass(frozen=True)
class PlannedLettering:
    """A burn-in with its fixed text worked out; parts are text or what runs along."""

    parts: tuple[str | Running, ...]
    position: Position
    height_percent: float
    opacity: float
    box_opacity: float


@dataclass(frozen=True)
class Row:
    """One file to be written. path: where, absolute. name: below its output folder, without ending.

    sound_tracks: which of the source's sound streams it holds, by position. expected_bytes: about.
    """

    number: int
    shot: Shot
    preset: Preset
    folder: Path
    name: str
    path: Path
    geometry: Geometry
    lettering: tuple[PlannedLettering, ...]
    sound_tracks: tuple[int, ...]
    expected_bytes: int
    warnings: tuple[str, ...] = ()

    @property
    def span(self) -> Span:
        """The frames of the source it holds."""
        return self.shot.span

    @property
    def in_timecode(self) -> Timecode:
        """Timecode of its first frame."""
        return self.shot.reel.timecode(self.span.start)

    @property
    def out_timecode(self) -> Timecode:
        """Timecode of the first frame after it."""
        return self.shot.reel.timecode(self.span.end)

    @property
    def seconds(self) -> Fraction:
        """How long it lasts."""
        return self.shot.reel.table.rate.seconds(self.span.length)


@dataclass(frozen=True)
class Volume:
    """What a plan needs of one volume, and what is free there, in bytes."""

    folder: Path
    needed_bytes: int
    free_bytes: int


@dataclass(frozen=True)
class Plan:
    """All rows, and all that is to be said beside them."""

    rows: tuple[Row, ...]
    notices: tuple[str, ...]
    uncovered: tuple[tuple[Reel, Span], ...]
    volumes: tuple[Volume, ...]
    pattern: str
    left_out: tuple[LeftOut, ...] = ()


def rows_by_shot(rows: Sequence[Row]) -> list[tuple[Row, ...]]:
    """The rows of each shot together, in the order of the plan."""
    found: dict[int, list[Row]] = {}
    for row in rows:
        found.setdefault(id(row.shot), []).append(row)
    return [tuple(members) for members in found.values()]


def row_as_json(row: Row) -> dict[str, Any]:
    """A row as plain values, the same words as in the table."""
    return {
        "number": row.number,
        "name": row.name,
        "path": str(row.path),
        "preset": row.preset.name,
        "source": str(row.shot.reel.source.path),
        "by": row.shot.way,
        "marker": row.shot.marker,
        "clip": row.shot.clip_name,
        "keywords": list(row.shot.keywords),
        "circled": row.shot.circled,
        "origin": row.shot.origin,
        **_place_as_json(row.shot.edited),
        "in": str(row.in_timecode),
        "out": str(row.out_timecode),
        "in_frame": row.span.start,
        "out_frame": row.span.end,
        "frames": row.span.length,
        "handle_in": row.shot.handle_in,
        "handle_out": row.shot.handle_out,
        "rate": str(row.shot.reel.table.rate),
        "size": row.geometry.size,
        "expected_bytes": row.expected_bytes,
        "warnings": list(row.warnings),
    }


def _place_as_json(place: EditPlace | None) -> dict[str, Any]:
    if place is None:
        return {}
    return {
        "timeline": place.timeline,
        "track": place.track,
        "event": place.event,
        "record_in": str(place.record_in),
        "record_out": str(place.start + place.record.end),
        "record_in_frame": place.record.start,
        "record_out_frame": place.record.end,
    }


def plan_as_json(plan: Plan) -> dict[str, Any]:
    """The whole plan as plain values."""
    return {
        "pattern": plan.pattern,
        "rows": [row_as_json(row) for row in plan.rows],
        "notices": list(plan.notices),
        "left_out": [{"name": one.name, "origin": one.origin, "reason": one.reason} for one in plan.left_out],
        "uncovered": [
            {
                "source": str(reel.source.path),
                "in": str(reel.timecode(span.start)),
                "out": str(reel.timecode(span.end)),
                "in_frame": span.start,
                "out_frame": span.end,
                "frames": span.length,
            }
            for reel, span in plan.uncovered
        ],
        "volumes": [
            {"folder": str(v.folder), "needed_bytes": v.needed_bytes, "free_bytes": v.free_bytes}
            for v in plan.volumes
        ],
    }
