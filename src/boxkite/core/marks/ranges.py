"""A table of ranges (name, in, out, keywords, note) as marks."""

from __future__ import annotations

import re
from pathlib import Path

from boxkite.core.errors import MarksError
from boxkite.core.files.table import Table, TableRow, find_column, read_table
from boxkite.core.marks.mark import Mark, MarkList, WrittenTime

COLUMN_NAMES: dict[str, tuple[str, ...]] = {
    "name": ("name", "range", "marker", "marker name", "range name", "title", "label"),
    "in": (
        "in",
        "start",
        "in point",
        "mark in",
        "tc in",
        "timecode in",
        "start timecode",
        "timecode",
        "from",
    ),
    "out": ("out", "end", "out point", "mark out", "tc out", "timecode out", "end timecode", "to"),
    "length": ("length", "duration"),
    "keywords": ("keywords", "keyword", "tags", "tag"),
    "note": ("note", "notes", "comment", "comments", "description"),
    "colour": ("colour", "color"),
    "circled": ("circled", "good take", "good"),
    "source": ("source", "file", "file name", "filename", "clip", "clip name"),
}
YES = frozenset({"yes", "y", "true", "1", "x", "circled", "good", "✓"})


def read_ranges(path: Path) -> MarkList:
    """Read a table of ranges. `out` is the first frame no longer in the range.

    A row without out, or with in and out alike, is a point.

    Columns that are none of those above are kept as metadata of the mark. Raises MarksError when there is no
    column for `in`, or a row without one.
    """
    return marks_of_table(read_table(path))


def marks_of_table(table: Table) -> MarkList:
    """The same of a table that was read already."""
    path = table.path
    columns = {key: find_column(table, names) for key, names in COLUMN_NAMES.items()}
    if not columns["in"]:
        raise MarksError(
            f"no column says where a range begins; its columns are: {', '.join(table.columns)}",
            path=path,
            line=1,
            hint="call the columns name, in, out, keywords, note",
        )
    marks = tuple(_mark(table, row, columns) for row in table.rows)
    if not marks:
        raise MarksError("the table has a header but no rows", path=path)
    return MarkList(path, "range table", marks)


def _mark(table: Table, row: TableRow, columns: dict[str, str | None]) -> Mark:
    def cell(key: str) -> str:
        column = columns[key]
        return row.cells.get(column, "") if column else ""

    if not cell("in"):
        raise MarksError("the row has no in", path=table.path, line=row.line)
    out, length = cell("out"), cell("length")
    if out == cell("in"):
        out = ""
    if out or not length.strip("0:;. "):
        length = ""
    known = set(columns.values())
    metadata = {column: value for column, value in row.cells.items() if column not in known}
    return Mark(
        name=cell("name"),
        start=WrittenTime(cell("in"), row.line),
        end=WrittenTime(out, row.line) if out else None,
        length=length,
        keywords=split_keywords(cell("keywords")),
        note=cell("note"),
        colour=cell("colour").lower(),
        circled=cell("circled").casefold() in YES,
        source_name=cell("source"),
        metadata=metadata,
    )


def split_keywords(text: str) -> tuple[str, ...]:
    """Keywords separated by commas, semicolons or bars."""
    return tuple(word for word in re.split(r"\s*[,;|]\s*", text.strip()) if word)
