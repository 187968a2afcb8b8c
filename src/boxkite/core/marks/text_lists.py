"""Marker lists in plain text, told apart by their content: subtitles, chapters, labels, a time and a name per line."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from fractions import Fraction
from pathlib import Path

from msgspec import Struct

from boxkite.core.errors import MarksError
from boxkite.core.marks.headless import has_times, rows_without_head
from boxkite.core.marks.mark import Mark, MarkList, WrittenTime
from boxkite.core.marks.written import starts_with_time, to_seconds
from boxkite.core.notices.marks import LINE_WITHOUT_TIME, TITLE_SKIPPED
from boxkite.core.notices.notice import Notice

LOOKED_FOR = (
    "looked for: a head with name, in and out; WebVTT or SRT; chapters (CHAPTER01=, FFMETADATA, 0:05 name); labels"
    " (two times in seconds and a name); a timecode and a name per line; * LOC: lines of an EDL"
)
_CUE = re.compile(r"\s*(\d[\d:.,]{3,15})\s*-->\s*(\d[\d:.,]{3,15})(?:\s.*)?", re.ASCII)
_CHAPTER_KEY = re.compile(r"\s*CHAPTER(\d{1,4})(NAME)?\s*=(.*)", re.ASCII | re.IGNORECASE)
_DECIMAL = re.compile(r"-?\d{1,7}(?:[.,]\d{1,9})?", re.ASCII)
_TAG = re.compile(r"<[^<>]{0,100}>|\{[^{}]{0,100}\}")
_RANGE_DASH = re.compile(r"\s*(?:-->|[-–—→]|to\b)\s*", re.IGNORECASE)
_BETWEEN = " \t-–—|:,;.)]"
MOST_MARKS = 200_000
MOST_LINES = 5 * MOST_MARKS
_MOST_CUE_LINES = 50
_FIELDS = 3
"""Colons in a timecode: two of them in a row are in and out; a clock time may be the beginning of a name."""
_ENOUGH_LINES = 0.5
"""The share of lines that must begin with a time for a list to be one of times and names."""

Lines = Sequence[str]


class TextForm(Struct, frozen=True):
    """A form of list: how it is recognised, and how it is read."""

    name: str
    fits: Callable[[Lines], bool]
    read: Callable[[Path, Lines], tuple[list[Mark], list[Notice]]]


def read_text_list(path: Path, lines: Lines) -> MarkList | None:
    """Read a list by what is in it; None where it is none of these. Raises MarksError for one without a mark."""
    if len(lines) > MOST_LINES:
        lines = lines[:MOST_LINES]  # more than so many marks take
    form = next((form for form in _FORMS if form.fits(lines)), None)
    if form is None:
        return None
    marks, notices = form.read(path, lines)
    if len(marks) > MOST_MARKS:
        raise MarksError(f"more than {MOST_MARKS:,} marks are too many", path=path)
    if not marks:
        raise MarksError(f"this is a list of {form.name} without a mark", path=path)
    return MarkList(path, form.name, tuple(marks), warnings=tuple(notices))


def _filled(lines: Lines, most: int = 200) -> list[str]:
    """The first lines with something in them."""
    found = []
    for line in lines:
        if line.strip():
            found.append(line)
            if len(found) == most:
                break
    return found


def _is_subtitles(lines: Lines) -> bool:
    first = _filled(lines, 12)
    return bool(first) and (first[0].startswith("WEBVTT") or any(_CUE.fullmatch(line) for line in first[:6]))


def _read_subtitles(path: Path, lines: Lines) -> tuple[list[Mark], list[Notice]]:
    """WebVTT (W3C) and SRT: a range per cue, named by its first line of text, the others as the note."""
    marks: list[Mark] = []
    for number, line in enumerate(lines):
        cue = _CUE.fullmatch(line)
        if not cue:
            continue
        if len(marks) > MOST_MARKS:
            break
        text = []
        for following in lines[number + 1 : number + 1 + _MOST_CUE_LINES]:
            if not following.strip() or _CUE.fullmatch(following):
                break
            text.append(_TAG.sub("", following).strip())
        start, end = (_seconds(path, number + 1, written) for written in cue.groups())
        marks.append(
            Mark(text[0] if text else "", start, end, note=" ".join(filter(None, text[1:])))
        )  # an id or a number above the times is not a name
    return marks, []


def _is_chapter_keys(lines: Lines) -> bool:
    first = _filled(lines, 1)
    return bool(first) and bool(_CHAPTER_KEY.fullmatch(first[0]))


def _read_chapter_keys(path: Path, lines: Lines) -> tuple[list[Mark], list[Notice]]:
    """CHAPTER01=00:00:05.000 and CHAPTER01NAME=name."""
    times: dict[str, WrittenTime] = {}
    names: dict[str, str] = {}
    notices = []
    for number, line in enumerate(lines, start=1):
        key = _CHAPTER_KEY.fullmatch(line)
        if key and key[2]:
            names[key[1]] = key[3].strip()
        elif key:
            times[key[1]] = _seconds(path, number, key[3].strip())
        elif line.strip():
            notices.append(LINE_WITHOUT_TIME(text=line.strip()[:50]).of(f"{path.name}:{number}"))
    return [Mark(names.get(chapter, ""), time) for chapter, time in times.items()], notices


def _is_ffmetadata(lines: Lines) -> bool:
    return lines[0].lstrip("\ufeff").startswith(";FFMETADATA")


def _read_ffmetadata(path: Path, lines: Lines) -> tuple[list[Mark], list[Notice]]:
    """[CHAPTER] sections: TIMEBASE, START and END in its units, title."""
    marks: list[Mark] = []
    section: dict[str, tuple[int, str]] = {}
    is_chapter = False
    for number, line in enumerate([*lines, "["], start=1):
        if line.startswith("["):
            if is_chapter and "start" in section:
                marks.append(_chapter(path, section))
            section, is_chapter = {}, line.strip().upper() == "[CHAPTER]"
        elif line.strip() and line[0] not in ";#":
            key, _, value = line.partition("=")
            section[key.strip().lower()] = number, re.sub(r"\\(.)", r"\1", value.strip())
    return marks, []


def _chapter(path: Path, section: dict[str, tuple[int, str]]) -> Mark:
    times = []
    for key in ("start", "end"):
        if key not in section:
            continue
        line, value = section[key]
        try:
            above, _, below = section.get("timebase", (line, "1/1000000000"))[1].partition("/")
            seconds = Fraction(int(value)) * int(above) / int(below or 1)
        except (ValueError, ZeroDivisionError):
            raise MarksError(f"“{value}” is not a time of a chapter", path=path, line=line) from None
        times.append(WrittenTime(f"{float(seconds):.3f} s", line, seconds=seconds))
    has_end = len(times) > 1 and times[0].seconds != times[1].seconds
    return Mark(section.get("title", (0, ""))[1], times[0], times[1] if has_end else None)


def _is_labels(lines: Lines) -> bool:
    rows = [line.split("\t") for line in _filled(lines) if not line.startswith("\\")]
    return bool(rows) and all(
        len(cells) >= 2 and _DECIMAL.fullmatch(cells[0].strip()) and _DECIMAL.fullmatch(cells[1].strip())
        for cells in rows
    )


def _read_labels(path: Path, lines: Lines) -> tuple[list[Mark], list[Notice]]:
    """Tab-separated seconds and a name, as audio editors write label tracks; a label of no length is a point."""
    marks: list[Mark] = []
    for number, line in enumerate(lines, start=1):
        if not line.strip() or line.startswith("\\"):  # what is after a backslash is the range of frequencies
            continue
        if len(marks) > MOST_MARKS:
            break
        begin, end, *name = line.split("\t")
        start, out = (
            WrittenTime(f"{text.strip()} s", number, seconds=Fraction(text.strip().replace(",", ".")))
            for text in (begin, end)
        )
        marks.append(Mark(" ".join(name).strip(), start, out if out.seconds != start.seconds else None))
    return marks, []


def _is_times_and_names(lines: Lines) -> bool:
    filled = _filled(lines)
    timed = sum(starts_with_time(line) is not None for line in filled)
    return timed > 0 and timed >= _ENOUGH_LINES * len(filled)


def _read_times_and_names(path: Path, lines: Lines) -> tuple[list[Mark], list[Notice]]:
    """A time or two, and a name, per line; a line without a time goes on with the note of the mark above it."""
    marks: list[Mark] = []
    notes: list[list[str]] = []
    notices: list[Notice] = []
    for number, line in enumerate(lines, start=1):
        found = starts_with_time(line)
        if found is None:
            if line.strip() and marks:
                notes[-1].append(line.strip())
            elif line.strip():
                notices.append(TITLE_SKIPPED(text=line.strip()[:50]).of(f"{path.name}:{number}"))
            continue
        if len(marks) > MOST_MARKS:
            break
        start, rest = found
        dash = _RANGE_DASH.match(rest)
        second = starts_with_time(rest[dash.end() :] if dash else rest)
        if second and (dash or rest[:1] in "\t,;" or start.count(":") == second[0].count(":") == _FIELDS):
            end, rest = second
        else:
            end = ""
        name = rest.strip().strip(_BETWEEN).strip()
        marks.append(Mark(name, WrittenTime(start, number), WrittenTime(end, number) if end else None))
        notes.append([])
    noted = zip(marks, notes, strict=True)
    return [mark if not note else _with_note(mark, note) for mark, note in noted], notices


def _with_note(mark: Mark, note: Sequence[str]) -> Mark:
    return Mark(mark.name, mark.start, mark.end, note=" ".join(note))


def _seconds(path: Path, line: int, text: str) -> WrittenTime:
    seconds = to_seconds(text)
    if seconds is None:
        raise MarksError(f"“{text}” is not a time", path=path, line=line, hint="a time is 00:01:02.500")
    return WrittenTime(text, line, seconds=seconds)


_FORMS = (
    TextForm("subtitles", _is_subtitles, _read_subtitles),
    TextForm("chapters", _is_ffmetadata, _read_ffmetadata),
    TextForm("chapters", _is_chapter_keys, _read_chapter_keys),
    TextForm("labels", _is_labels, _read_labels),
    TextForm("times and names", _is_times_and_names, _read_times_and_names),
    TextForm("times and names", has_times, rows_without_head),
)
