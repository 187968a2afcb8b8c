"""The table of marks that lies beside footage: plain enough for a spreadsheet, safe for two writers at once."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from fnmatch import fnmatchcase
from pathlib import Path

from msgspec import Struct
from msgspec.structs import replace

from boxkite.core.errors import MarksError, setting
from boxkite.core.files.cells import table_bytes
from boxkite.core.files.reading import is_file
from boxkite.core.files.table import TableRow, find_column, read_table
from boxkite.core.files.writing import replace_file
from boxkite.core.footage.kinds import MARKS_TABLE
from boxkite.core.marks.mark import Mark, MarkList
from boxkite.core.marks.ranges import COLUMN_NAMES, YES, marks_of_table, split_keywords

COLUMNS = ("source", "name", "in", "out", "keywords", "circled", "note", "colour")
_LOCK_SECONDS = 30


class MarkRow(Struct, frozen=True):
    """One mark as the table holds it."""

    source: str
    name: str = ""
    in_text: str = ""
    out_text: str = ""
    keywords: tuple[str, ...] = ()
    circled: bool = False
    note: str = ""
    colour: str = ""
    extra: tuple[tuple[str, str], ...] = ()
    """Columns of the user's own, kept as they are."""

    def fits(self, words: str) -> bool:
        """Whether name or note contain the text, or match it where it has * or ?; case ignored."""
        folded = words.casefold()
        if "*" in folded or "?" in folded:
            return any(fnmatchcase(text.casefold(), folded) for text in (self.name, self.note))
        return folded in self.name.casefold() or folded in self.note.casefold()

    def cells(self, own: Sequence[str]) -> list[str]:
        """The row as cells, in the order of COLUMNS and then of the user's own columns."""
        extra = dict(self.extra)
        circled = "yes" if self.circled else ""
        fixed = [
            self.source,
            self.name,
            self.in_text,
            self.out_text,
            ", ".join(self.keywords),
            circled,
            self.note,
        ]
        return [*fixed, self.colour, *(extra.get(column, "") for column in own)]

    def with_keywords(self, added: Iterable[str], removed: Iterable[str] = ()) -> MarkRow:
        """The row with keywords added, each once, and others taken away, case ignored."""
        gone = {word.casefold() for word in removed}
        words = [word for word in (*self.keywords, *added) if word.casefold() not in gone]
        differences = {word.casefold(): word for word in reversed(words)}
        return replace(self, keywords=tuple(dict.fromkeys(differences[word.casefold()] for word in words)))


def table_beside(path: Path) -> Path:
    """Where the marks of a source, or of all sources in a folder, are kept."""
    return (path if path.is_dir() and path.suffix.lower() != ".otiod" else path.parent) / MARKS_TABLE


def read_mark_rows(path: Path) -> tuple[MarkRow, ...]:
    """All rows of a table of marks; none where there is no table yet. Raises MarksError with the line."""
    return read_marks_table(path)[0] if path.exists() else ()


class MarksBeside:
    """The marks kept in tables beside footage; each table is read once."""

    def __init__(self) -> None:
        self._tables: dict[Path, MarkList | None] = {}

    def of(self, path: Path, source_names: Sequence[str]) -> MarkList | None:
        """The marks of one source, by any of its names; None where there are none. Raises MarksError."""
        table_path = table_beside(path)
        if table_path not in self._tables:
            there = is_file(table_path)
            self._tables[table_path] = marks_of_table(read_table(table_path)) if there else None
        listed = self._tables[table_path]
        if listed is None:
            return None
        names = {name.casefold() for name in source_names}
        own: list[Mark] = [mark for mark in listed.marks if mark.source_name.casefold() in names]
        return replace(listed, marks=tuple(own)) if own else None


def change_marks(path: Path, change: Callable[[tuple[MarkRow, ...]], Sequence[MarkRow]]) -> int:
    """Read a table of marks, change its rows, and write it, while nobody else can; returns how many rows differ.

    The table is written beside and then put in its place, so that a reader sees the old or the new one.
    Raises MarksError when it cannot be read or written.
    """
    from filelock import FileLock, Timeout

    try:
        with FileLock(path.with_name(f".{path.name}.lock"), timeout=_LOCK_SECONDS):
            before, delimiter, own = read_marks_table(path) if path.exists() else ((), ",", ())
            after = tuple(change(before))
            if after != before:
                _write(path, after, delimiter, own)
    except Timeout:
        raise MarksError(
            "another program is writing this table", path=path, hint="try again in a while"
        ) from None
    except OSError as error:
        raise MarksError(
            f"marks cannot be written there: {(error.strerror or str(error)).lower()}",
            path=path,
            hint=f"keep them elsewhere with {setting('marks')} FILE",
        ) from None
    return sum(one != other for one, other in zip(before, after, strict=False)) + abs(
        len(before) - len(after)
    )


def still_there(rows: Sequence[MarkRow], meant: Sequence[tuple[int, MarkRow]]) -> list[int]:
    """Where rows stand now that were meant, each with where it stood: another writer may have moved them since."""
    taken: set[int] = set()
    for index, row in meant:
        if index < len(rows) and rows[index] == row:
            taken.add(index)
        else:
            taken.update([at for at, other in enumerate(rows) if other == row and at not in taken][:1])
    return sorted(taken)


def read_marks_table(path: Path) -> tuple[tuple[MarkRow, ...], str, tuple[str, ...]]:
    """(rows, delimiter, columns of the user's own) of a table of marks. Raises MarksError."""
    table = read_table(path)
    columns = {key: find_column(table, names) for key, names in COLUMN_NAMES.items()}
    known = {column for key, column in columns.items() if key != "length"}
    own = tuple(column for column in table.columns if column not in known)
    if not columns["source"] or not columns["in"]:
        raise MarksError(
            f"this is no table of marks; its columns are: {', '.join(table.columns)}",
            path=path,
            hint=f"a table of marks has the columns {', '.join(COLUMNS)}",
        )

    rows = tuple(_row(row, columns, own) for row in table.rows)
    return rows, table.delimiter, own


def _row(row: TableRow, columns: dict[str, str | None], own: Sequence[str]) -> MarkRow:
    def cell(key: str) -> str:
        column = columns[key]
        return row.cells.get(column, "") if column else ""

    extra = tuple((column, row.cells.get(column, "")) for column in own)
    return MarkRow(
        cell("source"),
        cell("name"),
        cell("in"),
        cell("out"),
        split_keywords(cell("keywords")),
        cell("circled").casefold() in YES,
        cell("note"),
        cell("colour"),
        extra,
    )


def _write(path: Path, rows: Sequence[MarkRow], delimiter: str, own: Sequence[str]) -> None:
    replace_file(path, marks_as_bytes(rows, delimiter, own))


def marks_as_bytes(rows: Sequence[MarkRow], delimiter: str, own: Sequence[str]) -> bytes:
    """A table of marks as a file holds it. own: columns of the user's own."""
    return table_bytes([[*COLUMNS, *own], *(row.cells(own) for row in rows)], delimiter=delimiter)
