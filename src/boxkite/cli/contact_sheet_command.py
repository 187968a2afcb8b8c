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
LINES = ("@name", "@length · @start", "[@keywords · ]@note")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Of what, how it looks, where to."""
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
                        help=f"a line below each file (repeatable; default: {', '.join(LINES)})")  # fmt: skip
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
    from boxkite.core.errors import RequestError
    from boxkite.core.files.reading import path_from
    from boxkite.core.handover.contact_sheet import FORMS, SheetOptions, draw_sheet
    from boxkite.core.handover.delivery import delivery_of_paths
    from boxkite.core.handover.described import describe
    from boxkite.core.handover.written import free_path, write
    from boxkite.core.naming.pattern import check_tokens, read_text_pattern

    screen = Screen(stderr=arguments.json)
    into = path_from(arguments.into)
    form = into.suffix.lower()
    if form not in FORMS:
        raise RequestError(f"a contact sheet is written as {' or '.join(FORMS)}", path=into)
    if arguments.columns is not None and not 1 <= arguments.columns <= 12:
        raise RequestError("--columns: 1 to 12")
    delivery = delivery_of_paths(arguments.what)
    tables = [path_from(path) for path in arguments.metadata]
    described = describe(delivery, tables, user=current_user(), with_planned=True)
    lines = tuple(read_text_pattern(text) for text in arguments.line or LINES)
    for line in lines:
        check_tokens(line, described.tokens)
    files = [
        one
        for one in described.files
        if not arguments.preset or one.values["preset"].shown() == arguments.preset
    ]
    if not files:
        known = sorted({one.values["preset"].shown() for one in described.files} - {""})
        raise RequestError(
            f"no file is of the preset “{arguments.preset}”", hint=f"there are: {', '.join(known)}"
        )
    options = SheetOptions(
        title=arguments.title if arguments.title is not None else delivery.title, page=arguments.page,
        landscape=not arguments.portrait, frames=arguments.frames, columns=arguments.columns, lines=lines,
    )  # fmt: skip
    if form == ".pdf":
        free_path(into, arguments.existing)
    with count_progress(screen, "looking for good frames", len(files)) as progress:
        pages = draw_sheet(files, options, form, progress)
    digits = len(str(len(pages)))
    paths = [into] if len(pages) == 1 else [
        into.with_name(f"{into.stem}-{number:0{digits}d}{into.suffix}") for number in range(1, len(pages) + 1)
    ]  # fmt: skip
    paths = [free_path(path, arguments.existing) for path in paths]
    for path, content in zip(paths, pages, strict=True):
        write(path, content, arguments.existing)
        note(screen, delivery, "contact sheet", path.absolute(), counted(len(files), "file"))
    for notice in described.notices:
        screen.print(f"! {notice.marked}", "yellow")
    pages_text = f", {counted(len(paths), 'page')}" if form == ".png" else ""
    screen.print(f"{paths[0]}: {counted(len(files), 'file')}{pages_text}", "bold green")
    if arguments.json:
        print_json({"files": len(files), "pages": [str(path) for path in paths]}, "contact-sheet")
    return 0
