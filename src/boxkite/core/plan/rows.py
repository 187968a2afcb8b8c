"""The plan as data: it can be shown, written out and run, here or elsewhere, without asking again."""

from __future__ import annotations

import os
from collections.abc import Iterator, Sequence
from enum import StrEnum
from fractions import Fraction
from functools import cached_property
from pathlib import Path

from msgspec import Struct

from boxkite.core.files.walking import Unseen
from boxkite.core.footage.source import Source
from boxkite.core.footage.splice import Splice
from boxkite.core.looks.look import Look
from boxkite.core.notices.notice import Notice
from boxkite.core.presets.extensions import extension_of
from boxkite.core.presets.geometry import Geometry
from boxkite.core.presets.model import Preset
from boxkite.core.presets.overlays import BurnIn
from boxkite.core.shots.shot import IndexedSource, LeftOut, Shot
from boxkite.core.timebase import FrameRate, Span, Timecode, round_fraction


class LiveToken(StrEnum):
    """Parts of a burn-in that change from frame to frame."""

    TIMECODE = "timecode"
    FRAME = "frame"
    RECORD_TIMECODE = "recordtimecode"
    SHOT_FRAME = "shotframe"


class PlannedBurnIn(Struct, frozen=True):
    """A burn-in with its fixed text worked out."""

    parts: tuple[str | LiveToken, ...]
    """Text, or what changes with each frame."""
    style: BurnIn
    """As the preset says it."""


class Action(StrEnum):
    """How the plan treats a row."""

    MAKE = "make"
    REPLACE = "replace"
    KEEP = "keep"


class Replaced(Struct, frozen=True):
    """A file that a row replaces."""

    stamp: str
    """As the plan saw it."""
    is_ours: bool
    """Whether a batch on record made it."""


class Row(Struct, frozen=True):
    """One file to be written."""

    number: int
    shot: Shot
    preset: Preset
    folder: Path
    """The folder of its output, absolute."""
    name: str
    """Its path below the folder, without extension."""
    plain_name: str
    """The name with the version left out."""
    geometry: Geometry | None
    """The shape of its picture; None if it has none."""
    burn_ins: tuple[PlannedBurnIn, ...]
    audio_tracks: tuple[int, ...]
    expected_bytes: int
    """The expected size, roughly."""
    spread: tuple[float, float] = (1.0, 1.0)
    """How far off that may be, as factors for the least and the most."""
    warnings: tuple[Notice, ...] = ()
    copied: Span | None = None
    """The frames of a copy, which begins and ends where the source allows; None if it is encoded."""
    action: Action = Action.MAKE
    """Make it, replace what bears its name, or keep that because it is the same."""
    replaces: Replaced | None = None
    """The files it replaces."""
    change: str = ""
    """How it differs from an earlier batch, as a phrase."""
    image: str = ""
    image_digits: int = 0
    """The name of its images, FRAME_MARK for the number, and its digits; empty and 0 for the folder's name."""
    look: Look = ()
    """The steps that change its colours."""
    accept_damaged: bool = False
    """Whether it is made even if the source is damaged."""
    decode_with: str = ""
    """A hardware decoder; empty for the CPU."""
    parts: tuple[Row, ...] = ()
    """The rows of a joined file's copies, in order; empty for other files."""
    exact: bool = False
    """Whether it is encoded because a copy would not have been exact."""
    splice: Splice | None = None
    """Of a shot cut exactly whose middle is copied; None for others. Where that does not hold it is encoded whole."""
    chunks: tuple[Span, ...] = ()
    """The frames of the source that are encoded apart, by several workers at once; empty where it is made in one go."""

    @property
    def place(self) -> str:
        """The whole path as text."""
        return f"{self.folder}{os.sep}{self.name}{self.extension}"

    @property
    def path(self) -> Path:
        """Where it is written, absolute."""
        return Path(self.place)

    @property
    def extension(self) -> str:
        """The extension of the file's name, dot included."""
        preset = self.preset
        if not (preset.copy or self.exact):  # asked for several times a row
            return preset.extension
        return extension_of(self.shot.footage.source, preset, exact=self.exact)

    @property
    def is_copied(self) -> bool:
        """Whether it is made without re-encoding."""
        return self.preset.copy

    @property
    def pieces(self) -> tuple[Row, ...]:
        """The rows whose frames it holds one after the other: its parts, or itself alone."""
        return self.parts or (self,)

    @property
    def how(self) -> str:
        """How it is made: "copy", "splice" or "encode"; "keep" where it is there already."""
        if self.action is Action.KEEP:
            return "keep"
        if self.splice:
            return "splice"
        return "copy" if self.preset.copy else "encode"

    @property
    def size(self) -> str:
        """Width and height of its picture; empty where it has none."""
        video = self.shot.footage.source.video
        if self.preset.copy and video:
            return video.size
        return self.geometry.size if self.geometry else ""

    @property
    def bytes_between(self) -> tuple[int, int]:
        """The least and the most it is expected to take."""
        return round(self.expected_bytes * self.spread[0]), round(self.expected_bytes * self.spread[1])

    @property
    def span(self) -> Span:
        """The frames of the source it holds."""
        return self.copied or self.shot.span

    @property
    def audio_source(self) -> Source:
        """The source whose audio it holds."""
        return self.shot.footage.audio_source

    @property
    def is_silent_track(self) -> bool:
        """Whether it holds a silent track because there is no audio."""
        audio = self.preset.audio
        return bool(audio and audio.if_none == "silence" and not self.audio_tracks)

    @property
    def rate(self) -> FrameRate:
        """Frames a second of its picture."""
        return self.preset.frame_rate or self.shot.footage.frame_index.rate

    @property
    def frames(self) -> int:
        """Frames it holds: one for each frame of its span, or so many that they last as long at another rate."""
        if self.parts:
            return sum(part.frames for part in self.parts)
        rate = self.preset.frame_rate
        if rate is None:
            span = self.copied or self.shot.span
            return span.end - span.start  # asked for several times a row
        return round_fraction(
            self.span.length * rate.fraction / self.shot.footage.frame_index.rate.fraction, "up"
        )

    def frame_shown(self, picture: int) -> int:
        """The source's frame that one of its frames shows, both counted from 0 at its first."""
        rate = self.preset.frame_rate
        if rate is None:
            return picture
        return round_fraction(picture * self.shot.footage.frame_index.rate.fraction / rate.fraction, "down")

    @property
    def start_timecode(self) -> Timecode:
        """Timecode of its first frame, counted at the output's rate."""
        start, rate = self.in_timecode, self.rate
        return start if rate == start.rate else start.relabelled(rate, drop=start.drop and rate.can_drop)

    @property
    def in_timecode(self) -> Timecode:
        """Timecode of its first frame."""
        return self.shot.footage.timecode(self.span.start)

    @property
    def out_timecode(self) -> Timecode:
        """Timecode of the first frame after it."""
        return self.shot.footage.timecode(self.span.end)

    @property
    def seconds(self) -> Fraction:
        """How long it lasts."""
        return self.shot.footage.frame_index.rate.seconds(self.span.length)


class Volume(Struct, frozen=True):
    """The bytes a plan needs on one volume, and those that are free there."""

    folder: Path
    needed_bytes: int
    free_bytes: int


class Gone(Struct, frozen=True):
    """A file of an earlier batch that this plan no longer makes."""

    path: Path
    name: str


class Plan(Struct, frozen=True, dict=True):
    """A plan: all rows, and the notices about them."""

    rows: tuple[Row, ...]
    notices: tuple[Notice, ...]
    uncovered: tuple[tuple[IndexedSource, Span], ...]
    volumes: tuple[Volume, ...]
    pattern: str
    left_out: tuple[LeftOut, ...] = ()
    version: int | None = None
    gone: tuple[Gone, ...] = ()
    unseen: tuple[Unseen, ...] = ()
    """Folders that could not be entered, and may hold more footage."""

    @cached_property
    def to_make(self) -> tuple[Row, ...]:
        """The rows that running it makes: all but those that are kept."""
        return tuple(row for row in self.rows if row.action is not Action.KEEP)


def rows_by_shot(rows: Sequence[Row]) -> list[tuple[Row, ...]]:
    """The rows of each shot together, in the order of the plan."""
    found: dict[int, list[Row]] = {}
    for row in rows:
        found.setdefault(id(row.shot), []).append(row)
    return [tuple(members) for members in found.values()]


def rows_by_folder(rows: Sequence[Row]) -> dict[Path, list[Row]]:
    """The rows of each output folder, in the order of the plan."""
    shared: dict[int, list[Row]] = {}
    for row in rows:
        shared.setdefault(id(row.folder), []).append(row)  # mostly the rows of an output have one in common
    found: dict[Path, list[Row]] = {}
    for members in shared.values():
        found.setdefault(members[0].folder, []).extend(members)
    return found


def decode_groups(rows: Sequence[Row]) -> list[tuple[Row, ...]]:
    """The rows that share one reading of their source: those of one shot, and of shots that lie over each other.

    Shots that share less than half of the shorter one, as the handles of neighbours do, are read separately:
    side by side they are done sooner.
    """
    by_footage: dict[int, list[tuple[Row, ...]]] = {}
    for members in rows_by_shot(rows):
        by_footage.setdefault(id(members[0].shot.footage), []).append(members)
    found: list[tuple[Row, ...]] = []
    for shots in by_footage.values():
        group: tuple[Row, ...] = ()
        for members in sorted(shots, key=lambda one: one[0].span):
            if group and _is_mostly_in(members[0].span, group_span(group)):
                group += members
                continue
            if group:
                found.append(group)
            group = members
        found.append(group)
    return sorted(found, key=lambda members: min(row.number for row in members))


def group_span(rows: Sequence[Row]) -> Span:
    """The frames of the source that some rows read together."""
    return Span(min(row.span.start for row in rows), max(row.span.end for row in rows))


def _is_mostly_in(span: Span, group: Span) -> bool:
    return 2 * span.clipped_to(group).length >= min(span.length, group.length)


def ends_of(rows: Sequence[Row]) -> Iterator[tuple[str, str]]:
    """In and out of each row as timecode; rows of one shot share them, and a shot's in is often the last one's out."""
    shot, copied, footage, end, ends = None, None, None, 0, ("", "")
    for row in rows:
        if row.shot is not shot or row.copied is not copied:
            shot, copied, own, span = row.shot, row.copied, row.shot.footage, row.span
            start = ends[1] if own is footage and span.start == end else str(own.timecode(span.start))
            footage, end, ends = own, span.end, (start, str(own.timecode(span.end)))
        yield ends
