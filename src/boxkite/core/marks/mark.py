"""Marks as they were written: names and times in a list's own terms, not yet laid on any frame."""

from __future__ import annotations

from collections.abc import Mapping
from fractions import Fraction
from pathlib import Path
from typing import NamedTuple

from msgspec import Struct, field

from boxkite.core.notices.notice import Notice
from boxkite.core.timebase import FrameRate


class WrittenTime(NamedTuple):
    """A time as a list gives it, with the line it stands on."""

    text: str
    """A timecode, or a whole number of frames from the first, or seconds with an "s" after them."""
    line: int | None = None
    drop: bool | None = None
    """Drop-frame or not, as the list says; None where it does not."""
    seconds: Fraction | None = None
    """Set instead of text for times that come as seconds from the file's zero (chapters)."""


class Mark(Struct, frozen=True):
    """A marker (a point) or a range. `end` is the first frame no longer in it; None for a point."""

    name: str
    start: WrittenTime
    end: WrittenTime | None = None
    length: str = ""
    """In frames of the list, instead of `end`."""
    keywords: tuple[str, ...] = ()
    note: str = ""
    colour: str = ""
    circled: bool = False
    source_name: str = ""
    """The clip the mark belongs to, empty where there is only one it can be."""
    metadata: Mapping[str, str] = field(default_factory=dict)
    """Whatever else the list says of it, by column."""

    @property
    def is_range(self) -> bool:
        """Whether the mark has its own end."""
        return self.end is not None or bool(self.length)


class MarkList(Struct, frozen=True):
    """All that one list holds."""

    path: Path
    kind: str
    marks: tuple[Mark, ...]
    other_times: tuple[WrittenTime, ...] = ()
    """Times that mark nothing but must still be right."""
    warnings: tuple[Notice, ...] = ()
    rate: FrameRate | None = None
    """The rate the list states; None where it does not."""
