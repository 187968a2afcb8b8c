"""Tables from spreadsheets: commas, semicolons or tabs, columns in any order and by any usual name."""

from __future__ import annotations

import csv
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from boxkite.core.errors import MarksError
from boxkite.core.files.cells import plain_cell
from boxkite.core.files.text import read_text, split_lines

MOST_COLUMNS = 500
_MOST_TITLES = 5
_IS_NUMBERED = re.compile(r"column \d+")


@dataclass(frozen=True)
class TableRow:
    """One row: the line it begins on, counted from 1, and its cells by column name as written."""

    line: int
    cells: Mapping[str, str]


@dataclass(frozen=True)
class Table:
    """A table with its header as written."""

    path: Path
    columns: tuple[str, ...]
    rows: tuple[TableRow, ...]
    delimiter: str = ","
    """The character between its cells."""
    titles: tuple[tuple[int, str], ...] = ()
    """Lines above the head that are no head, by their numbers."""


def read_table(path: Path) -> Table:
    """Read a table whose first row that is not empty names the columns.

    Raises MarksError with the line for an open quotation mark, a row longer than the header, or two
    columns of one name.
    """
    lines = split_lines(read_text(path))
    header_index = next((index for index, line in enumerate(lines) if line.strip()), None)
    if header_index is None:
        raise MarksError("the table is empty", path=path)
    delimiter = ""
    if match := re.fullmatch(r"\s*sep=(.)\s*", lines[header_index]):  # spreadsheets say so in a separate line
        delimiter, header_index = match[1], header_index + 1
    if header_index >= len(lines):
        raise MarksError("the table is empty", path=path)
    head = header_index if delimiter else _head_line(lines, header_index)
    titles = tuple(
        (number + 1, lines[number].strip()) for number in range(header_index, head) if lines[number].strip()
    )
    header_index = head
    delimiter = delimiter or delimiter_of(lines[header_index])
    reader = csv.reader([f"{line}\n" for line in lines[header_index:]], delimiter=delimiter, strict=True)
    columns: list[str] = []
    rows: list[TableRow] = []
    line = header_index + 1
    try:
        for cells in reader:
            stripped = [plain_cell(cell.strip()) for cell in cells]
            if not columns:
                columns = _checked_columns(stripped, path, line)
            elif any(stripped):
                if any(stripped[len(columns) :]):
                    raise MarksError(
                        f"the row has {len(stripped)} cells, the header {len(columns)}",
                        path=path,
                        line=line,
                        hint="put a cell that holds the separator in double quotes",
                    )
                padded = stripped + [""] * len(columns)
                rows.append(TableRow(line, dict(zip(columns, padded, strict=False))))
            line = header_index + reader.line_num + 1
    except csv.Error as error:
        raise MarksError(f"the row cannot be read: {error}", path=path, line=line) from None
    used = [
        column
        for column in columns
        if not _IS_NUMBERED.fullmatch(column) or any(row.cells[column] for row in rows)
    ]
    return Table(path, tuple(used), tuple(rows), delimiter, titles)


def _head_line(lines: Sequence[str], first: int) -> int:
    """The line of the head: the first, or the one after titles, which are lines of one cell above several."""
    filled = [number for number in range(first, len(lines)) if lines[number].strip()][: _MOST_TITLES + 1]
    return next((number for number in filled if _cells(lines[number]) > 1), first)


def _cells(line: str) -> int:
    """How many cells of a line have something in them."""
    return sum(bool(cell.strip()) for cell in re.sub(r'"[^"]*"', "x", line).split(delimiter_of(line)))


def delimiter_of(header: str) -> str:
    """The character that separates the cells of a head line: a comma, a semicolon or a tab."""
    outside_quotes = re.sub(r'"[^"]*"', "", header)
    return max(",;\t", key=lambda separator: (outside_quotes.count(separator), separator == ","))


def _checked_columns(names: list[str], path: Path, line: int) -> list[str]:
    """A head's names; those without one are numbered, at the end of the head as far as columns go at most."""
    while names and not names[-1] and len(names) > MOST_COLUMNS:
        names.pop()
    if len(names) > MOST_COLUMNS:
        raise MarksError(f"{len(names)} columns are too many", path=path, line=line)
    seen: set[str] = set()
    for name in names:
        if name and name.casefold() in seen:
            raise MarksError(f"two columns are called “{name}”", path=path, line=line)
        seen.add(name.casefold())
    return [name or f"column {index}" for index, name in enumerate(names, start=1)]


def find_column(table: Table, names: tuple[str, ...]) -> str | None:
    """The column that bears one of these names, case and spacing ignored; earlier names go first."""
    folded = {re.sub(r"[\s_-]+", " ", column.casefold()): column for column in table.columns}
    return next((folded[name] for name in names if name in folded), None)
