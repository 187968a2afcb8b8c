"""Give sources names by rule, and what lies beside them: sidecars, marks, tables. All of it can be undone."""

from __future__ import annotations

import argparse

from boxkite.cli.options import add_job_options, current_user, images_from
from boxkite.cli.screen import Screen
from boxkite.core.files.reading import path_from
from boxkite.core.notices.notice import notice_as_json

EXAMPLES = """\
examples:
  boxkite rename card/ --names "@camera@scene@shot.t@take" --metadata slates.csv --show-only
  boxkite rename card/ --names "@camera@scene@shot.t@take" --metadata slates.csv
  boxkite rename card/ --names "mill_@(count:001)_[@clip]"
  boxkite rename --undo
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The sources and their pattern, or the renaming to undo."""
    parser.add_argument(
        "paths", nargs="*", metavar="PATH", help="media files or folders, subfolders included"
    )
    add_job_options(parser, "rename")
    parser.add_argument(
        "--marks",
        metavar="FILE",
        action="append",
        default=[],
        help="table of marks to update (repeatable)",
    )
    parser.add_argument("--show-only", action="store_true", help="show old and new names without renaming")
    parser.add_argument(
        "--undo",
        nargs="?",
        const="",
        metavar="RENAMING",
        help="restore the old names of the last renaming, or of the one named",
    )
    parser.add_argument("--json", action="store_true", help="print JSON instead of tables")


def run(arguments: argparse.Namespace) -> int:
    """Show and rename, or undo."""
    from boxkite.core.errors import RequestError

    if arguments.undo is not None:
        if arguments.paths or arguments.names:
            raise RequestError("--undo takes no paths and no pattern", hint="boxkite rename --undo")
        return _undo(arguments.undo or None, as_json=arguments.json)
    if not arguments.paths or not arguments.names:
        raise RequestError(
            "say what to rename and by which pattern", hint='boxkite rename card/ --names "@scene_@take"'
        )
    return _rename(arguments)


def _undo(name: str | None, *, as_json: bool) -> int:
    from boxkite.cli.tables import counted, print_json
    from boxkite.core.projects.renaming import undo

    record, problems = undo(name)
    if as_json:
        files = [{"old": str(one.new), "new": str(one.old)} for one in record.moves]
        print_json(
            {"undone": record.name, "files": files, "problems": list(map(notice_as_json, problems))},
            "rename-undo",
        )
        return int(bool(problems))
    screen = Screen()
    for problem in problems:
        screen.print(f"! {problem.marked}", "yellow")
    counting = counted(len(record.moves), "file")
    have = "has its old name" if len(record.moves) == 1 else "have their old names"
    screen.print(f"{record.name} undone: {counting} {have}" + (", but for the above" if problems else ""))
    return int(bool(problems))


def _rename(arguments: argparse.Namespace) -> int:
    from boxkite.cli.tables import Column, counted, print_json, print_table
    from boxkite.core.projects.sources import plan_renaming, rename_sources

    plan = plan_renaming(
        [path_from(path) for path in arguments.paths],
        arguments.names,
        metadata=[path_from(path) for path in arguments.metadata or ()],
        match_by=arguments.match_by,
        marks=[path_from(path) for path in arguments.marks],
        images=images_from(arguments),
        user=current_user(),
    )
    record, undone = (None, []) if arguments.show_only else rename_sources(plan)
    notices = [*undone, *plan.notices]
    if arguments.json:
        print_json(
            {
                "renaming": record.name if record else None,
                "files": [
                    {"old": str(old), "new": str(new)} for one in plan.renamed for old, new in one.moves
                ],
                "tables": [one.path for one in record.tables] if record else [],
                "notices": list(map(notice_as_json, notices)),
                "unseen": [{"path": str(one.path), "reason": one.reason} for one in plan.unseen],
            },
            "rename",
        )
        return int(bool(plan.unseen))
    screen = Screen()
    columns = [
        Column("old", gives_way=True),
        Column("new", gives_way=True),
        Column("with it"),
        Column("in", optional=True),
    ]
    rows = []
    for one in plan.renamed:
        with_it = len(one.moves) - 1
        along = (
            f"{len(one.moves)} images"
            if one.source.sequence
            else counted(with_it, "sidecar")
            if with_it
            else ""
        )
        new = one.new_label if one.changes else "as it is"
        rows.append([one.source.label, new, along, str(one.source.path.parent)])
    print_table(screen, columns, rows)
    screen.print()
    if record:
        screen.print(
            f"{counted(len(record.moves), 'file')} renamed; boxkite rename --undo restores the old names",
        )
        for changed in record.tables:
            screen.print(f"{changed.path}: {counted(changed.cells, 'row')} updated")
    else:
        screen.print("nothing was renamed" + ("" if plan.changing else ": every name is as it would be"))
    for notice in notices:
        screen.print(f"! {notice.marked}", "yellow")
    for one_unseen in plan.unseen:
        screen.print(f"! {one_unseen.path}: {one_unseen.reason}", "bold red")
    return int(bool(plan.unseen))
