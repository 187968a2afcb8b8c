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
LINES = ("@(marker|clip|name)", "@length · @start", "[@keywords · ]@note")
FACTS = ("@filename", "@resolution, @fps fps[, @camera]", "[scene @scene][, take @take]")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Of what, how it looks, where to."""
    add_delivery(parser)
    parser.add_argument(
        "--into", metavar="FOLDER", default="page", help="the folder to write (default: page)"
    )
    parser.add_argument("--title", metavar="TEXT", help="its heading (default: the batch or folder)")
    parser.add_argument("--section", metavar="PATTERN", default="[scene @scene]",
                        help="shots of one result stand under one heading (default: [scene @scene])")  # fmt: skip
    parser.add_argument("--line", action="append", metavar="PATTERN",
                        help=f"a line below each shot (repeatable; default: {', '.join(LINES)})")  # fmt: skip
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
    from boxkite.core.handover.review_page import PageOptions, check_place, review_shots, write_page
    from boxkite.core.naming.pattern import check_tokens, read_text_pattern

    screen = Screen(stderr=arguments.json)
    into = path_from(arguments.into).absolute()
    check_place(into, arguments.existing)
    delivery = delivery_of(arguments.delivery)
    described = describe(delivery, [path_from(path) for path in arguments.metadata], user=current_user())
    section = read_text_pattern(arguments.section)
    lines = tuple(map(read_text_pattern, arguments.line or LINES))
    facts = tuple(map(read_text_pattern, FACTS))
    for pattern in (section, *lines, *facts):
        check_tokens(pattern, described.tokens)
    shots = review_shots(described.files, section)
    title = arguments.title if arguments.title is not None else delivery.title
    options = PageOptions(title, section, lines, facts)
    with count_progress(screen, "posters", len(shots)) as progress:
        write_page(into, shots, options, delivery.label if delivery.is_batch else "", progress)
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
