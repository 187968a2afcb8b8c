"""Tables that name sources, updated to new names: old and new contents are worked out first."""

from __future__ import annotations

import csv
import io
from collections.abc import Mapping, Sequence
from pathlib import Path

from msgspec import Struct
from msgspec.structs import replace

from boxkite.core.errors import MarksError
from boxkite.core.files.cells import guarded, plain_cell
from boxkite.core.files.reading import read_bytes
from boxkite.core.files.table import delimiter_of, find_column, read_table
from boxkite.core.files.text import MOST_BYTES, to_text
from boxkite.core.files.writing import replace_file
from boxkite.core.footage.kinds import MARKS_TABLE
from boxkite.core.marks.mark_table import marks_as_bytes, read_marks_table
from boxkite.core.metadata.joining import SOURCE_COLUMNS


class TableChange(Struct, frozen=True):
    """One table that is rewritten."""

    path: str
    before: str
    after: str
    """All its bytes, as text."""
    cells: int
    """How many of them are changed."""


def plan_tables(tables: Sequence[Path], names: Mapping[str, str]) -> tuple[TableChange, ...]:
    """The changes to tables when sources get new names. names: new by old, case ignored. Raises MarksError."""
    folded = {old.casefold(): new for old, new in names.items()}
    changes = (_changed(path, folded) for path in dict.fromkeys(tables))
    return tuple(change for change in changes if change.cells)


def write_table(change: TableChange) -> None:
    """Write a table as planned. Raises MarksError where somebody has changed it since it was read, OSError."""
    path = Path(change.path)
    if _text(path) != change.before:
        raise MarksError("this table was changed while files were renamed", path=path, hint="try again")
    _write(path, change.after)


def undo_table(change: TableChange, names: Mapping[str, str]) -> None:
    """Give a table its old text; one that was edited since gets only the old names back. Raises MarksError, OSError."""
    path = Path(change.path)
    now = _text(path)
    if now == change.after:
        _write(path, change.before)
    elif now != change.before:
        back = {new.casefold(): old for old, new in names.items()}
        _write(path, _changed(path, back).after)


def _changed(path: Path, folded: Mapping[str, str]) -> TableChange:
    before = _text(path)
    if path.name == MARKS_TABLE:
        after, cells = _marks_renamed(path, folded)
    else:
        after, cells = _cells_renamed(path, before, folded)
    return TableChange(str(path.absolute()), before, after if cells else before, cells)


def _marks_renamed(path: Path, folded: Mapping[str, str]) -> tuple[str, int]:
    rows, delimiter, own = read_marks_table(path)
    renamed = [replace(row, source=_new(row.source, folded)) for row in rows]
    count = sum(one != other for one, other in zip(rows, renamed, strict=True))
    return marks_as_bytes(renamed, delimiter, own).decode("utf-8", "surrogateescape"), count


def _cells_renamed(path: Path, before: str, folded: Mapping[str, str]) -> tuple[str, int]:
    """A table of somebody's own: every cell but those that name a renamed source stays as it is written."""
    table = read_table(path, may_have_titles=True)
    column = find_column(table, SOURCE_COLUMNS)
    if column is None:
        return before, 0
    text = to_text(before.encode("utf-8", "surrogateescape"))
    skipped, lines = _head_of(text)
    delimiter = table.delimiter or delimiter_of(lines)
    rows = list(csv.reader(io.StringIO(lines, newline=""), delimiter=delimiter))
    place, count = table.columns.index(column), 0
    head = next(
        at for at, row in enumerate(rows) if len(row) > place and plain_cell(row[place].strip()) == column
    )
    for row in rows[head + 1 :]:
        if len(row) > place:
            cell = plain_cell(row[place].strip())
            if (new := _new(cell, folded)) != cell:
                row[place] = guarded(new)
                count += 1
    written = io.StringIO(newline="")
    line_end = "\r\n" if "\r\n" in lines else "\n"
    csv.writer(written, delimiter=delimiter, lineterminator=line_end).writerows(rows)
    mark = "\ufeff" if before.startswith("\ufeff") else ""
    return mark + skipped + written.getvalue(), count


def _head_of(text: str) -> tuple[str, str]:
    """The text before the head of a table, and the text from there on."""
    lines = text.splitlines(keepends=True)
    place = next((at for at, line in enumerate(lines) if line.strip()), 0)
    if lines and lines[place].strip().startswith("sep="):
        place += 1
    return "".join(lines[:place]), "".join(lines[place:])


def _new(cell: str, folded: Mapping[str, str]) -> str:
    """The cell with its name, or the last part of its path, replaced."""
    at = max(cell.rfind("/"), cell.rfind("\\")) + 1
    return cell[:at] + folded.get(cell[at:].casefold(), cell[at:])


def _text(path: Path) -> str:
    return read_bytes(path, MOST_BYTES).decode("utf-8", "surrogateescape")


def _write(path: Path, text: str) -> None:
    replace_file(path, text.encode("utf-8", "surrogateescape"))
