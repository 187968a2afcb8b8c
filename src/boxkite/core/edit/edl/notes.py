"""The lines below the events of an edit decision list: names, files, reels, speeds, colour, markers, comments."""

from __future__ import annotations

import re
from functools import lru_cache
from pathlib import PureWindowsPath

from boxkite.core.edit.edl.model import TIME, TIMECODE_HINT, Reading, WrittenMarker
from boxkite.core.edit.edl.syntax import BAR_FIELD, bar_fields, plain_colour
from boxkite.core.edit.timeline import ColourDecision
from boxkite.core.marks.colours import colour_and_name
from boxkite.core.notices.edit import (
    CHANNELS_WITHOUT_EVENT,
    DECISION_SKIPPED,
    LINE_SKIPPED,
    MARKER_SKIPPED,
    MARKER_WITHOUT_EVENT,
    MARKER_WITHOUT_LENGTH,
    NOTE_WITHOUT_EVENT,
    SPEED_LINE_SKIPPED,
)

_PLAIN = ("C", "KB")
_NOTE = re.compile(r"([A-Z][A-Z _]{0,40}?)\s*(?::|(?<=ASC_SOP)|(?<=ASC_SAT))\s*(.*)", re.IGNORECASE)
_SPEED_NUMBER = re.compile(r"(.{0,80}?)([+-]?\d{1,12}(?:\.\d{1,6})?)", re.ASCII)
_NUMBERS = re.compile(
    r"[+-]?(?:\d{1,9}(?:\.\d{0,40})?|\.\d{1,40})(?:e[+-]?\d{1,2})?", re.ASCII | re.IGNORECASE
)
_LONGEST_NOTE = 2000
_LONG_REEL = re.compile(r">>>\s*SOURCE\s+(\S+)\s+(\S+).*", re.IGNORECASE)
_PATH = re.compile(r"[/\\].*\.\w{1,8}$", re.ASCII)
"""A clip name that is the path of a file."""
_REPLACED = re.compile(r"\*.*\bREEL\s*:\s*(\S.*?)\s+REPLACED BY\s*:\s*(\S+)\s*", re.IGNORECASE)


def read_speed(reading: Reading, text: str, line: int) -> None:
    """A speed line (M2): frames of media a second, and the timecode it holds from."""
    words = text.split()[1:]
    held_from = words.pop() if words and TIME.fullmatch(words[-1]) else ""
    match = _SPEED_NUMBER.fullmatch(words.pop()) if words else None
    if not match or not reading.group:
        reading.warn(line, SPEED_LINE_SKIPPED(text=text[:50]))
        return
    reel = " ".join([*words, match[1]]).strip()
    named = [event for event in reading.group if event.reel.upper() == reel.upper()]
    free = [event for event in named if "speed_fps" not in event.notes] or reading.group[-1:]
    at = re.sub("[;.,]", ":", held_from)
    # Both lines of a transition may be of one reel: the timecode tells them apart, a line without length needs none.
    free.sort(key=lambda event: (event.times[0].text != at, event.times[2] == event.times[3]))
    event = free[0]
    event.notes["speed_fps"] = match[2]


def read_audio_channels(reading: Reading, text: str, line: int) -> None:
    """A line of further audio channels (AUD)."""
    numbers = re.findall(r"\d{1,2}", text)
    if not reading.group or not numbers:
        reading.warn(line, CHANNELS_WITHOUT_EVENT())
        return
    event = reading.group[-1]
    event.channels += [f"A{int(number)}" for number in numbers if f"A{int(number)}" not in event.channels]


def read_long_reel(reading: Reading, text: str, line: int) -> None:
    """A line that gives the long name of a reel (>>> SOURCE)."""
    if match := _LONG_REEL.fullmatch(text):
        reading.reels[match[1]] = match[2]
    else:
        reading.warn(line, LINE_SKIPPED(text=text[:50]))


_CLIP_NOTES = {
    "FROM CLIP NAME": "from",
    "FROM FILE": "from",
    "FROM FILE NAME": "from",
    "TO FILE": "to",
    "TO FILE NAME": "to",
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


def read_note(reading: Reading, text: str, line: int) -> None:
    """A line that begins with a star: a clip name, a colour decision, a marker, or a comment that is kept."""
    if len(text) > _LONGEST_NOTE:
        reading.warn(line, LINE_SKIPPED(text=text[:50]))
        return
    if "EPLACED" in text.upper() and (match := _REPLACED.fullmatch(text)):
        reading.reels[match[2]] = match[1]
        return
    match = _NOTE.fullmatch(text.lstrip("*# \t"))
    key, value = (_key(match[1]), match[2].strip()) if match else ("", "")
    if key == "LOC":
        _read_locator(reading, value, line)
    elif key in ("ASC SOP", "ASC SAT"):
        _read_colour_decision(reading, key, value, line)
    elif reading.target is None:
        if text.strip("*# \t-=_"):
            reading.warn(line, NOTE_WITHOUT_EVENT(text=text[:50]))
    elif which := _CLIP_NOTES.get(key):
        _name_clip(reading, which, value)
    elif word := _WORD_NOTES.get(key):
        reading.target.notes.setdefault(word, value)
    elif BAR_FIELD.search(text):
        read_bar_fields(reading, text, line)
    elif "CLIP IS A STILL" in text.upper() or "FREEZE FRAME" in text.upper():
        reading.target.notes.setdefault("speed_fps", "0")
    else:
        reading.target.comments.append(text.lstrip("*# \t"))


def _name_clip(reading: Reading, which: str, name: str) -> None:
    """Give a name to the clip a note speaks of: under a transition, `from` is the line before it."""
    if not reading.group:
        return
    target = reading.group[-1]
    if which == "from" and target.transition not in _PLAIN:
        outgoing = next((event for event in reversed(reading.group) if event.transition in _PLAIN), None)
        if outgoing is None:  # the clip it comes from stands in a separate event
            target.notes.setdefault("from_name", name)
            return
        target = outgoing
    if _PATH.search(name):
        target.notes.setdefault("source_file", name)
        name = PureWindowsPath(name).name
    target.notes.setdefault("clip_name", name)
    reading.target = target
    for event in reading.group:
        if (event.reel, event.transition) == (target.reel, target.transition):
            event.notes.setdefault("clip_name", name)


@lru_cache(maxsize=1000)
def _key(text: str) -> str:
    return re.sub(r"[\s_]+", " ", text.upper())


def is_known_note(text: str) -> bool:
    """Whether a line says what notes say, though no star stands before it."""
    match = _NOTE.match(text[:_LONGEST_NOTE])
    key = _key(match[1]) if match else ""
    return key in _CLIP_NOTES or key in _WORD_NOTES or key in ("LOC", "ASC SOP", "ASC SAT")


def read_effect(reading: Reading, text: str) -> bool:
    """A line that names an effect; False for any other."""
    match = re.fullmatch(r"EFFECTS?\s+NAME\s+IS\s+(.*)", text, re.IGNORECASE)
    if match and reading.target:
        reading.target.notes.setdefault("effect", match[1].strip())
    return bool(match)


def _read_locator(reading: Reading, value: str, line: int) -> None:
    timecode, *rest = value.split(None, 1) or [""]
    colour, name = colour_and_name(*rest)
    try:
        time = reading.time(timecode, line)
    except ValueError as error:
        reading.refuse(line, str(error), MARKER_SKIPPED(reason=str(error)), TIMECODE_HINT)
        return
    reading.markers.append(WrittenMarker(name, time, colour))


def read_bar_fields(reading: Reading, text: str, line: int) -> None:
    """A marker as fields between bars, at the record in of the event above."""
    note, fields = bar_fields(text)
    if not reading.group or not fields:
        reading.refuse(
            line,
            "this marker comes before the first event, so it has no time",
            MARKER_WITHOUT_EVENT(text=text[:50]),
        )
        return
    length = fields.get("D", "")
    if length and not re.fullmatch(r"\d{1,9}", length, re.ASCII):
        reading.refuse(line, f"D:{length} is not a length in frames", MARKER_WITHOUT_LENGTH(length=length))
        length = ""
    time = reading.group[-1].times[2]
    reading.markers.append(
        WrittenMarker(
            fields.get("M", ""),
            time._replace(line=line),
            plain_colour(fields.get("C", "")),
            note,
            length if length and int(length) > 1 else "",
        )
    )


def _read_colour_decision(reading: Reading, key: str, value: str, line: int) -> None:
    """ASC CDL lines: slope, offset and power in brackets, or the saturation; both or none of an event."""
    numbers = [float(number) for number in _NUMBERS.findall(value)]
    target = reading.target
    is_right = len(numbers) == (9 if key == "ASC SOP" else 1) and not _NUMBERS.sub("", value).strip("() ,\t")
    if target is None or not is_right or "decision_broken" in target.notes:
        reading.warn(line, DECISION_SKIPPED())
        if target:
            target.notes["decision_broken"] = "yes"
            target.colour_decision = None
        return
    known = target.colour_decision or ColourDecision()
    if key == "ASC SAT":
        known = ColourDecision(known.slope, known.offset, known.power, numbers[0])
    else:
        slope, offset, power = (tuple(numbers[at : at + 3]) for at in (0, 3, 6))
        known = ColourDecision(slope, offset, power, known.saturation)  # type: ignore[arg-type]
    target.colour_decision = known
