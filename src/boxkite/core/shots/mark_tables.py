"""Marks in their tables: found, chosen, added, changed and removed."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path

from msgspec import Struct
from msgspec.structs import replace

from boxkite.core.errors import BoxkiteError, MarksError
from boxkite.core.files.walking import Unseen, Walk
from boxkite.core.footage.kinds import MARKS_TABLE
from boxkite.core.job.choice import Choice
from boxkite.core.marks.mark import Mark, MarkList, WrittenTime
from boxkite.core.marks.mark_table import MarkRow, change_marks, read_mark_rows, still_there, table_beside
from boxkite.core.shots.marking import Markable, make_mark, named_by_rule, open_markable
from boxkite.core.shots.placing import place_marks
from boxkite.core.timebase import FrameRate

Meant = list[tuple[int, MarkRow]]
"""Rows that were chosen, with where they stood."""


class MarksTable(Struct, frozen=True):
    """A table of marks, and which of its rows are meant."""

    path: Path
    folder: Path
    """Of the footage."""
    names: frozenset[str] | None
    """The names of one source, case folded; None for all rows."""

    def holds(self, row: MarkRow) -> bool:
        """Whether a row is meant."""
        return self.names is None or row.source.casefold() in self.names


class NumberedMark(Struct, frozen=True):
    """A mark with its number in a list of several tables, from 1."""

    number: int
    table: MarksTable
    row: MarkRow


class MarkChange(Struct, frozen=True):
    """A change to marks; None and empty values change nothing."""

    name: str = ""
    """A pattern of @marker, @count and so on."""
    keywords: tuple[str, ...] = ()
    dropped_keywords: tuple[str, ...] = ()
    note: str | None = None
    colour: str | None = None
    circled: bool | None = None
    start: str = ""
    end: str = ""
    length: str = ""

    @property
    def has_times(self) -> bool:
        """Whether it sets new times, which only one mark can get."""
        return bool(self.start or self.end or self.length)


def tables_of(paths: Sequence[Path], table: Path | None) -> tuple[list[MarksTable], list[Unseen]]:
    """The tables that hold the marks of files and of folders with all below them, and what could not be looked into.

    table: the one that is named, instead of those beside the footage. Raises MarksError for a path that is not there.
    """
    found: list[MarksTable] = []
    unseen: list[Unseen] = []
    for path in paths:
        names = frozenset({path.name.casefold(), path.stem.casefold()})
        if table:
            found.append(
                MarksTable(table, path, None) if path.is_dir() else MarksTable(table, path.parent, names)
            )
        elif path.is_dir() and path.suffix.lower() != ".otiod":
            walk = Walk(path)
            found += [
                MarksTable(parent / name, parent, None)
                for parent, names_there in walk.folders()
                for name in names_there
                if name == MARKS_TABLE
            ]
            unseen += walk.unseen
        elif path.exists():
            found.append(MarksTable(table_beside(path), path.parent, names))
        else:
            raise MarksError("there is no such file", path=path)
    return list(dict.fromkeys(found)), unseen


def numbered_marks(tables: Sequence[MarksTable]) -> list[NumberedMark]:
    """All marks of some tables that are meant, in order. Raises MarksError."""
    rows = [(table, row) for table in tables for row in read_mark_rows(table.path) if table.holds(row)]
    return [NumberedMark(number, table, row) for number, (table, row) in enumerate(rows, start=1)]


def choose_marks(
    tables: Sequence[MarksTable], search: str = "", numbers: Choice | None = None
) -> dict[MarksTable, Meant]:
    """The marks that hold some words and have some numbers, by their tables. Raises MarksError when not one does."""
    found: dict[MarksTable, Meant] = {}
    number = 0
    for table in tables:
        for index, row in enumerate(read_mark_rows(table.path)):
            if table.holds(row):
                number += 1
                if (not search or row.fits(search)) and (not numbers or numbers.has_number(number)):
                    found.setdefault(table, []).append((index, row))
    if not found:
        raise MarksError("no mark fits that", hint="boxkite mark list shows them")
    return found


def add_marks(table: Path, rows: Sequence[MarkRow]) -> list[MarkRow]:
    """Add marks to a table; those that it holds already are not added again. The new ones. Raises MarksError."""
    new: list[MarkRow] = []

    def change(before: tuple[MarkRow, ...]) -> list[MarkRow]:
        new[:] = [row for row in rows if row not in before]
        return [*before, *new]

    change_marks(table, change)
    return new


def circle_marks(table: Path, circles: Mapping[tuple[str, str, str], bool]) -> int:
    """Circle marks, or take their circle away, by source, in and out; how many changed. Raises MarksError."""

    def apply(rows: tuple[MarkRow, ...]) -> list[MarkRow]:
        return [
            replace(row, circled=circles.get((row.source, row.in_text, row.out_text), row.circled))
            for row in rows
        ]

    before = {(row.source, row.in_text, row.out_text): row.circled for row in read_mark_rows(table)}
    change_marks(table, apply)
    return sum(before.get(key, circled) != circled for key, circled in circles.items())


def add_marks_where_none_is(table: Path, rows: Sequence[MarkRow]) -> list[MarkRow]:
    """Add marks to a table where their source has none at that time. The new ones. Raises MarksError."""
    new: list[MarkRow] = []

    def change(before: tuple[MarkRow, ...]) -> list[MarkRow]:
        taken = {(row.source.casefold(), row.in_text) for row in before}
        new[:] = [row for row in rows if (row.source.casefold(), row.in_text) not in taken]
        return [*before, *new]

    change_marks(table, change)
    return new


def change_chosen(
    chosen: Mapping[MarksTable, Meant], change: MarkChange, rate: FrameRate | None = None
) -> list[MarkRow]:
    """Change marks that were chosen; as they are then. rate: of EDLs and numbered images. Raises MarksError."""
    if change.has_times and sum(map(len, chosen.values())) > 1:
        raise MarksError("new times are for one mark; these are several", hint="choose it by its number")
    return [row for table, meant in chosen.items() for row in _change_in(table, meant, change, rate)]


def _change_in(table: MarksTable, meant: Meant, change: MarkChange, rate: FrameRate | None) -> list[MarkRow]:
    changed: list[MarkRow] = []

    def apply(rows: tuple[MarkRow, ...]) -> list[MarkRow]:
        result = list(rows)
        places = still_there(rows, meant)
        changed[:] = [_changed(result[index], change) for index in places]
        if change.name:
            changed[:] = named_by_rule(changed, change.name)
        if change.has_times and changed:
            changed[:] = [_timed(table.folder, changed[0], change, rate)]
        for index, row in zip(places, changed, strict=True):
            result[index] = row
        return result

    change_marks(table.path, apply)
    return changed


def _changed(row: MarkRow, change: MarkChange) -> MarkRow:
    row = row.with_keywords(change.keywords, change.dropped_keywords)
    return replace(
        row,
        note=row.note if change.note is None else change.note,
        colour=row.colour if change.colour is None else change.colour.lower(),
        circled=row.circled if change.circled is None else change.circled,
    )


def _timed(folder: Path, row: MarkRow, change: MarkChange, rate: FrameRate | None) -> MarkRow:
    on = open_markable(folder / row.source, rate)
    end = change.end or ("" if change.length else row.out_text)
    timed = make_mark(on, change.start or row.in_text, end, change.length)
    return replace(row, in_text=timed.in_text, out_text=timed.out_text)


def remove_chosen(chosen: Mapping[MarksTable, Meant]) -> list[MarkRow]:
    """Remove marks that were chosen; those that were. Raises MarksError."""
    return [row for table, meant in chosen.items() for row in _remove_in(table, meant)]


def _remove_in(table: MarksTable, meant: Meant) -> list[MarkRow]:
    gone: list[MarkRow] = []

    def apply(rows: tuple[MarkRow, ...]) -> list[MarkRow]:
        places = still_there(rows, meant)
        gone[:] = [rows[index] for index in places]
        return [row for index, row in enumerate(rows) if index not in places]

    change_marks(table.path, apply)
    return gone


class MarkTimes(Struct, frozen=True):
    """Where a mark lies on its source, as it is shown: timecode, and the frames of the source."""

    start: str
    end: str
    """The first frame after it; empty for a point."""
    frames: str
    """From the source's first frame, as "25" or "25-50"; empty where the source cannot be read."""


class MarkClock:
    """Tells the times of marks; every source is opened once."""

    def __init__(self, rate: FrameRate | None = None) -> None:
        """rate: of EDLs and numbered images."""
        self._rate = rate
        self._known: dict[Path, Markable | None] = {}

    def times_of(self, row: MarkRow, folder: Path) -> MarkTimes:
        """The times of a mark whose source is in a folder; as the table has them where that cannot be read."""
        on = self._open(folder / row.source)
        if on is None:
            return MarkTimes(row.in_text, row.out_text, "")
        end = WrittenTime(row.out_text) if row.out_text and row.out_text != row.in_text else None
        mark = Mark(row.name, WrittenTime(row.in_text), end)
        try:
            (placed,) = place_marks(MarkList(on.path, "mark", (mark,)), [mark], on.footage, None)
        except BoxkiteError:
            return MarkTimes(row.in_text, row.out_text, "")
        if placed.end is None:
            return MarkTimes(str(on.footage.timecode(placed.start)), "", str(placed.start))
        return MarkTimes(
            str(on.footage.timecode(placed.start)),
            str(on.footage.timecode(placed.end)),
            f"{placed.start}-{placed.end}",
        )

    def _open(self, path: Path) -> Markable | None:
        if path not in self._known:
            try:
                self._known[path] = open_markable(path, self._rate)
            except (BoxkiteError, OSError):
                self._known[path] = None
        return self._known[path]
