"""Marker lists as CMX 3600 edit decision lists: read in the two note forms in wide use, written in the plain one."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass, field
from pathlib import Path

from boxkite.core.edit.edl.signs import (
    BAR_FIELD,
    bar_fields,
    colour_and_name,
    counts_drop,
    is_edl_colour,
    plain_colour,
)
from boxkite.core.errors import MarksError
from boxkite.core.files.text import read_text, split_lines
from boxkite.core.files.writing import create_file
from boxkite.core.marks.mark import Mark, MarkList, WrittenTime
from boxkite.core.timebase import Timecode, is_timecode_like

_EVENT = re.compile(r"\s*(\d{1,6})\s+(\S.*)", re.ASCII)
_EVENT_HEAD = re.compile(r"\S.*?\s\S+\s+(C|D|W\d{1,4}|K[BO]?)(\s|$)", re.ASCII | re.IGNORECASE)
_FRAME_CODE_MODE = re.compile(r"\s*FCM\s*:\s*(.*)", re.IGNORECASE)
_LOCATOR = re.compile(r"\s*\*\s*LOC\s*:\s*(\S+)(?:\s+(.*))?", re.IGNORECASE)
_KNOWN_LINES = re.compile(
    r"\s*(\*|#|>>>|TITLE\s*:|M2\s|AUD\s|SPLIT\s*:|BL\s|ASC_|SOURCE\s|REEL\s|TRL\s|EFFECTS?\s|GPI\s|DLEDL)",
    re.IGNORECASE,
)


@dataclass
class _Reading:
    path: Path
    drop: bool | None = None
    record_in: WrittenTime | None = None
    marks: list[Mark] = field(default_factory=list)
    times: list[WrittenTime] = field(default_factory=list)
    warnings: list[str] = field(default_factory=list)

    def time(self, text: str, line: int) -> WrittenTime:
        """A timecode checked in its shape and in all fields that do not depend on the rate."""
        fields = re.split("[:;]", text)
        if not is_timecode_like(text) or any(
            int(value) >= limit for value, limit in zip(fields, (24, 60, 60), strict=False)
        ):
            raise MarksError(
                f"“{text}” is not a timecode",
                path=self.path,
                line=line,
                hint="a timecode is hours:minutes:seconds:frames, as 01:00:10:05",
            )
        return WrittenTime(text, line, self.drop)


def read_edl(path: Path) -> MarkList:
    """Read the markers of an edit decision list.

    A marker is a note line `* LOC: timecode COLOUR name` at its own timecode, or a line of a note and
    bar-separated fields (`M:` name, `C:` colour, `D:` length in frames) at the record in of the event above
    it. Raises MarksError, with the line, for a broken timecode and for a list without markers.
    """
    reading = _Reading(path)
    events = 0
    for number, line in enumerate(split_lines(read_text(path)), start=1):
        text = line.strip("\x1a\f \t")
        if not text:
            continue
        if match := _FRAME_CODE_MODE.fullmatch(text):
            _read_frame_code_mode(reading, match[1], number)
        elif match := _LOCATOR.fullmatch(text):
            _read_locator(reading, match[1], match[2] or "", number)
        elif len(BAR_FIELD.findall(text)) > 1 or BAR_FIELD.match(text):
            _read_bar_fields(reading, text, number)
        elif match := _EVENT.fullmatch(text):
            events += _read_event(reading, match[2], number)
        elif not _KNOWN_LINES.match(text):
            reading.warnings.append(f"line {number} is not understood and left aside: {text[:40]}")
    if not reading.marks:
        found = f"{events} events but no marker" if events else "no event and no marker"
        raise MarksError(
            f"there is {found} in this list",
            path=path,
            hint="markers stand on note lines: “* LOC: 01:00:10:05 RED name”; export the list with its markers",
        )
    return MarkList(path, "marker list", tuple(reading.marks), tuple(reading.times), tuple(reading.warnings))


def _read_frame_code_mode(reading: _Reading, mode: str, line: int) -> None:
    drop = counts_drop(mode)
    if drop is None:
        reading.warnings.append(f"line {line}: frame code mode “{mode.strip()}” is not known, left aside")
    else:
        reading.drop = drop


def _read_locator(reading: _Reading, timecode: str, rest: str, line: int) -> None:
    colour, name = colour_and_name(rest)
    reading.marks.append(Mark(name=name, start=reading.time(timecode, line), colour=colour))


def _read_bar_fields(reading: _Reading, text: str, line: int) -> None:
    if reading.record_in is None:
        raise MarksError(
            "this marker stands before the first event, so it has no time", path=reading.path, line=line
        )
    note, fields = bar_fields(text)
    length = fields.get("D", "")
    if length and not re.fullmatch(r"\d{1,9}", length, re.ASCII):
        raise MarksError(f"D:{length} is not a length in frames", path=reading.path, line=line)
    reading.marks.append(
        Mark(
            name=fields.get("M", ""),
            start=WrittenTime(reading.record_in.text, line, reading.record_in.drop),
            length=length if length and int(length) > 1 else "",
            note=note,
            colour=plain_colour(fields.get("C", "")),
        )
    )


def _read_event(reading: _Reading, rest: str, line: int) -> int:
    """Take an event line's record times; 1 for an event, 0 for a line that only begins with a number."""
    words = rest.split()
    times = [word for word in words if len(re.findall("[:;]", word)) >= 2]
    if not _EVENT_HEAD.match(rest) and len(times) < 3:
        reading.warnings.append(f"line {line} is not understood and left aside: {rest[:40]}")
        return 0
    last_four = words[-4:] if len(words) >= 6 else times  # a broken timecode is still in a timecode's place
    if len(last_four) < 4:
        raise MarksError("an event has four timecodes, this one fewer", path=reading.path, line=line)
    for word in last_four[:2]:
        reading.time(word, line)
    record_in, record_out = (reading.time(word, line) for word in last_four[-2:])
    reading.record_in = record_in
    reading.times += [record_in, record_out]
    return 1


def write_edl(
    path: Path,
    title: str,
    start: Timecode,
    end: Timecode,
    markers: Iterable[tuple[Timecode, str, str]],
) -> None:
    """Write markers as (timecode, colour, name), each on a note line under one event over the whole program.

    start, end: the program's first frame and the first frame after it. A marker in a list has no length, keywords or
    note. A colour that readers would take for part of the name is left out; where there is none and the name begins
    with the word of one, white stands before it.
    """
    lines = [
        f"TITLE: {title}",
        f"FCM: {'DROP FRAME' if start.drop else 'NON-DROP FRAME'}",
        "",
        f"001  AX       V     C        {start} {end} {start} {end}",
    ]
    for timecode, colour, name in markers:
        words = name.split()
        word = colour.upper() if is_edl_colour(colour) else "WHITE" if is_edl_colour(*words[:1]) else ""
        lines.append(f"* LOC: {timecode} {word:<7} {' '.join(words)}")
    create_file(path, ("\n".join(lines) + "\n").encode("utf-8", "surrogateescape"))
