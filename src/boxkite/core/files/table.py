"""Tables from spreadsheets: commas, semicolons or tabs, columns in any order and by any usual name."""

from __future__ import annotations

import csv
import re
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from itertools import islice
from pathlib import Path

from msgspec import Struct

from boxkite.core.errors import MarksError
from boxkite.core.files.cells import plain_cell
from boxkite.core.files.metadata_log import is_log, log_rows
from boxkite.core.files.text import read_text, split_lines
from boxkite.core.files.workbook import WORKBOOK_SUFFIX, workbook_rows

MOST_COLUMNS = 500
MOST_ROWS = 300_000
_MOST_TITLES = 5
_UNIT = "\x1f"
"""The unit separator of ISO 646."""


class Cells(Mapping[str, str]):
    """The cells of a row by column; a table may have very many, so the columns are kept once, and a row as one text."""

    __slots__ = ("_packed", "_places")

    def __init__(self, places: Mapping[str, int], packed: str) -> None:
        """places: of the columns among the values; packed: by packed_cells."""
        self._places = places
        self._packed = packed

    def __getitem__(self, column: str) -> str:
        place = self._places[column]
        cells = self._packed.split(_UNIT, place + 1)
        return cells[place] if place < len(cells) else ""

    def __iter__(self) -> Iterator[str]:
        return iter(self._places)

    def __len__(self) -> int:
        return len(self._places)

    def listed(self) -> list[str]:
        """The cells of the whole row in the table's order; those at its end may be missing."""
        return self._packed.split(_UNIT)

    def under(self, places: Mapping[str, int]) -> Cells:
        """Only the cells of some columns."""
        return Cells(places, self._packed)


def packed_cells(cells: Sequence[str]) -> str:
    """Cells as one text, which takes a tenth of the memory."""
    packed = _UNIT.join(cells)
    if packed.count(_UNIT) < max(1, len(cells)):
        return packed
    return _UNIT.join(cell.replace(_UNIT, " ") for cell in cells)


class TableRow(Struct, frozen=True):
    """One row: the line it begins on, counted from 1, and its cells by column name as written."""

    line: int
    cells: Cells


class Table(Struct, frozen=True):
    """A table with its header as written."""

    path: Path
    columns: tuple[str, ...]
    rows: tuple[TableRow, ...]
    delimiter: str = ","
    """The character between its cells."""
    titles: tuple[tuple[int, str], ...] = ()
    """Titles above the head, each with its line."""
    unnamed: tuple[str, ...] = ()
    """Columns without a head that hold something, as they are called here."""

    def places(self, without: Collection[str | None] = ()) -> Mapping[str, int]:
        """The places of its columns in a row, but for some."""
        return {column: place for place, column in enumerate(self.columns) if column not in without}


def read_table(path: Path, *, may_have_titles: bool = False) -> Table:
    """Read a table whose first row that is not empty names the columns: text (.csv, .tsv and others), .ale or .xlsx.

    may_have_titles: lines with one cell above that row are kept as titles; elsewhere, as in tables that are
    written again, such a line is the head. Raises MarksError with the line for an open quotation mark, a row longer
    than the header, or two columns of one name.
    """
    if path.suffix.lower() == WORKBOOK_SUFFIX:
        rows = workbook_rows(path)
        filled = [number for number, row in enumerate(rows) if any(row)][: _MOST_TITLES + 1]
        head = (
            next((at for at in filled if sum(map(bool, rows[at])) > 1), filled[0])
            if may_have_titles
            else filled[0]
        )
        titles = [(at + 1, " ".join(filter(None, rows[at]))) for at in filled if at < head]
        cells = ((number, row) for number, row in enumerate(rows[head:], start=head + 1))
        return _table(path, cells, ",", titles)
    lines = split_lines(read_text(path))
    if is_log(path, lines):
        return _table(path, log_rows(path, lines), "\t", ())
    first = next((index for index, line in enumerate(lines) if line.strip()), None)
    if first is None:
        raise MarksError("the table is empty", path=path)
    delimiter = ""
    if match := re.fullmatch(r"\s*sep=(.)\s*", lines[first]):  # spreadsheets say so in a separate line
        delimiter, first = match[1], first + 1
    if first >= len(lines):
        raise MarksError("the table is empty", path=path)
    head = _head_line(lines, first) if may_have_titles and not delimiter else first
    titles = [(number + 1, lines[number].strip()) for number in range(first, head) if lines[number].strip()]
    delimiter = delimiter or delimiter_of(lines[head])
    return _table(path, _text_rows(path, lines, head, delimiter), delimiter, titles)


def _text_rows(
    path: Path, lines: Sequence[str], head: int, delimiter: str
) -> Iterator[tuple[int, list[str]]]:
    """(line, cells) of each row of a text from its head on. Raises MarksError for an open quotation mark."""
    reader = csv.reader((f"{line}\n" for line in islice(lines, head, None)), delimiter=delimiter, strict=True)
    line = head + 1
    try:
        for cells in reader:
            yield line, cells
            line = head + reader.line_num + 1
    except csv.Error as error:
        raise MarksError(f"the row cannot be read: {error}", path=path, line=line) from None


def _table(
    path: Path, numbered: Iterable[tuple[int, list[str]]], delimiter: str, titles: Sequence[tuple[int, str]]
) -> Table:
    """The table of rows, the first of which that is not empty is its head."""
    names: list[str] = []
    found: list[tuple[int, str]] = []
    head_line, width = 1, 0
    for line, cells in numbered:
        stripped = [plain_cell(cell.strip()) if "'" in cell else cell.strip() for cell in cells]
        if not any(stripped):
            continue
        if not names:
            names, head_line = stripped, line
            _check_names(names, path, line)
            width = _filled(names)
        else:
            if len(stripped) > len(names) and any(stripped[len(names) :]):
                raise MarksError(
                    f"the row has {len(stripped)} cells, the header {len(names)}",
                    path=path,
                    line=line,
                    hint="put a cell that holds the separator in double quotes",
                )
            width = max(width, _filled(stripped))
            found.append((line, packed_cells(stripped[: len(names)])))
            if len(found) > MOST_ROWS:
                raise MarksError(f"more than {MOST_ROWS:,} rows are too many", path=path)
    if width > MOST_COLUMNS:
        raise MarksError(f"{width} columns are too many", path=path, line=head_line)
    columns = [name or f"column {index}" for index, name in enumerate(names[:width], start=1)]
    places = {column: place for place, column in enumerate(columns)}
    rows = [TableRow(at, Cells(places, packed)) for at, packed in found]
    unnamed = [
        column
        for column, name in zip(columns, names + [""] * width, strict=False)
        if not name and any(row.cells[column] for row in rows)
    ]
    return Table(path, tuple(columns), tuple(rows), delimiter, tuple(titles), tuple(unnamed))


def head_of(lines: Sequence[str]) -> tuple[str, ...]:
    """The names in the head of a table, as far as there is one: those of any text, be it a table or not."""
    first = next((index for index, line in enumerate(lines) if line.strip()), None)
    if first is None:
        return ()
    line = lines[_head_line(lines, first)]
    cells = line.split(delimiter_of(line))
    return tuple(cell.strip().strip('"').strip() for cell in cells)


def _filled(cells: Sequence[str]) -> int:
    """How many cells there are up to the last that has something in it."""
    if cells and cells[-1]:
        return len(cells)
    return next((place for place in range(len(cells), 0, -1) if cells[place - 1]), 0)


def _head_line(lines: Sequence[str], first: int) -> int:
    """The first line with several cells, where only lines of one cell are above it; else the first."""
    filled = [number for number in range(first, len(lines)) if lines[number].strip()][: _MOST_TITLES + 1]
    return next((number for number in filled if _cells(lines[number]) > 1), first)


def _cells(line: str) -> int:
    """How many cells of a line have something in them."""
    return sum(bool(cell.strip()) for cell in re.sub(r'"[^"]*"', "x", line).split(delimiter_of(line)))


def delimiter_of(header: str) -> str:
    """The character that separates the cells of a head line: a comma, a semicolon or a tab."""
    outside_quotes = re.sub(r'"[^"]*"', "", header)
    return max(",;\t", key=lambda separator: (outside_quotes.count(separator), separator == ","))


def _check_names(names: Sequence[str], path: Path, line: int) -> None:
    seen: set[str] = set()
    for name in filter(None, names):
        if name.casefold() in seen:
            raise MarksError(f"two columns are called “{name}”", path=path, line=line)
        seen.add(name.casefold())


def find_column(table: Table, names: tuple[str, ...]) -> str | None:
    """The column that bears one of these names, case and spacing ignored; earlier names go first."""
    return named_column(table.columns, names)


def named_column(columns: Sequence[str], names: Sequence[str]) -> str | None:
    """Which of some columns bears one of these names, as find_column takes them."""
    folded = {re.sub(r"[\s_-]+", " ", column.casefold()): column for column in columns}
    return next((folded[name] for name in names if name in folded), None)
