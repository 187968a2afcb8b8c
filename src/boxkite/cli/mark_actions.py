"""The actions of the mark command."""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from pathlib import Path

from boxkite.cli.messages import print_error
from boxkite.cli.screen import Screen
from boxkite.cli.tables import Column, counted, print_json, print_table
from boxkite.core.errors import MarksError
from boxkite.core.files.reading import path_from
from boxkite.core.marks.mark_table import MarkRow, read_mark_rows, table_beside
from boxkite.core.notices.notice import Notice, notice_as_json
from boxkite.core.shots.mark_tables import (
    MarkChange,
    MarkClock,
    MarksTable,
    MarkTimes,
    Meant,
    add_marks,
    add_marks_where_none_is,
    change_chosen,
    choose_marks,
    numbered_marks,
    remove_chosen,
    tables_of,
)
from boxkite.core.timebase import FrameRate


def _tables(arguments: argparse.Namespace) -> list[MarksTable]:
    """The tables that hold the marks of the paths."""
    table = path_from(arguments.marks) if arguments.marks else None
    found, unseen = tables_of([path_from(text) for text in arguments.paths], table)
    for one in unseen:
        print_error(f"{one.path}: {one.reason}")
    return found


def _chosen(arguments: argparse.Namespace) -> dict[MarksTable, Meant]:
    """Which rows of which table are meant. Raises when not one is."""
    from boxkite.core.job.choice import Choice

    if not (arguments.search or arguments.number or arguments.all):
        raise MarksError(
            "say which marks", hint="--search TEXT, --number 3, or --all; boxkite mark list shows them"
        )
    numbers = Choice.parse(f"number:{arguments.number}", "--number") if arguments.number else None
    return choose_marks(_tables(arguments), arguments.search or "", numbers)


def _rate(arguments: argparse.Namespace) -> FrameRate | None:
    return FrameRate.parse(arguments.marks_rate) if arguments.marks_rate else None


def _table(arguments: argparse.Namespace, path: Path) -> Path:
    return path_from(arguments.marks) if arguments.marks else table_beside(path)


def add_mark(arguments: argparse.Namespace) -> int:
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
    added = add_marks(table, [row])
    return _report(arguments, added, f"{counted(len(added), 'mark')} added to {table}", folder=table.parent)


def _report(
    arguments: argparse.Namespace,
    rows: Sequence[MarkRow],
    done: str,
    notices: Sequence[Notice] = (),
    folder: Path | None = None,
) -> int:
    """Report what was done: the marks and one line, or JSON. folder: of their sources."""
    clock = MarkClock(_rate(arguments))
    times = [
        clock.times_of(row, folder) if folder else MarkTimes(row.in_text, row.out_text, "") for row in rows
    ]
    if arguments.json:
        marks = [_as_json(row, at) for row, at in zip(rows, times, strict=True)]
        print_json(
            {"marks": marks, "done": done, "notices": list(map(notice_as_json, notices))}, "marks-changed"
        )
        return 0
    screen = Screen()
    if rows:
        _print_marks(screen, [("", row) for row in rows], times)
        screen.print()
    for notice in notices:
        screen.print(f"! {notice.marked}", "yellow")
    screen.print(done, "bold")
    return 0


def _print_marks(screen: Screen, numbered: Sequence[tuple[str, MarkRow]], times: Sequence[MarkTimes]) -> None:
    """A table of marks, each with its number in the list or without one."""
    columns = [
        Column("#", right=True),
        Column("source", gives_way=True),
        Column("name", gives_way=True),
        Column("in"),
        Column("out"),
        Column("frames", right=True, optional=True),
        Column("keywords", gives_way=True),
        Column("circled", optional=True),
        Column("note", gives_way=True, optional=True),
    ]
    rows = [
        [number, row.source, row.name, at.start, at.end, at.frames, ", ".join(row.keywords),
         "yes" if row.circled else "", row.note]
        for (number, row), at in zip(numbered, times, strict=True)
    ]  # fmt: skip
    shown = [index for index in range(len(columns)) if any(row[index] for row in rows)]
    print_table(
        screen, [columns[index] for index in shown], [[row[index] for index in shown] for row in rows]
    )


def _as_json(row: MarkRow, at: MarkTimes) -> dict[str, object]:
    return {
        "source": row.source,
        "name": row.name,
        "in": at.start,
        "out": at.end,
        "frames": at.frames,
        "keywords": list(row.keywords),
        "circled": row.circled,
        "note": row.note,
        "colour": row.colour,
        **dict(row.extra),
    }


def list_marks(arguments: argparse.Namespace) -> int:
    """List the marks of paths, or those that fit some words."""
    listed = numbered_marks(_tables(arguments))
    matching = [one for one in listed if not arguments.search or one.row.fits(arguments.search)]
    clock = MarkClock(_rate(arguments))
    times = [clock.times_of(one.row, one.table.folder) for one in matching]
    if arguments.json:
        marks = [
            {"number": one.number, **_as_json(one.row, at)} for one, at in zip(matching, times, strict=True)
        ]
        print_json({"marks": marks, "of": len(listed)}, "marks")
        return 0
    screen = Screen()
    if matching:
        _print_marks(screen, [(str(one.number), one.row) for one in matching], times)
        screen.print()
    total = counted(len(listed), "mark")
    screen.print(
        f"{len(matching)} of {total} fit “{arguments.search}”" if arguments.search else total, "bold"
    )
    return 0


def change_some(arguments: argparse.Namespace) -> int:
    """Change names, keywords, notes or times of some marks."""
    change = MarkChange(
        arguments.name or "",
        tuple(arguments.keyword),
        tuple(arguments.drop_keyword),
        arguments.note,
        arguments.colour,
        True if arguments.circled else False if arguments.not_circled else None,
        arguments.start or "",
        arguments.end or "",
        arguments.length or "",
    )
    if change == MarkChange():
        raise MarksError("say what to change", hint="--name, --keyword, --note, --circled, --in …")
    changed = change_chosen(_chosen(arguments), change, _rate(arguments))
    return _report(arguments, changed, f"{counted(len(changed), 'mark')} changed")


def remove_marks(arguments: argparse.Namespace) -> int:
    """Remove some marks."""
    gone = remove_chosen(_chosen(arguments))
    return _report(arguments, gone, f"{counted(len(gone), 'mark')} removed")


def import_list(arguments: argparse.Namespace) -> int:
    """Add the marks of a list, of a timeline, or the chapters of a file."""
    from boxkite.core.edit.reading import is_edit, marks_from_chapters, read_marks
    from boxkite.core.shots.marking import open_markable, rows_from_list

    path = path_from(arguments.path)
    from boxkite.core.handover.review_file import is_review

    if not arguments.list and is_review(path):
        return _import_review(arguments, path)
    on = open_markable(path, _rate(arguments))
    if arguments.list:
        marks = read_marks(path_from(arguments.list))
    else:
        marks = read_marks(path) if is_edit(path) else marks_from_chapters(on.footage.source)
    rows, notices = rows_from_list(on, marks, _rate(arguments))
    table = _table(arguments, path)
    new = add_marks(table, rows)
    known = f"; {len(rows) - len(new)} were there already" if len(new) < len(rows) else ""
    done = f"{counted(len(new), 'mark')} added to {table}{known}"
    return _report(arguments, new, done, notices, folder=path.parent)


def _import_review(arguments: argparse.Namespace, path: Path) -> int:
    """Bring a review back: notes become marks, verdicts circles, drawings stills."""
    from boxkite.core.handover.review_file import marks_of, read_review
    from boxkite.core.shots.mark_tables import circle_marks

    review = read_review(path)
    stills = path.with_name(f"{path.stem}-stills")
    found = marks_of(review, stills, path_from(arguments.marks) if arguments.marks else None)
    new, known = [], 0
    for table, rows in found.rows.items():
        added = add_marks(table, rows)
        new += added
        known += len(rows) - len(added)
    changed = sum(circle_marks(table, circles) for table, circles in found.circles.items())
    parts = [f"{counted(len(new), 'mark')} added"]
    parts += [f"{known} were there already"] if known else []
    parts += [f"{counted(changed, 'mark')} circled or not"] if changed else []
    parts += [f"{counted(len(found.stills), 'still')} in {stills}"] if found.stills else []
    done = "; ".join(parts)
    folders = {table.parent for table in found.rows}
    status = _report(arguments, new, done, found.notices, folder=folders.pop() if len(folders) == 1 else None)
    return status or int(bool(found.notices))


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
    done = f"{counted(len(rows), 'mark')} written to {arguments.file}"
    return _report(arguments, rows, done, left, folder=path.parent)


def detect_cuts(arguments: argparse.Namespace) -> int:
    """Find cuts, mark them, and draw them where that is asked for."""
    from boxkite.core.marks.detection import changes_as_marks, remembered_changes
    from boxkite.core.preview.strip import draw_strip
    from boxkite.core.shots.marking import open_markable, rows_from_list

    path = path_from(arguments.path)
    on = open_markable(path, _rate(arguments))
    total = on.footage.frame_index.stored_count
    with Screen(stderr=True).status(f"scanning {total} frames for cuts") as status:
        changes = remembered_changes(
            on.footage.source,
            on.footage.frame_index,
            lambda done: status.update(f"scanned {done} of {total} frames"),
        )
    rows, _ = rows_from_list(on, changes_as_marks(on.footage.source, changes), None)
    table = _table(arguments, path)
    new = add_marks_where_none_is(table, rows)
    dissolves = sum(bool(change.length) for change in changes)
    found = f"{counted(len(changes) - dissolves, 'cut')} and {counted(dissolves, 'dissolve')} found"
    known = f", {len(rows) - len(new)} were marked already" if len(new) < len(rows) else ""
    if arguments.strip:
        strip = path_from(arguments.strip)
        drawn = draw_strip(strip, on.footage, changes)
        found += f"; {drawn} drawn in {strip}"
    done = f"{found}; {counted(len(new), 'mark')} added to {table}{known}"
    return _report(arguments, new, done, folder=path.parent)
