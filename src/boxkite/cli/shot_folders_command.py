"""Make a folder for each shot: its files, stills of its notes, places for work, and a work order."""

from __future__ import annotations

import argparse

from boxkite.cli.handover import add_delivery, note
from boxkite.cli.screen import Screen

EXAMPLES = """\
examples:
  boxkite shot-folders last --into work
  boxkite shot-folders last --tree tree.toml --into work --review review.json
  boxkite shot-folders last --into work --dry-run
  boxkite shot-folders --show shots > tree.toml

Made again, it adds what is new and leaves alone what is there. A tree is a TOML file of patterns;
--show prints the built-in one to begin with.
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Of what, which tree, where to."""
    add_delivery(parser)
    parser.add_argument("--tree", metavar="FILE", default="shots",
                        help="what a folder holds: a .toml file, or the built-in shots (default: shots)")  # fmt: skip
    parser.add_argument(
        "--into", metavar="FOLDER", default="work", help="where the folders go (default: work)"
    )
    parser.add_argument("--review", metavar="FILE", action="append", default=[],
                        help="a saved review; its notes and drawn lines are taken too (repeatable)")  # fmt: skip
    parser.add_argument("--metadata", metavar="FILE", action="append", default=[],
                        help="a table about the files or sources; its columns become tokens (repeatable)")  # fmt: skip
    parser.add_argument("--dry-run", action="store_true", help="list what would be added, and add nothing")
    parser.add_argument("--show", metavar="NAME", help="print a built-in tree as TOML, and do nothing else")
    parser.add_argument("--json", action="store_true", help="print JSON instead of lines")


def run(arguments: argparse.Namespace) -> int:
    """Make them, or list what would be made."""
    from boxkite.cli.options import current_user
    from boxkite.cli.tables import counted, print_json
    from boxkite.core.files.reading import path_from
    from boxkite.core.handover.delivery import delivery_of
    from boxkite.core.handover.described import describe
    from boxkite.core.handover.shot_folders.folders import make_all, plan_folders
    from boxkite.core.handover.shot_folders.tree import read_tree, tree_path
    from boxkite.core.notices.notice import notice_as_json
    from boxkite.core.records.handovers import SHOT_FOLDERS

    screen = Screen(stderr=arguments.json)
    if arguments.show:
        lines = tree_path(arguments.show).read_text().splitlines()
        screen.print_lines([(line, "") for line in lines], wrapped=False)
        return 0
    tree = read_tree(path_from(str(tree_path(arguments.tree))))
    delivery = delivery_of(arguments.delivery)
    described = describe(delivery, [path_from(path) for path in arguments.metadata], user=current_user())
    plan = plan_folders(
        described, tree, path_from(arguments.into), [path_from(path) for path in arguments.review]
    )
    made = len(plan.additions) if arguments.dry_run else make_all(plan)
    for notice in (*described.notices, *plan.notices):
        screen.print(f"! {notice.marked}", "yellow")
    if arguments.dry_run:
        for one in plan.additions:
            screen.print(f"{one.what:<8}{one.path.relative_to(plan.into)}")
    elif made:
        note(screen, delivery, SHOT_FOLDERS, plan.into, counted(plan.shots, "shot"))
    names = {"folder": "folder", "link": "link", "copy": "copy", "still": "still", "order": "work order"}
    parts = [f"{count} {names[what]}{'s' if count > 1 else ''}" for what, count in plan.counts.items()]
    added = f"{', '.join(parts)} {'to add' if arguments.dry_run else 'added'}" if parts else "nothing new"
    there = f"; {plan.there} there already" if plan.there else ""
    screen.print(f"{arguments.into}: {counted(plan.shots, 'shot')}, {added}{there}", "bold green")
    if arguments.json:
        print_json({
            "into": str(plan.into), "shots": plan.shots, "there": plan.there, "dry_run": arguments.dry_run,
            "added": [{"what": one.what, "path": str(one.path)} for one in plan.additions],
            "notices": [notice_as_json(one) for one in plan.notices],
        }, "shot-folders")  # fmt: skip
    return 0
