"""The events of an edit decision list as they are written, and one list while it is being read."""

from __future__ import annotations

import re
from collections import deque
from functools import lru_cache
from pathlib import Path

from msgspec import Struct, field

from boxkite.core.edit.timeline import ColourDecision
from boxkite.core.errors import MarksError
from boxkite.core.marks.mark import WrittenTime
from boxkite.core.notices.edit import MORE_LINES
from boxkite.core.notices.notice import Notice

MOST_NOTICES = 1000
TIME = re.compile(r"(\d{1,2})[:;.,](\d{2})[:;.,](\d{2})([:;.,])(\d{2,3})", re.ASCII)
_DROP_SEPARATORS = frozenset(";,")
TIMECODE_HINT = "a timecode is hours:minutes:seconds:frames, as 01:00:10:05"


class Event(Struct, frozen=True):
    """One line of an event with the notes below it."""

    number: str
    line: int
    reel: str
    channels: tuple[str, ...]
    """"V1", "A1", … that it fills."""
    transition: str
    """"C", "D", "W001", "K" (laid over), "KB" (what a key is laid on), "KO"."""
    transition_frames: int
    """Its length."""
    source_in: WrittenTime
    source_out: WrittenTime
    record_in: WrittenTime
    record_out: WrittenTime
    clip_name: str = ""
    source_file: str = ""
    speed_fps: str = ""
    """Frames of media a second, as the list's speed line says, "" where there is none."""
    effect: str = ""
    colour_decision: ColourDecision | None = None
    comments: tuple[str, ...] = ()


class WrittenMarker(Struct, frozen=True):
    """A marker of a list at its own timecode; length in frames, "" for a point."""

    name: str
    time: WrittenTime
    colour: str = ""
    note: str = ""
    length: str = ""


class EventList(Struct, frozen=True):
    """All events under one title."""

    title: str
    events: tuple[Event, ...]
    markers: tuple[WrittenMarker, ...] = ()
    drop: bool | None = None
    """The counting its first frame code mode states, None where it states none."""


class Building(Struct):
    """An event whose notes are still being read."""

    number: str
    line: int
    reel: str
    channels: list[str]
    transition: str
    transition_frames: int
    times: list[WrittenTime]
    notes: dict[str, str] = field(default_factory=dict)
    colour_decision: ColourDecision | None = None
    comments: list[str] = field(default_factory=list)

    def built(self, reels: dict[str, str]) -> Event:
        """The event as it stands; reels: long names by the short ones the events use."""
        return Event(
            self.number,
            self.line,
            self.notes.get("reel") or reels.get(self.reel, self.reel),
            tuple(self.channels),
            self.transition,
            self.transition_frames,
            source_in=self.times[0],
            source_out=self.times[1],
            record_in=self.times[2],
            record_out=self.times[3],
            clip_name=self.notes.get("clip_name", "") or self.notes.get("from_name", ""),
            source_file=self.notes.get("source_file", ""),
            speed_fps=self.notes.get("speed_fps", ""),
            effect=self.notes.get("effect", ""),
            colour_decision=self.colour_decision,
            comments=tuple(self.comments),
        )


class Reading:
    """A list while it is read, tolerantly: errors become notices, and the rest is read."""

    needs_tracks = True
    """Whether an event whose tracks or transition cannot be understood is left out."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self.notices: list[Notice] = []
        self.lists: list[EventList] = []
        self.begin("")

    def begin(self, title: str) -> None:
        """Begin a list with nothing in it."""
        self.title = title
        self.drop: bool | None = None
        self.first_drop: bool | None = None
        self.events: list[Building] = []
        self.group: list[Building] = []
        """The lines of the event at hand."""
        self.target: Building | None = None
        """The line that notes below belong to."""
        self.markers: list[WrittenMarker] = []
        self.reels: dict[str, str] = {}

    def close(self) -> None:
        """Put the list at hand to those that are done."""
        if self.events or self.markers:
            waiting = deque(self.events)
            self.events = []  # so that each can go once it is built
            events = tuple(waiting.popleft().built(self.reels) for _ in range(len(waiting)))
            self.lists.append(EventList(self.title, events, tuple(self.markers), self.first_drop))

    def warn(self, line: int, notice: Notice) -> None:
        """Note what was not understood, up to a bound."""
        if len(self.notices) < MOST_NOTICES:
            self.notices.append(notice.of(f"line {line}"))
        elif len(self.notices) == MOST_NOTICES:
            self.notices.append(MORE_LINES())

    def refuse(self, line: int, reason: str, notice: Notice, hint: str = "") -> None:
        """Leave out what cannot be right. reason, hint: what is wrong and what to do, for who cannot go on."""
        self.warn(line, notice)

    def time(self, text: str, line: int) -> WrittenTime:
        """A timecode with ":" between its fields, its counting given by the last separator or the frame code mode.

        Raises ValueError for what is no timecode.
        """
        written, is_drop = _with_colons(text)
        return WrittenTime(written, line, True if is_drop else self.drop)


class StrictReading(Reading):
    """Reads a list for its markers: what the time of any marker depends on must be right."""

    needs_tracks = False

    def refuse(self, line: int, reason: str, notice: Notice, hint: str = "") -> None:
        """Raises MarksError with the line."""
        raise MarksError(reason, path=self.path, line=line, hint=hint)

    def time(self, text: str, line: int) -> WrittenTime:
        """A timecode as it is written, with ";" or ":" before the frames. Raises ValueError."""
        hours, minutes, seconds, frames, is_drop = _fields(text)
        return WrittenTime(f"{hours}:{minutes}:{seconds}{';' if is_drop else ':'}{frames}", line, self.drop)


@lru_cache(maxsize=20_000)
def _with_colons(text: str) -> tuple[str, bool]:
    """(the timecode with ":" between its fields, whether its last separator says drop-frame). Raises ValueError."""
    hours, minutes, seconds, frames, is_drop = _fields(text)
    return f"{int(hours):02d}:{minutes}:{seconds}:{frames}", is_drop


def _fields(text: str) -> tuple[str, str, str, str, bool]:
    """(hours, minutes, seconds, frames, whether the last character says drop-frame). Raises ValueError."""
    match = TIME.fullmatch(text)
    if not match or int(match[1]) > 23 or int(match[2]) > 59 or int(match[3]) > 59:
        raise ValueError(f"“{text}” is not a timecode")
    return match[1], match[2], match[3], match[5], match[4] in _DROP_SEPARATORS
