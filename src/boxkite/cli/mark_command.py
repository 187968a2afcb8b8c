"""Marks on footage and timelines: add, list, change, remove, import, export, detect. They live in marks.csv beside it.

Media are never touched. The table can be edited in any spreadsheet; plan and run use it with --by ranges or
--by markers when no --marks is given.
"""

from __future__ import annotations

import argparse
from collections.abc import Callable

EXAMPLES = """\
examples:
  boxkite mark add card/A-vat2.mov --in 10:12:05:12 --length 2s --name "slow dip" --keyword vat --circled
  boxkite mark list card/ --search dip
  boxkite mark change card/ --search dip --keyword hands --name "@marker_@(count:01)"
  boxkite mark remove card/A-vat2.mov --number 2
  boxkite mark import card/A-vat2.mov picks.csv
  boxkite mark export card/A-vat2.mov vat-marks.edl
  boxkite mark detect mill.mov --strip cuts.png
"""
_EXAMPLES = {line.split()[2]: f"example:\n{line}" for line in EXAMPLES.splitlines()[1:]}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The action and its options."""
    actions = parser.add_subparsers(dest="action", required=True, metavar="ACTION")
    add = _action(actions, "add", "add one mark to a source or timeline")
    add.add_argument("path", metavar="PATH", help="a media file or timeline")
    _add_times(add)
    add.add_argument("--name", default="", help="its name")
    _add_words(add)
    listing = _action(actions, "list", "list the marks of sources and folders")
    _add_paths(listing)
    listing.add_argument(
        "--search", metavar="TEXT", help="only marks with this text in name or note; * and ? are wildcards"
    )
    change = _action(actions, "change", "change names, keywords, notes or times of several marks at once")
    _add_paths(change)
    _add_choice(change)
    _add_times(change)
    change.add_argument("--name", metavar="PATTERN", help='new name, as "@marker_@(count:01)"')
    _add_words(change)
    change.add_argument("--not-circled", action="store_true", help="remove the circle")
    change.add_argument(
        "--drop-keyword", metavar="WORD", action="append", default=[], help="remove it (repeatable)"
    )
    remove = _action(actions, "remove", "remove marks")
    _add_paths(remove)
    _add_choice(remove)
    taking = _action(actions, "import", "import the marks of a list or an edit, or the file's chapters")
    taking.add_argument(
        "path", metavar="PATH", help="a media file or timeline, or a review saved by a review page"
    )
    taking.add_argument(
        "list",
        nargs="?",
        metavar="LIST",
        help=".csv, .tsv, .edl, .otio …; without one: the file's chapters, or the edit's own markers",
    )
    giving = _action(actions, "export", "export the marks of one source as a list in another format")
    giving.add_argument("path", metavar="PATH", help="a media file or timeline")
    giving.add_argument("file", metavar="FILE", help="file to write: .csv, .tsv, .edl or .otio")
    detect = _action(
        actions, "detect", "find the cuts in a finished file that has no list, as marks to check"
    )
    detect.add_argument("path", metavar="PATH", help="a media file")
    detect.add_argument("--strip", metavar="PNG", help="draw the frames on both sides of each cut")
    for one in actions.choices.values():
        one.add_argument(
            "--marks-rate", metavar="RATE", help="frame rate of lists that do not state one, in fps"
        )
    for one in actions.choices.values():
        one.add_argument(
            "--marks", metavar="FILE", help="the table to use instead of marks.csv beside the footage"
        )
        one.add_argument("--json", action="store_true", help="print JSON instead of tables")
        one.add_argument("--debug", action="store_true", default=argparse.SUPPRESS, help=argparse.SUPPRESS)


def _action(actions: argparse._SubParsersAction, name: str, summary: str) -> argparse.ArgumentParser:  # type: ignore[type-arg]
    parser: argparse.ArgumentParser = actions.add_parser(
        name, help=summary, description=summary, epilog=_EXAMPLES[name]
    )
    return parser


def _add_paths(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "paths", nargs="+", metavar="PATH", help="media files, timelines, or folders with a marks.csv"
    )


def _add_times(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--in", dest="start", default="", metavar="TIME", help="timecode, frames, or seconds as 4.5s"
    )
    parser.add_argument(
        "--out", dest="end", default="", metavar="TIME", help="the first frame after it; without one: a point"
    )
    parser.add_argument("--length", default="", metavar="TIME", help="length, instead of --out")


def _add_words(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--keyword", metavar="WORD", action="append", default=[], help="repeatable")
    parser.add_argument("--note", default=None, help="a note on it")
    parser.add_argument("--colour", default=None, help="colour of the marker")
    parser.add_argument("--circled", action="store_true", help="a good take")


def _add_choice(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--search", metavar="TEXT", help="marks with this text in name or note; * and ? are wildcards"
    )
    parser.add_argument("--number", metavar="N", help="marks with these numbers in the list: 3, 2-5, 1,4")
    parser.add_argument("--all", action="store_true", help="all marks")


def run(arguments: argparse.Namespace) -> int:
    """Do what was asked."""
    from boxkite.cli import mark_actions

    doing: dict[str, Callable[[argparse.Namespace], int]] = {
        "add": mark_actions.add_mark,
        "list": mark_actions.list_marks,
        "change": mark_actions.change_some,
        "remove": mark_actions.remove_marks,
        "import": mark_actions.import_list,
        "export": mark_actions.export_list,
        "detect": mark_actions.detect_cuts,
    }
    return doing[arguments.action](arguments)
