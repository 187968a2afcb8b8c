"""A table of ranges (name, in, out, keywords, note) as marks."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from pathlib import Path

from boxkite.core.errors import MarksError
from boxkite.core.files.table import Table, TableRow, find_column, read_table
from boxkite.core.marks.mark import Mark, MarkList, WrittenTime
from boxkite.core.notices.marks import SECTION_SKIPPED, TITLE_SKIPPED, WITHOUT_HEAD

COLUMN_NAMES: dict[str, tuple[str, ...]] = {
    "name": ("name", "range", "marker", "marker name", "range name", "title", "label"),
    "in": ("in", "start", "in point", "mark in", "record in", "rec in", "source in", "tc in", "in tc", "timecode in",
           "in timecode", "start timecode", "start tc", "start time", "timecode", "tc", "time", "timestamp", "position",
           "begin", "from", "start frame", "frame"),
    "out": ("out", "end", "out point", "mark out", "record out", "rec out", "source out", "tc out", "out tc",
            "timecode out", "out timecode", "end timecode", "end tc", "end time", "finish", "to", "end frame"),
    "length": ("length", "duration", "len", "dur"),
    "keywords": ("keywords", "keyword", "tags", "tag"),
    "note": ("note", "notes", "comment", "comments", "description"),
    "colour": ("colour", "color"),
    "circled": ("circled", "good take", "good"),
    "source": ("source", "file", "file name", "filename", "clip", "clip name"),
}  # fmt: skip
_ELSE_NAME = ("comment", "text", "notes", "description")
"""Columns that name the marks where none is called name."""
_BETWEEN_KEYWORDS = re.compile(r"\s*[,;|]\s*")
YES = frozenset({"yes", "y", "true", "1", "x", "circled", "good", "✓"})


def read_ranges(path: Path) -> MarkList:
    """Read a table of ranges. `out` is the first frame no longer in the range.

    A row without out, or with in and out alike, is a point.

    Columns that are none of those above are kept as metadata of the mark. Raises MarksError when there is no
    column for `in`, or a row without one.
    """
    return marks_of_table(read_table(path, may_have_titles=True))


def marks_of_table(table: Table) -> MarkList:
    """The same of a table that was read already."""
    path = table.path
    columns = {key: find_column(table, names) for key, names in COLUMN_NAMES.items()}
    if not columns["name"] and (other := find_column(table, _ELSE_NAME)):
        columns["name"] = other
        columns["note"] = columns["note"] if columns["note"] != other else None
    if not columns["in"]:
        raise MarksError(
            f"no column says where a range begins; its columns are: {', '.join(table.columns)}",
            path=path,
            line=1,
            hint="call the columns name, in, out, keywords, note",
        )
    others = table.places(without=columns.values())
    places = {key: table.columns.index(column) for key, column in columns.items() if column}
    time_places = [places[key] for key in ("in", "out", "length") if key in places]
    marks, untimed = [], []
    for row in table.rows:
        cells = row.cells.listed()
        cells += [""] * (len(table.columns) - len(cells))
        if any(cells[place] for place in time_places):
            marks.append(_mark(table, row, cells, places, others))
        else:
            untimed.append(row)
    if not marks:
        raise MarksError("the table has a header but no rows", path=path)
    skipped = [(line, text, TITLE_SKIPPED) for line, text in table.titles]
    skipped += [(row.line, " ".join(filter(None, row.cells.values())), SECTION_SKIPPED) for row in untimed]
    warnings = tuple(kind(text=text).of(f"{path.name}:{line}") for line, text, kind in skipped)
    if table.unnamed:
        warnings += (WITHOUT_HEAD(columns=list(table.unnamed)).of(path.name),)
    return MarkList(path, "range table", tuple(marks), warnings=warnings)


def _mark(
    table: Table, row: TableRow, cells: Sequence[str], places: Mapping[str, int], others: Mapping[str, int]
) -> Mark:
    """The mark of a row with these cells.

    places: of its usual columns among the table's; others: of those that say something else.
    """
    said = {key: cells[place] for key, place in places.items()}.get
    start, out, length = said("in", ""), said("out", ""), said("length", "")
    if not start:
        raise MarksError("the row has no in", path=table.path, line=row.line)
    if out == start:
        out = ""
    if out or not length.strip("0:;. "):
        length = ""
    return Mark(
        name=said("name", ""),
        start=WrittenTime(start, row.line),
        end=WrittenTime(out, row.line) if out else None,
        length=length,
        keywords=split_keywords(said("keywords", "")),
        note=said("note", ""),
        colour=said("colour", "").lower(),
        circled=said("circled", "").casefold() in YES,
        source_name=said("source", ""),
        metadata=row.cells.under(others),
    )


def value_under(cells: Mapping[str, str], key: str) -> str:
    """The value under any usual name of one of COLUMN_NAMES, case and spacing ignored; empty where there is none."""
    folded = {re.sub(r"[\s_-]+", " ", name.casefold()): value for name, value in cells.items()}
    return next((folded[name] for name in COLUMN_NAMES[key] if folded.get(name)), "")


def split_keywords(text: str) -> tuple[str, ...]:
    """Keywords separated by commas, semicolons or bars."""
    return tuple(filter(None, _BETWEEN_KEYWORDS.split(text.strip()))) if text else ()
