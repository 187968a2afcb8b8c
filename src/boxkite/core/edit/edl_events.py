"""The events of an edit decision list (CMX 3600 and its usual extensions), line by line, as they are written.

Nothing here depends on a frame rate, which no such list tells. What is not understood becomes a warning with
its line, and the rest is read.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

from boxkite.core.edit.marks import WrittenTime
from boxkite.core.edit.text import read_text, split_lines
from boxkite.core.edit.timeline import ColourDecision
from boxkite.core.errors import MarksError

MOST_WARNINGS = 1000
_TIME = re.compile(r"(\d{1,2})[:;.,](\d{2})[:;.,](\d{2})([:;.,])(\d{2,3})", re.ASCII)
_TIME_LIKE = re.compile(r"[\d-]{1,3}[:;.,][\d-]{1,3}[:;.,]\S*", re.ASCII)
_NUMBER = re.compile(r"\d{1,6}[A-Z]?", re.ASCII)
_CHANNELS = re.compile(r"(NONE|B|[AV][AV\d/]*|B/[AV\d/]+)", re.ASCII)
_TRANSITION = re.compile(r"C|D|W\d{0,4}|KB?|KO", re.ASCII)
_FRAME_COUNT = re.compile(r"\d{1,6}F?", re.ASCII)
_PLAIN = ("C", "KB")
_DROP_SIGNS = frozenset(";,")
_NOTE = re.compile(r"([A-Z][A-Z _]{0,40}?)\s*(?::|(?<=ASC_SOP)|(?<=ASC_SAT))\s*(.*)", re.IGNORECASE)
_SPEED = re.compile(
    r"M2\s+(.*?)\s*([+-]?\d{1,12}(?:\.\d{1,6})?)(?:\s+([\d:;.,]+))?\s*", re.ASCII | re.IGNORECASE
)
_NUMBERS = re.compile(
    r"[+-]?(?:\d{1,9}(?:\.\d{0,12})?|\.\d{1,12})(?:e[+-]?\d{1,2})?", re.ASCII | re.IGNORECASE
)
_LONG_REEL = re.compile(r">>>\s*SOURCE\s+(\S+)\s+(\S+).*", re.IGNORECASE)
_REPLACED = re.compile(r"\*.*\bREEL\s*:\s*(\S.*?)\s+REPLACED BY\s*:\s*(\S+)\s*", re.IGNORECASE)
_QUIET = re.compile(r"(GPI|SPLIT|REEL|TRL|DLEDL|BLOCK|FINAL|MASTER|SW|PULLDOWN)\b", re.IGNORECASE)


@dataclass(frozen=True)
class Event:
    """One line of an event with the notes below it.

    channels: "V1", "A1", … that it fills. transition: "C", "D", "W001", "K" (laid over), "KB" (what a key is laid
    on), "KO". transition_frames: its length. speed_fps: frames of media a second, as the list's speed line says,
    "" where there is none.
    """

    number: str
    line: int
    reel: str
    channels: tuple[str, ...]
    transition: str
    transition_frames: int
    source_in: WrittenTime
    source_out: WrittenTime
    record_in: WrittenTime
    record_out: WrittenTime
    clip_name: str = ""
    source_file: str = ""
    speed_fps: str = ""
    effect: str = ""
    colour_decision: ColourDecision | None = None
    comments: tuple[str, ...] = ()


@dataclass(frozen=True)
class WrittenMarker:
    """A marker of a list at its own timecode; length in frames, "" for a point."""

    name: str
    time: WrittenTime
    colour: str = ""
    note: str = ""
    length: str = ""


@dataclass(frozen=True)
class EventList:
    """All events under one title. drop: the counting its first frame code mode states, None where it states none."""

    title: str
    events: tuple[Event, ...]
    markers: tuple[WrittenMarker, ...] = ()
    drop: bool | None = None


@dataclass
class _Building:
    """An event whose notes are still being read."""

    number: str
    line: int
    reel: str
    channels: list[str]
    transition: str
    transition_frames: int
    times: list[WrittenTime]
    words: dict[str, str] = field(default_factory=dict)
    colour_decision: ColourDecision | None = None
    comments: list[str] = field(default_factory=list)

    def built(self, reels: dict[str, str]) -> Event:
        return Event(
            self.number,
            self.line,
            self.words.get("reel") or reels.get(self.reel, self.reel),
            tuple(self.channels),
            self.transition,
            self.transition_frames,
            source_in=self.times[0],
            source_out=self.times[1],
            record_in=self.times[2],
            record_out=self.times[3],
            clip_name=self.words.get("clip_name", "") or self.words.get("from_name", ""),
            source_file=self.words.get("source_file", ""),
            speed_fps=self.words.get("speed_fps", ""),
            effect=self.words.get("effect", ""),
            colour_decision=self.colour_decision,
            comments=tuple(self.comments),
        )


class _Reading:
    """What has been read so far. `group` holds the lines of the event at hand, `target` the one notes go to."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self.warnings: list[str] = []
        self.lists: list[EventList] = []
        self.begin("")

    def begin(self, title: str) -> None:
        self.title = title
        self.drop: bool | None = None
        self.first_drop: bool | None = None
        self.events: list[_Building] = []
        self.group: list[_Building] = []
        self.target: _Building | None = None
        self.markers: list[WrittenMarker] = []
        self.reels: dict[str, str] = {}

    def close(self) -> None:
        if self.events or self.markers:
            events = tuple(event.built(self.reels) for event in self.events)
            self.lists.append(EventList(self.title, events, tuple(self.markers), self.first_drop))

    def warn(self, line: int, text: str) -> None:
        if len(self.warnings) < MOST_WARNINGS:
            self.warnings.append(f"line {line}: {text}")
        elif len(self.warnings) == MOST_WARNINGS:
            self.warnings.append("more lines like these are not listed")

    def time(self, text: str, line: int) -> WrittenTime:
        """A timecode with ":" between its fields, its counting told by the last sign or the frame code mode.

        Raises ValueError for what is no timecode.
        """
        match = _TIME.fullmatch(text)
        if not match:
            raise ValueError(f"“{text}” is not a timecode")
        hours, minutes, seconds, sign, frames = match.groups()
        if int(hours) > 23 or int(minutes) > 59 or int(seconds) > 59:
            raise ValueError(f"“{text}” is not a timecode")
        drop = True if sign in _DROP_SIGNS else self.drop
        return WrittenTime(f"{int(hours):02d}:{minutes}:{seconds}:{frames}", line, drop)


def read_events(path: Path) -> tuple[tuple[EventList, ...], tuple[str, ...]]:
    """Read all lists of a file, with a warning for each line that is not understood.

    A second TITLE line begins a second list. Raises MarksError when there is not one event.
    """
    reading = _Reading(path)
    for number, raw in enumerate(split_lines(read_text(path)), start=1):
        text = raw.strip("\x1a\f\0 \t")
        if text:
            _read_line(reading, text, number)
    reading.close()
    if not any(found.events for found in reading.lists):
        reason = f": {reading.warnings[0]}" if reading.warnings else ""
        raise MarksError(f"there is no event in this list{reason}", path=path)
    return tuple(found for found in reading.lists if found.events), tuple(reading.warnings)


def _read_line(reading: _Reading, text: str, line: int) -> None:
    words = text.split()
    if words[0][0].isdigit() and len(words) > 1 and _read_event(reading, words, line):
        return
    upper = text.upper()
    for start, read in _STARTS.items():
        if upper.startswith(start):
            read(reading, text, line)
            return
    if text[0] in "*#":
        _read_note(reading, text, line)
    elif upper.startswith("|") or "|M:" in upper.replace(" ", ""):
        _read_bar_fields(reading, text, line)
    elif not _QUIET.match(text) and not _read_effect(reading, text):
        reading.warn(line, f"not understood and left aside: {text[:50]}")


def _read_event(reading: _Reading, words: list[str], line: int) -> bool:
    """Take an event line; False for a line that only begins with a number."""
    first_time = next(
        (index for index, word in enumerate(words) if index and _TIME_LIKE.fullmatch(word)), None
    )
    if not _NUMBER.fullmatch(words[0]) or first_time is None:
        if _NUMBER.fullmatch(words[0]) and any(_CHANNELS.fullmatch(word) for word in words[2:4]):
            reading.warn(line, "this event has no timecodes, left out")
            return True
        return False
    head, times = words[1:first_time], words[first_time:]
    try:
        if len(times) < 4:
            raise ValueError(f"an event has four timecodes, this one {len(times)}")
        if len(times) > 4 and _TIME.fullmatch(times[4]):
            raise ValueError(f"an event has four timecodes, this one {len(times)}")
        written = [reading.time(word, line) for word in times[:4]]
        reel, channels, transition, frames = _head_of_event(head)
    except ValueError as error:
        reading.warn(line, f"event {words[0]} is left out: {error}")
        reading.target = None
        reading.group = []
        return True
    event = _Building(words[0], line, reel, channels, transition, frames, written)
    if reading.group and reading.group[-1].number != words[0]:
        reading.group = []
    reading.group.append(event)
    reading.events.append(event)
    reading.target = event
    return True


def _head_of_event(words: list[str]) -> tuple[str, list[str], str, int]:
    """(reel, channels, transition, frames) of what stands between number and timecodes. Raises ValueError."""
    rest = [word for word in words if word.upper() != "(F)"]
    frames = 0
    if len(rest) > 2 and _FRAME_COUNT.fullmatch(rest[-1]) and not _CHANNELS.fullmatch(rest[-2].upper()):
        frames = int(rest.pop().rstrip("F"))
    transition = rest.pop().upper() if rest else ""
    if transition in ("B", "O") and rest and rest[-1].upper() == "K":
        transition = rest.pop().upper() + transition
    if not _TRANSITION.fullmatch(transition):
        raise ValueError(f"“{transition}” is not a cut, dissolve, wipe or key")
    channels = rest.pop().upper() if rest else ""
    if not _CHANNELS.fullmatch(channels):
        raise ValueError(f"“{channels}” names no track")
    return " ".join(rest), _tracks(channels), transition, frames


def _tracks(word: str) -> list[str]:
    """The tracks a channel word stands for: B is V1 and A1, AA/V is V1, A1 and A2."""
    found: list[str] = []
    for part in word.split("/"):
        if part == "B":
            found += ["V1", "A1"]
        elif part == "AA":
            found += ["A1", "A2"]
        elif part != "NONE":
            for letter, number in re.findall(r"([AV])(\d*)", part):
                found.append(f"{letter}{int(number or 1)}")
    return sorted(dict.fromkeys(found), key=lambda track: (track[0] != "V", int(track[1:])))


def _read_title(reading: _Reading, text: str, line: int) -> None:
    title = text.partition(":")[2].strip()
    if reading.events:
        reading.close()
        reading.begin(title)
    reading.title = title


def _read_mode(reading: _Reading, text: str, line: int) -> None:
    word = re.sub(r"[\s_-]+", " ", text.partition(":")[2].strip().upper())
    if word.startswith(("NON DROP", "NONDROP")) or word == "NDF":
        reading.drop = False
    elif word.startswith("DROP") or word == "DF":
        reading.drop = True
    else:
        reading.warn(line, f"frame code mode “{word[:30]}” is not known, left aside")
        return
    if reading.first_drop is None:
        reading.first_drop = reading.drop


def _read_speed(reading: _Reading, text: str, line: int) -> None:
    match = _SPEED.fullmatch(text)
    if not match or not reading.group:
        reading.warn(line, f"this speed line is not understood or has no event: {text[:50]}")
        return
    named = [event for event in reading.group if event.reel.upper() == match[1].upper()]
    free = [event for event in named if "speed_fps" not in event.words] or reading.group[-1:]
    at = re.sub("[;.,]", ":", match[3] or "")
    # Both lines of a transition may be of one reel: the timecode tells them apart, a line without length needs none.
    free.sort(key=lambda event: (event.times[0].text != at, event.times[2] == event.times[3]))
    event = free[0]
    event.words["speed_fps"] = match[2]


def _read_sound(reading: _Reading, text: str, line: int) -> None:
    numbers = re.findall(r"\d{1,2}", text)
    if not reading.group or not numbers:
        reading.warn(line, "this line of sound channels has no event")
        return
    event = reading.group[-1]
    event.channels += [f"A{int(number)}" for number in numbers if f"A{int(number)}" not in event.channels]


def _read_long_reel(reading: _Reading, text: str, line: int) -> None:
    if match := _LONG_REEL.fullmatch(text):
        reading.reels[match[1]] = match[2]
    else:
        reading.warn(line, f"not understood and left aside: {text[:50]}")


_STARTS: dict[str, Callable[[_Reading, str, int], None]] = {
    "TITLE:": _read_title,
    "TITLE :": _read_title,
    "FCM": _read_mode,
    "M2": _read_speed,
    "AUD ": _read_sound,
    "AUD\t": _read_sound,
    ">>>": _read_long_reel,
}
_CLIP_NOTES = {
    "FROM CLIP NAME": "from",
    "FROM CLIP": "from",
    "TO CLIP NAME": "to",
    "TO CLIP": "to",
    "KEY CLIP NAME": "to",
    "CLIP NAME": "last",
}
_WORD_NOTES = {
    "SOURCE FILE": "source_file",
    "SOURCE FILE PATH": "source_file",
    "FILE PATH": "source_file",
    "SOURCE REEL": "reel",
    "REEL NAME": "reel",
    "TAPE NAME": "reel",
    "EFFECT NAME": "effect",
}


def _read_note(reading: _Reading, text: str, line: int) -> None:
    """A line that begins with a star: a clip name, a colour decision, a marker, or a comment that is kept."""
    if match := _REPLACED.fullmatch(text):
        reading.reels[match[2]] = match[1]
        return
    match = _NOTE.fullmatch(text.lstrip("*# \t"))
    key, value = (re.sub(r"[\s_]+", " ", match[1].upper()), match[2].strip()) if match else ("", "")
    if key == "LOC":
        _read_locator(reading, value, line)
    elif key in ("ASC SOP", "ASC SAT"):
        _read_colour_decision(reading, key, value, line)
    elif reading.target is None:
        if _CLIP_NOTES.get(key):
            reading.warn(line, f"this note stands under no event: {text[:50]}")
    elif which := _CLIP_NOTES.get(key):
        _name_clip(reading, which, value)
    elif word := _WORD_NOTES.get(key):
        reading.target.words.setdefault(word, value)
    elif len(_bar_parts(text)) > 1:
        _read_bar_fields(reading, text, line)
    elif "CLIP IS A STILL" in text.upper() or "FREEZE FRAME" in text.upper():
        reading.target.words.setdefault("speed_fps", "0")
    else:
        reading.target.comments.append(text.lstrip("*# \t"))


def _name_clip(reading: _Reading, which: str, name: str) -> None:
    """Give a name to the clip a note speaks of: under a transition, `from` is the line before it."""
    if not reading.group:
        return
    target = reading.group[-1]
    if which == "from" and target.transition not in _PLAIN:
        outgoing = next((event for event in reversed(reading.group) if event.transition in _PLAIN), None)
        if outgoing is None:  # the clip it comes from stands in an event of its own
            target.words.setdefault("from_name", name)
            return
        target = outgoing
    target.words.setdefault("clip_name", name)
    reading.target = target
    for event in reading.group:
        if (event.reel, event.transition) == (target.reel, target.transition):
            event.words.setdefault("clip_name", name)


def _read_effect(reading: _Reading, text: str) -> bool:
    match = re.fullmatch(r"EFFECTS?\s+NAME\s+IS\s+(.*)", text, re.IGNORECASE)
    if match and reading.target:
        reading.target.words.setdefault("effect", match[1].strip())
    return bool(match)


def _read_locator(reading: _Reading, value: str, line: int) -> None:
    from boxkite.core.edit.edl import COLOURS

    timecode, _, rest = value.strip().partition(" ")
    first, _, name = rest.strip().partition(" ")
    colour = first if first.upper() in COLOURS else ""
    try:
        time = reading.time(timecode, line)
    except ValueError as error:
        reading.warn(line, f"this marker is left out: {error}")
        return
    reading.markers.append(WrittenMarker((name if colour else rest).strip(), time, colour.lower()))


def _bar_parts(text: str) -> list[str]:
    return re.split(r"\|\s*([A-Z])\s*:", text, flags=re.ASCII)


def _read_bar_fields(reading: _Reading, text: str, line: int) -> None:
    before, *parts = _bar_parts(text)
    fields = {key: value.strip() for key, value in zip(parts[::2], parts[1::2], strict=True)}
    if not reading.group or not fields:
        reading.warn(line, f"this marker stands under no event: {text[:50]}")
        return
    words = re.findall(r"[A-Z][a-z]+", fields.get("C", "")) or [fields.get("C", "")]
    length = fields.get("D", "")
    reading.markers.append(
        WrittenMarker(
            fields.get("M", ""),
            reading.group[-1].times[2],
            words[-1].lower(),
            before.strip("* "),
            length if re.fullmatch(r"[1-9]\d{0,8}", length, re.ASCII) and length != "1" else "",
        )
    )


def _read_colour_decision(reading: _Reading, key: str, value: str, line: int) -> None:
    """ASC CDL lines: slope, offset and power in brackets, or the saturation."""
    numbers = [float(number) for number in _NUMBERS.findall(value)]
    if reading.target is None or len(numbers) != (9 if key == "ASC SOP" else 1):
        reading.warn(line, "this colour decision is not understood or has no event, left aside")
        return
    known = reading.target.colour_decision or ColourDecision()
    if key == "ASC SAT":
        known = ColourDecision(known.slope, known.offset, known.power, numbers[0])
    else:
        slope, offset, power = (tuple(numbers[at : at + 3]) for at in (0, 3, 6))
        known = ColourDecision(slope, offset, power, known.saturation)  # type: ignore[arg-type]
    reading.target.colour_decision = known
