"""Write a review page: a folder with light files, posters and a player, for verdicts and notes in any browser."""

from __future__ import annotations

import argparse

from boxkite.cli.handover import add_delivery, count_progress, note
from boxkite.cli.screen import Screen

EXAMPLES = """\
examples:
  boxkite review-page --into page
  boxkite review-page 2026-11-23.1 --section "@scene" --title "A Hundred Sheets" --into page
  boxkite review-page out/review --metadata slates.csv --line "@clip" --line "@scene @take" --into page
  boxkite mark import review.json

Open page/index.html, or put the folder on a web server. The client plays, writes notes on frames,
draws, says good or not good, and saves one file; boxkite mark import takes it back as marks.
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Of what, how it looks, where to."""
    lines = "@(marker|clip|name), @length · @start, [@keywords · ]@note"
    add_delivery(parser)
    parser.add_argument(
        "--into", metavar="FOLDER", default="page", help="the folder to write (default: page)"
    )
    parser.add_argument("--title", metavar="TEXT", help="its heading (default: the batch or folder)")
    parser.add_argument("--section", metavar="PATTERN", default="[scene @scene]",
                        help="shots of one result stand under one heading (default: [scene @scene])")  # fmt: skip
    parser.add_argument("--line", action="append", metavar="PATTERN",
                        help=f"a line below each shot (repeatable; default: {lines})")  # fmt: skip
    parser.add_argument("--metadata", metavar="FILE", action="append", default=[],
                        help="a table about the files or sources; its columns become tokens (repeatable)")  # fmt: skip
    parser.add_argument("--existing", metavar="POLICY", choices=("stop", "replace"), default="stop",
                        help="where there is a page already: stop or replace (default: stop)")  # fmt: skip
    parser.add_argument("--json", action="store_true", help="print JSON instead of lines")


def run(arguments: argparse.Namespace) -> int:
    """Write it."""
    from boxkite.cli.options import current_user
    from boxkite.cli.tables import counted, print_json
    from boxkite.core.files.reading import path_from
    from boxkite.core.handover.delivery import delivery_of
    from boxkite.core.handover.described import describe
    from boxkite.core.handover.review_page import check_place
    from boxkite.core.handover.sheets import PAGE_LINES, PageRequest, make_page

    screen = Screen(stderr=arguments.json)
    into = path_from(arguments.into).absolute()
    check_place(into, arguments.existing)
    delivery = delivery_of(arguments.delivery)
    described = describe(delivery, [path_from(path) for path in arguments.metadata], user=current_user())
    request = PageRequest(
        into, arguments.title, arguments.section, arguments.line or PAGE_LINES, arguments.existing
    )
    shots = make_page(delivery, described, request, lambda total: count_progress(screen, "posters", total))
    note(screen, delivery, "review page", into, counted(len(shots), "shot"))
    for notice in described.notices:
        screen.print(f"! {notice.marked}", "yellow")
    without = len({one.row.shot.span for one in described.files if one.row}) - len(shots)
    if without > 0 and delivery.is_batch:
        screen.print(f"! {counted(without, 'shot')} without a file that browsers play", "yellow")
    screen.print(f"{into / 'index.html'}: {counted(len(shots), 'shot')}", "bold green")
    if arguments.json:
        print_json(
            {"page": str(into / "index.html"), "shots": [
                {"id": shot.identity, "file": str(shot.light.file.path), "section": shot.section} for shot in shots
            ]},
            "review-page",
        )  # fmt: skip
    return 0
