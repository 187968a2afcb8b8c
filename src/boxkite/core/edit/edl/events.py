"""The events of an edit decision list (CMX 3600 and its usual extensions), line by line, as they are written.

Nothing here depends on a frame rate, which no such list tells. One parser reads edits, tolerantly, and marker lists,
strictly: see Reading and StrictReading.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from functools import lru_cache
from pathlib import Path

from boxkite.core.edit.edl.model import TIME, TIMECODE_HINT, Building, EventList, Reading
from boxkite.core.edit.edl.notes import (
    is_known_note,
    read_audio_channels,
    read_bar_fields,
    read_effect,
    read_long_reel,
    read_note,
    read_speed,
)
from boxkite.core.edit.edl.syntax import counts_drop, has_bar_fields
from boxkite.core.errors import MarksError
from boxkite.core.files.text import read_text, split_lines
from boxkite.core.notices.edit import (
    EVENT_SKIPPED,
    EVENT_WITHOUT_TIMECODES,
    FRAME_CODE_MODE_UNKNOWN,
    LINE_SKIPPED,
)
from boxkite.core.notices.notice import Notice

_TIME_LIKE = re.compile(r"[\d-]{1,3}[:;.,][\d-]{1,3}[:;.,]\S*", re.ASCII)
_NUMBER = re.compile(r"\d{1,6}[A-Z]?", re.ASCII)
_CHANNELS = re.compile(r"(NONE|B|[AV][AV\d/]*|B/[AV\d/]+)", re.ASCII)
_TRANSITION = re.compile(r"C|D|W\d{0,4}|KB?|KO", re.ASCII)
_FRAME_COUNT = re.compile(r"\d{1,6}F?", re.ASCII)
_QUIET = re.compile(r"(GPI|SPLIT|REEL|TRL|DLEDL|BLOCK|FINAL|MASTER|SW|PULLDOWN|BL|SOURCE)\b", re.IGNORECASE)


def read_events(path: Path) -> tuple[tuple[EventList, ...], tuple[Notice, ...]]:
    """Read all lists of a file for their events; what is not right becomes a notice with its line.

    A second TITLE line begins a second list. Raises MarksError when there is not one event.
    """
    reading = read_lists(Reading(path))
    if not any(found.events for found in reading.lists):
        reason = f": {reading.notices[0]}" if reading.notices else ""
        raise MarksError(f"there is no event in this list{reason}", path=path)
    return tuple(found for found in reading.lists if found.events), tuple(reading.notices)


def read_lists(reading: Reading) -> Reading:
    """Read all lists of a file, tolerantly or strictly."""
    for number, raw in enumerate(split_lines(read_text(reading.path)), start=1):
        text = raw.strip().strip("\x1a\f\0 \t")
        if text:
            _read_line(reading, text, number)
    reading.close()
    return reading


def _read_line(reading: Reading, text: str, line: int) -> None:
    if text[0] in "*#":
        read_note(reading, text, line)
        return
    if text[0].isdigit() and len(parts := text.split()) > 1 and _read_event(reading, parts, line):
        return
    upper = text[:_LONGEST_START].upper()
    for start, read in _STARTS.items():
        if upper.startswith(start):
            read(reading, text, line)
            return
    if is_known_note(text):
        read_note(reading, text, line)
    elif has_bar_fields(text):
        read_bar_fields(reading, text, line)
    elif not _QUIET.match(text) and not read_effect(reading, text):
        reading.warn(line, LINE_SKIPPED(text=text[:50]))


def _read_event(reading: Reading, parts: list[str], line: int) -> bool:
    """Take an event line; False for a line that only begins with a number."""
    first_time = len(parts) - 4  # where it nearly always is
    if first_time < 1 or not TIME.fullmatch(parts[first_time]) or _TIME_LIKE.fullmatch(parts[first_time - 1]):
        first_time = next((at for at, word in enumerate(parts) if at and _TIME_LIKE.fullmatch(word)), 0)
    if not _NUMBER.fullmatch(parts[0]) or not first_time:
        if _NUMBER.fullmatch(parts[0]) and any(_CHANNELS.fullmatch(word) for word in parts[2:4]):
            reading.refuse(line, "this event has no timecodes", EVENT_WITHOUT_TIMECODES())
            return True
        return False
    head, times = parts[1:first_time], parts[first_time:]
    try:
        if len(times) < 4 or (len(times) > 4 and TIME.fullmatch(times[4])):
            raise ValueError(f"an event has four timecodes, this one {len(times)}")
        written = [reading.time(word, line) for word in times[:4]]
    except ValueError as error:
        skipped = EVENT_SKIPPED(event=parts[0], reason=str(error))
        reading.refuse(line, str(error), skipped, TIMECODE_HINT)
        reading.target = None
        reading.group = []
        return True
    try:
        reel, channels, transition, frames = _head_of_event(tuple(head))
    except ValueError as error:
        if reading.needs_tracks:
            reading.warn(line, EVENT_SKIPPED(event=parts[0], reason=str(error)))
            reading.target = None
            reading.group = []
            return True
        reel, channels, transition, frames = "", (), "C", 0
    event = Building(parts[0], line, reel, list(channels), transition, frames, written)
    if reading.group and reading.group[-1].number != parts[0]:
        reading.group = []
    reading.group.append(event)
    reading.events.append(event)
    reading.target = event
    return True


@lru_cache(maxsize=1000)
def _head_of_event(parts: tuple[str, ...]) -> tuple[str, tuple[str, ...], str, int]:
    """(reel, channels, transition, frames) of what stands between number and timecodes. Raises ValueError."""
    rest = [word for word in parts if word.upper() != "(F)"]
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


@lru_cache(maxsize=1000)
def _tracks(word: str) -> tuple[str, ...]:
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
    return tuple(sorted(dict.fromkeys(found), key=lambda track: (track[0] != "V", int(track[1:]))))


def _read_title(reading: Reading, text: str, line: int) -> None:
    title = text.partition(":")[2].strip()
    if reading.events:
        reading.close()
        reading.begin(title)
    reading.title = title


def _read_mode(reading: Reading, text: str, line: int) -> None:
    mode = text.partition(":")[2].strip()
    drop = counts_drop(mode)
    if drop is None:
        reading.warn(line, FRAME_CODE_MODE_UNKNOWN(mode=mode[:30]))
        return
    reading.drop = drop
    if reading.first_drop is None:
        reading.first_drop = reading.drop


_STARTS: dict[str, Callable[[Reading, str, int], None]] = {
    "TITLE:": _read_title,
    "TITLE :": _read_title,
    "FCM": _read_mode,
    "M2": read_speed,
    "AUD ": read_audio_channels,
    "AUD\t": read_audio_channels,
    ">>>": read_long_reel,
}
_LONGEST_START = max(map(len, _STARTS))
