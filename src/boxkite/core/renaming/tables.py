"""Tables that name sources, kept in step with new names."""

from __future__ import annotations

import csv
import io
import os
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from boxkite.core.edit.mark_table import change_marks
from boxkite.core.edit.table import find_column, read_table
from boxkite.core.errors import BoxkiteError
from boxkite.core.footage.kinds import MARKS_TABLE
from boxkite.core.metadata.joining import SOURCE_COLUMNS
from boxkite.core.records.checksum import text_checksum


@dataclass(frozen=True)
class TableChange:
    """One table that was rewritten. before: all its text as it was; after: checksum of what was written."""

    path: str
    before: str
    after: str
    cells: int


def rename_in_tables(tables: Sequence[Path], names: Mapping[str, str]) -> tuple[TableChange, ...]:
    """Put new names in the place of old ones, in the column that names sources. names: old by new, case ignored.

    All tables or none: where one cannot be written the others are as before. Raises MarksError.
    """
    changes: list[TableChange] = []
    folded = {old.casefold(): new for old, new in names.items()}
    try:
        for path in dict.fromkeys(tables):
            if change := _rename_in(path, folded):
                changes.append(change)
    except BaseException:
        undo_tables(changes, names)
        raise
    return tuple(changes)


def undo_tables(changes: Sequence[TableChange], names: Mapping[str, str]) -> None:
    """Give tables their old text; those that were edited since get only the old names back."""
    back = {new.casefold(): old for old, new in names.items()}
    for change in changes:
        path = Path(change.path)
        try:
            if text_checksum(_text(path)) == change.after:
                _write(path, change.before)
            else:
                _rename_in(path, back)
        except (OSError, BoxkiteError):
            continue  # a table that has gone since is no reason to keep files from their old names


def _rename_in(path: Path, folded: Mapping[str, str]) -> TableChange | None:
    """Rewrite one table; None where it names none of them."""
    before = _text(path)
    cells = _rename_marks(path, folded) if path.name == MARKS_TABLE else _rename_cells(path, folded)
    return TableChange(str(path.absolute()), before, text_checksum(_text(path)), cells) if cells else None


def _rename_marks(path: Path, folded: Mapping[str, str]) -> int:
    from dataclasses import replace

    return change_marks(path, lambda rows: [replace(row, source=_new(row.source, folded)) for row in rows])


def _rename_cells(path: Path, folded: Mapping[str, str]) -> int:
    table = read_table(path)
    column = find_column(table, SOURCE_COLUMNS)
    if column is None:
        return 0
    count = 0
    text = io.StringIO(newline="")
    writer = csv.writer(text, delimiter=table.delimiter, lineterminator="\n")
    writer.writerow(table.columns)
    for row in table.rows:
        cells = dict(row.cells)
        new = _new(cells[column], folded)
        count += new != cells[column]
        cells[column] = new
        writer.writerow([cells[name] for name in table.columns])
    if count:
        _write(path, text.getvalue())
    return count


def _new(cell: str, folded: Mapping[str, str]) -> str:
    """The cell with its name, or the last part of its path, replaced."""
    at = max(cell.rfind("/"), cell.rfind("\\")) + 1
    return cell[:at] + folded.get(cell[at:].casefold(), cell[at:])


def _text(path: Path) -> str:
    return path.read_bytes().decode("utf-8", "surrogateescape")


def _write(path: Path, text: str) -> None:
    partial = path.with_name(f".{path.name}.{os.getpid()}")
    partial.write_bytes(text.encode("utf-8", "surrogateescape"))
    partial.chmod(path.stat().st_mode & 0o777)
    partial.replace(path)
