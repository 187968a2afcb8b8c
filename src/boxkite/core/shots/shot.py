"""A shot, and all that one way of cutting brought to light."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from boxkite.core.footage.frames import FrameTable
from boxkite.core.footage.source import Source
from boxkite.core.timebase import Span, Timecode


@dataclass(frozen=True)
class Reel:
    """A source ready to be cut: its frame map, and the timecode of its first frame.

    has_timecode: whether that timecode was found or given, rather than taken as zero.
    """

    source: Source
    table: FrameTable
    start: Timecode
    has_timecode: bool

    def timecode(self, frame: int) -> Timecode:
        """The timecode of one of its frames."""
        return self.start + frame


@dataclass(frozen=True)
class Shot:
    """A span of one source to hand over. origin: where it was asked for, as "mill.edl:12"."""

    reel: Reel
    span: Span
    marker: str = ""
    keywords: tuple[str, ...] = ()
    note: str = ""
    colour: str = ""
    circled: bool = False
    facts: Mapping[str, str] = field(default_factory=dict)
    origin: str = ""
    warnings: tuple[str, ...] = ()


@dataclass(frozen=True)
class Cut:
    """The shots in the order of their sources and times, what else is to be said, and what no shot covers."""

    shots: tuple[Shot, ...]
    notices: tuple[str, ...] = ()
    uncovered: tuple[tuple[Reel, Span], ...] = ()
