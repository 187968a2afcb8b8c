"""Marks as they were written: names and times in a list's own terms, not yet laid on any picture."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from fractions import Fraction
from pathlib import Path
from typing import NamedTuple

from boxkite.core.notices.notice import Notice
from boxkite.core.timebase import FrameRate


class WrittenTime(NamedTuple):
    """A time as a list gives it, with the line it stands on.

    text: a timecode, or a whole number of frames from the first, or seconds with an "s" behind.
    drop: what the list says of its counting; None where it says nothing. seconds: set instead of text for
    times that come as seconds from the file's zero (chapters).
    """

    text: str
    line: int | None = None
    drop: bool | None = None
    seconds: Fraction | None = None


@dataclass(frozen=True)
class Mark:
    """A marker (a point) or a range. `end` is the first frame no longer in it; None for a point.

    length: in frames of the list, instead of `end`. source_name: the clip the mark belongs to, empty where
    there is only one it can be. metadata: whatever else the list says of it, by column.
    """

    name: str
    start: WrittenTime
    end: WrittenTime | None = None
    length: str = ""
    keywords: tuple[str, ...] = ()
    note: str = ""
    colour: str = ""
    circled: bool = False
    source_name: str = ""
    metadata: Mapping[str, str] = field(default_factory=dict)

    @property
    def is_range(self) -> bool:
        """Whether the mark has an end of its own."""
        return self.end is not None or bool(self.length)


@dataclass(frozen=True)
class MarkList:
    """All that one list holds. other_times: times that mark nothing but must still be right.

    rate: what the list itself says it counts at; None where it does not.
    """

    path: Path
    kind: str
    marks: tuple[Mark, ...]
    other_times: tuple[WrittenTime, ...] = ()
    warnings: tuple[Notice, ...] = ()
    rate: FrameRate | None = None
