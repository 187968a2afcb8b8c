"""Draw a contact sheet of files, finished or planned: PDF pages with real text, or PNG pages."""

from __future__ import annotations

import argparse

from boxkite.cli.handover import add_existing, count_progress, note
from boxkite.cli.screen import Screen

EXAMPLES = """\
examples:
  boxkite contact-sheet --into shots.pdf
  boxkite contact-sheet 2026-11-23.1 --frames 3 --portrait --into shots.pdf
  boxkite contact-sheet card/ --metadata slates.csv --line "@clip" --line "@scene @take" --into card.pdf
  boxkite contact-sheet out/review --title "A Hundred Sheets" --page screen --into shots.png

Each file gets a frame that is not black, not blurred and not in a fade. Files of a batch that
are not made yet are drawn from their sources.
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Of what, how it looks, where to."""
    lines = "@name, @length · @start, [@keywords · ]@note"
    parser.add_argument(
        "what", nargs="*", default=["last"], metavar="BATCH|FOLDER|FILE",
        help="a batch by its name, a folder, or files (default: last, the last batch)",
    )  # fmt: skip
    parser.add_argument("--into", metavar="FILE", default="contact-sheet.pdf",
                        help=".pdf, or .png for a file per page (default: contact-sheet.pdf)")  # fmt: skip
    parser.add_argument("--title", metavar="TEXT", help="above each page (default: the batch or folder)")
    parser.add_argument("--frames", type=int, choices=(1, 3), default=1, metavar="1|3",
                        help="one good frame of each file, or first, middle and last (default: 1)")  # fmt: skip
    parser.add_argument("--line", action="append", metavar="PATTERN",
                        help=f"a line below each file (repeatable; default: {lines})")  # fmt: skip
    parser.add_argument("--preset", metavar="NAME", help="only files of this preset")
    parser.add_argument("--page", choices=("a4", "a3", "letter", "screen"), default="a4", metavar="SIZE",
                        help="a4, a3, letter or screen (default: a4)")  # fmt: skip
    parser.add_argument("--portrait", action="store_true", help="upright pages (default: on their side)")
    parser.add_argument("--columns", type=int, metavar="N", help="files side by side (default: by the page)")
    parser.add_argument("--metadata", metavar="FILE", action="append", default=[],
                        help="a table about the files or sources; its columns become tokens (repeatable)")  # fmt: skip
    add_existing(parser)
    parser.add_argument("--json", action="store_true", help="print JSON instead of lines")


def run(arguments: argparse.Namespace) -> int:
    """Draw it."""
    from boxkite.cli.options import current_user
    from boxkite.cli.tables import counted, print_json
    from boxkite.core.files.reading import path_from
    from boxkite.core.handover.delivery import delivery_of_paths
    from boxkite.core.handover.described import describe
    from boxkite.core.handover.sheets import SHEET_LINES, SheetRequest, make_sheet

    screen = Screen(stderr=arguments.json)
    request = SheetRequest(
        path_from(arguments.into), arguments.title, arguments.line or SHEET_LINES, arguments.preset or "",
        arguments.page, not arguments.portrait, arguments.frames, arguments.columns, arguments.existing,
    )  # fmt: skip
    request.require_form()
    delivery = delivery_of_paths(arguments.what)
    tables = [path_from(path) for path in arguments.metadata]
    described = describe(delivery, tables, user=current_user(), with_planned=True)
    paths, count = make_sheet(
        delivery, described, request, lambda total: count_progress(screen, "looking for good frames", total)
    )
    for path in paths:
        note(screen, delivery, "contact sheet", path.absolute(), counted(count, "file"))
    for notice in described.notices:
        screen.print(f"! {notice.marked}", "yellow")
    pages_text = f", {counted(len(paths), 'page')}" if request.into.suffix.lower() == ".png" else ""
    screen.print(f"{paths[0]}: {counted(count, 'file')}{pages_text}", "bold green")
    if arguments.json:
        print_json({"files": count, "pages": [str(path) for path in paths]}, "contact-sheet")
    return 0
