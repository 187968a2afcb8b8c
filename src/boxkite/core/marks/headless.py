"""Rows of cells without a head: what each column holds is told from what stands in it."""

from __future__ import annotations

import re
from collections.abc import Sequence
from pathlib import Path

from msgspec import Struct

from boxkite.core.marks.colours import COLOURS
from boxkite.core.marks.mark import Mark, WrittenTime
from boxkite.core.marks.written import is_time
from boxkite.core.notices.marks import LINE_WITHOUT_TIME
from boxkite.core.notices.notice import Notice

_TRACK = re.compile(r"[VATM]C?\d{0,2}", re.ASCII | re.IGNORECASE)
_NUMBER = re.compile(r"\d{1,9}", re.ASCII)
_MOST_TRIED = 50


class _Columns(Struct, frozen=True):
    """Which column holds what, by its place; None where there is no such column."""

    start: int
    end: int | None
    name: int | None
    note: int | None
    colour: int | None
    others: dict[int, str]
    """Those kept as metadata, with what they are called."""


def has_times(lines: Sequence[str]) -> bool:
    """Whether the first lines are rows of cells with a time in one, the first of them too."""
    filled = [line for line in lines[: 4 * _MOST_TRIED] if line.strip()][:_MOST_TRIED]
    if not filled:
        return False
    delimiter = _delimiter(filled[0])
    timed = [any(is_time(cell) for cell in line.split(delimiter)) for line in filled]
    return timed[0] and 2 * sum(timed) >= len(timed)


def rows_without_head(path: Path, lines: Sequence[str]) -> tuple[list[Mark], list[Notice]]:
    """The marks of such rows; a line without a time goes on with the note of the mark above it."""
    delimiter = _delimiter(next(line for line in lines if line.strip()))
    rows: list[tuple[int, list[str]]] = []
    more: dict[int, list[str]] = {}
    notices: list[Notice] = []
    for number, line in enumerate(lines, start=1):
        cells = [cell.strip().strip('"') for cell in line.split(delimiter)]
        if any(is_time(cell) for cell in cells):
            rows.append((number, cells))
        elif line.strip() and rows:
            more.setdefault(len(rows) - 1, []).append(" ".join(filter(None, cells)))
        elif line.strip():
            notices.append(LINE_WITHOUT_TIME(text=line.strip()[:50]).of(f"{path.name}:{number}"))
    columns = _columns([cells for _, cells in rows])
    marks = []
    for place, (number, cells) in enumerate(rows):
        start = _cell(cells, columns.start)
        if not is_time(start):
            notices.append(LINE_WITHOUT_TIME(text=" ".join(cells)[:50]).of(f"{path.name}:{number}"))
            continue
        end = _cell(cells, columns.end)
        note = " ".join(filter(None, [_cell(cells, columns.note), *more.get(place, [])]))
        marks.append(
            Mark(
                _cell(cells, columns.name),
                WrittenTime(start, number),
                WrittenTime(end, number) if end and end != start else None,
                note=note,
                colour=_cell(cells, columns.colour).lower(),
                metadata={
                    called: value for at, called in columns.others.items() if (value := _cell(cells, at))
                },
            )
        )
    return marks, notices


def _cell(cells: Sequence[str], place: int | None) -> str:
    return cells[place] if place is not None and place < len(cells) else ""


def _delimiter(line: str) -> str:
    """The character between cells: a tab where there is one, else the commonest of semicolon and comma."""
    if "\t" in line:
        return "\t"
    return max(";,", key=line.count) if ";" in line or "," in line else "\t"


def _columns(rows: Sequence[Sequence[str]]) -> _Columns:
    width = max(map(len, rows))
    filled = {at: [row[at] for row in rows if at < len(row) and row[at]] for at in range(width)}
    times = [at for at, cells in filled.items() if cells and all(map(is_time, cells))]
    start = times[0] if times else next(at for at in range(width) if is_time(_cell(rows[0], at)))
    left = [at for at in range(width) if filled[at] and at not in times and at != start]
    colour = next((at for at in left if all(cell.upper() in COLOURS for cell in filled[at])), None)
    track = next((at for at in left if all(map(_TRACK.fullmatch, filled[at]))), None)
    numbers = [at for at in left if all(map(_NUMBER.fullmatch, filled[at]))]
    texts = [at for at in left if at not in (colour, track, *numbers)]
    after = [at for at in texts if at > start]
    # Where somebody marks on a track, who it was stands first; elsewhere the name does.
    is_by_person = track is not None and bool(after)
    name = after[-1] if is_by_person else texts[0] if texts else None
    note = texts[-1] if texts[1:] and not is_by_person else None
    others = {
        at: "user" if is_by_person and at < start else f"column {at + 1}"
        for at in texts
        if at not in (name, note)
    }
    if track is not None:
        others[track] = "track"
    return _Columns(start, times[1] if times[1:] else None, name, note, colour, others)
