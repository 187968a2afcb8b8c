"""What each action of the mark command does."""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from rich.console import Console

from boxkite.cli.messages import print_error
from boxkite.cli.tables import Column, counted, make_console, print_json, print_line, print_table
from boxkite.core.errors import MarksError
from boxkite.core.files.reading import path_from
from boxkite.core.files.walking import Walk
from boxkite.core.footage.kinds import MARKS_TABLE
from boxkite.core.marks.mark_table import MarkRow, change_marks, read_mark_rows, still_there, table_beside
from boxkite.core.timebase import FrameRate

_Meant = list[tuple[int, MarkRow]]
"""Rows that were chosen, with where they stood."""


@dataclass(frozen=True)
class _Place:
    """A table of marks, and which of its rows a path means: those of one source, or all."""

    table: Path
    names: frozenset[str] | None

    def holds(self, row: MarkRow) -> bool:
        return self.names is None or row.source.casefold() in self.names


def _places(arguments: argparse.Namespace) -> list[_Place]:
    found: list[_Place] = []
    for path in (path_from(text) for text in arguments.paths):
        if arguments.marks:
            names = None if path.is_dir() else frozenset({path.name.casefold(), path.stem.casefold()})
            found.append(_Place(path_from(arguments.marks), names))
        elif path.is_dir() and path.suffix.lower() != ".otiod":
            walk = Walk(path)
            found += [
                _Place(parent / name, None)
                for parent, names in walk.folders()
                for name in names
                if name == MARKS_TABLE
            ]
            for one in walk.unseen:
                print_error(f"{one.path}: {one.reason}")
        elif path.exists():
            found.append(_Place(table_beside(path), frozenset({path.name.casefold(), path.stem.casefold()})))
        else:
            raise MarksError("there is no such file", path=path)
    return list(dict.fromkeys(found))


def _chosen(arguments: argparse.Namespace, places: Sequence[_Place]) -> dict[_Place, _Meant]:
    """Which rows of which table are meant. Raises when not one is."""
    from boxkite.core.job.choice import Choice

    if not (arguments.search or arguments.number or arguments.all):
        raise MarksError(
            "say which marks", hint="--search WORDS, --number 3, or --all; boxkite mark list shows them"
        )
    numbers = Choice.parse(f"number:{arguments.number}", "--number") if arguments.number else None
    found: dict[_Place, _Meant] = {}
    number = 0
    for place in places:
        for index, row in enumerate(read_mark_rows(place.table)):
            if place.holds(row):
                number += 1
                if arguments.search and not row.fits(arguments.search):
                    continue
                if numbers and not numbers.has_number(number):
                    continue
                found.setdefault(place, []).append((index, row))
    if not found:
        raise MarksError("no mark fits that", hint="boxkite mark list shows them")
    return found


def _rate(arguments: argparse.Namespace) -> FrameRate | None:
    return FrameRate.parse(arguments.marks_rate) if arguments.marks_rate else None


def _table(arguments: argparse.Namespace, path: Path) -> Path:
    return path_from(arguments.marks) if arguments.marks else table_beside(path)


def add_marks(arguments: argparse.Namespace) -> int:
    """Add one mark."""
    from boxkite.core.shots.marking import make_mark, open_markable

    path = path_from(arguments.path)
    on = open_markable(path, _rate(arguments))
    row = make_mark(
        on,
        arguments.start,
        arguments.end,
        arguments.length,
        name=arguments.name,
        keywords=tuple(dict.fromkeys(arguments.keyword)),
        circled=arguments.circled,
        note=arguments.note or "",
        colour=(arguments.colour or "").lower(),
    )
    table = _table(arguments, path)
    change_marks(table, lambda rows: [*rows, row])
    return _report(arguments, [row], f"1 mark added to {table}")


def _report(
    arguments: argparse.Namespace, rows: Sequence[MarkRow], words: str, notices: Sequence[str] = ()
) -> int:
    """What was done: the rows and a line; as JSON when asked for."""
    if arguments.json:
        print_json({"marks": [_as_json(row) for row in rows], "said": words, "notices": list(notices)})
        return 0
    console = make_console()
    if rows:
        _print_marks(console, [("", row) for row in rows])
        console.print()
    for notice in notices:
        print_line(console, f"! {notice}", "yellow")
    print_line(console, words, "bold")
    return 0


def _print_marks(console: Console, numbered: Sequence[tuple[str, MarkRow]]) -> None:
    """A table of marks, each with its number in the list or without one."""
    columns = [
        Column("#", right=True),
        Column("source", gives_way=True),
        Column("name", gives_way=True),
        Column("in"),
        Column("out"),
        Column("keywords", gives_way=True),
        Column("circled", optional=True),
        Column("note", gives_way=True, optional=True),
    ]
    rows = [
        [number, row.source, row.name, row.in_text, row.out_text, ", ".join(row.keywords),
         "yes" if row.circled else "", row.note]
        for number, row in numbered
    ]  # fmt: skip
    shown = [index for index in range(len(columns)) if any(row[index] for row in rows)]
    print_table(
        console, [columns[index] for index in shown], [[row[index] for index in shown] for row in rows]
    )


def _as_json(row: MarkRow) -> dict[str, object]:
    return {
        "source": row.source,
        "name": row.name,
        "in": row.in_text,
        "out": row.out_text,
        "keywords": list(row.keywords),
        "circled": row.circled,
        "note": row.note,
        "colour": row.colour,
        **dict(row.extra),
    }


def list_marks(arguments: argparse.Namespace) -> int:
    """List the marks of paths, or those that fit some words."""
    listed: list[tuple[int, MarkRow]] = []
    number = 0
    for place in _places(arguments):
        for row in read_mark_rows(place.table):
            if place.holds(row):
                number += 1
                listed.append((number, row))
    matching = [one for one in listed if not arguments.search or one[1].fits(arguments.search)]
    if arguments.json:
        print_json(
            {"marks": [{"number": index, **_as_json(row)} for index, row in matching], "of": len(listed)}
        )
        return 0
    console = make_console()
    if matching:
        _print_marks(console, [(str(index), row) for index, row in matching])
        console.print()
    total = counted(len(listed), "mark")
    print_line(
        console, f"{len(matching)} of {total} fit “{arguments.search}”" if arguments.search else total, "bold"
    )
    return 0


def change_some(arguments: argparse.Namespace) -> int:
    """Change names, keywords, notes or times of some marks."""
    from boxkite.core.shots.marking import make_mark, named_by_rule, open_markable

    times = arguments.start or arguments.end or arguments.length
    words = arguments.keyword or arguments.drop_keyword or arguments.circled or arguments.not_circled
    if not (times or words or arguments.name or arguments.note is not None or arguments.colour is not None):
        raise MarksError("say what to change", hint="--name, --keyword, --note, --circled, --in …")
    chosen = _chosen(arguments, _places(arguments))
    if times and sum(map(len, chosen.values())) > 1:
        raise MarksError("new times are for one mark; these are several", hint="choose it with --number")
    changed: list[MarkRow] = []
    for place, meant in chosen.items():

        def change(rows: tuple[MarkRow, ...], meant: _Meant = meant, place: _Place = place) -> list[MarkRow]:
            result = list(rows)
            there = still_there(rows, meant)
            new = [_with_words(result[index], arguments) for index in there]
            if arguments.name:
                new = named_by_rule(new, arguments.name)
            if times and new:
                on = open_markable(place.table.parent / new[0].source, _rate(arguments))
                end = arguments.end or ("" if arguments.length else new[0].out_text)
                timed = make_mark(on, arguments.start or new[0].in_text, end, arguments.length)
                new = [replace(new[0], in_text=timed.in_text, out_text=timed.out_text)]
            for index, row in zip(there, new, strict=True):
                result[index] = row
            changed.extend(new)
            return result

        change_marks(place.table, change)
    return _report(arguments, changed, f"{counted(len(changed), 'mark')} changed")


def _with_words(row: MarkRow, arguments: argparse.Namespace) -> MarkRow:
    row = row.with_keywords(arguments.keyword, arguments.drop_keyword)
    if arguments.note is not None:
        row = replace(row, note=arguments.note)
    if arguments.colour is not None:
        row = replace(row, colour=arguments.colour.lower())
    return replace(row, circled=(row.circled or arguments.circled) and not arguments.not_circled)


def remove_marks(arguments: argparse.Namespace) -> int:
    """Remove some marks."""
    gone: list[MarkRow] = []
    for place, meant in _chosen(arguments, _places(arguments)).items():

        def change(rows: tuple[MarkRow, ...], meant: _Meant = meant) -> list[MarkRow]:
            there = still_there(rows, meant)
            gone.extend(rows[index] for index in there)
            return [row for index, row in enumerate(rows) if index not in there]

        change_marks(place.table, change)
    return _report(arguments, gone, f"{counted(len(gone), 'mark')} removed")


def import_list(arguments: argparse.Namespace) -> int:
    """Add the marks of a list, of a timeline, or the chapters of a file."""
    from boxkite.core.edit.reading import is_edit, marks_from_chapters, read_marks
    from boxkite.core.shots.marking import open_markable, rows_from_list

    path = path_from(arguments.path)
    on = open_markable(path, _rate(arguments))
    if arguments.list:
        marks = read_marks(path_from(arguments.list))
    else:
        marks = read_marks(path) if is_edit(path) else marks_from_chapters(on.reel.source)
    rows, notices = rows_from_list(on, marks, _rate(arguments))
    table = _table(arguments, path)
    new: list[MarkRow] = []

    def change(before: tuple[MarkRow, ...]) -> list[MarkRow]:
        new.extend(row for row in rows if row not in before)
        return [*before, *new]

    change_marks(table, change)
    known = f"; {len(rows) - len(new)} were there already" if len(new) < len(rows) else ""
    return _report(arguments, new, f"{counted(len(new), 'mark')} added to {table}{known}", notices)


def export_list(arguments: argparse.Namespace) -> int:
    """Write the marks of one source as another list."""
    from boxkite.core.shots.marking import export_marks, open_markable

    path = path_from(arguments.path)
    on = open_markable(path, _rate(arguments))
    names = {name.casefold() for name in on.names}
    rows = [row for row in read_mark_rows(_table(arguments, path)) if row.source.casefold() in names]
    if not rows:
        raise MarksError("there is no mark on it", path=path, hint=f"boxkite mark add {path} --in …")
    left = export_marks(path_from(arguments.file), on, rows)
    notices = []
    if left:
        columns = ", ".join(f"{column} ({counted(number, 'mark')})" for column, number in left.items())
        others = "a .csv or .otio file" if "out" in left or "keywords" in left else "a .csv file"
        notices.append(f"not in this list, which has no place for it: {columns}; {others} carries it")
    return _report(arguments, rows, f"{counted(len(rows), 'mark')} written to {arguments.file}", notices)


def detect_cuts(arguments: argparse.Namespace) -> int:
    """Find cuts, mark them, and draw them where that is asked for."""
    from boxkite.core.marks.detection import changes_as_marks, remembered_changes
    from boxkite.core.preview.strip import draw_strip
    from boxkite.core.shots.marking import open_markable, rows_from_list

    path = path_from(arguments.path)
    on = open_markable(path, _rate(arguments))
    total = on.reel.table.picture_count
    with make_console(stderr=True).status(f"looking at {total} frames") as status:
        changes = remembered_changes(
            on.reel.source, on.reel.table, lambda done: status.update(f"looked at {done} of {total} frames")
        )
    rows, _ = rows_from_list(on, changes_as_marks(on.reel.source, changes), None)
    table = _table(arguments, path)
    new: list[MarkRow] = []
    places: set[str] = set()

    def add(before: tuple[MarkRow, ...]) -> list[MarkRow]:
        places.update(row.in_text for row in before if row.source.casefold() == on.name.casefold())
        new.extend(row for row in rows if row.in_text not in places)
        return [*before, *new]

    change_marks(table, add)
    dissolves = sum(bool(change.length) for change in changes)
    said = f"{counted(len(changes) - dissolves, 'cut')} and {counted(dissolves, 'dissolve')} found"
    known = f", {len(rows) - len(new)} were marked already" if len(new) < len(rows) else ""
    if arguments.strip:
        strip = path_from(arguments.strip)
        drawn = draw_strip(strip, on.reel, changes)
        said += f"; {drawn} drawn in {strip}"
    return _report(arguments, new, f"{said}; {counted(len(new), 'mark')} added to {table}{known}")
