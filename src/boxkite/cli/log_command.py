"""The log of a batch, file by file: states, warnings, failures with their detail."""

from __future__ import annotations

import argparse
import time
from typing import TYPE_CHECKING, Any

from msgspec.structs import asdict

from boxkite.cli.screen import Screen

if TYPE_CHECKING:
    from boxkite.core.records.record import Entry
    from boxkite.core.records.store import Records

EXAMPLES = """\
examples:
  boxkite log
  boxkite log last --errors
  boxkite log 2026-11-23.1 dip.mov 7
  boxkite log last --follow
"""
_EVERY_SECONDS = 0.5


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Of what."""
    parser.add_argument("batch", nargs="?", default="last", metavar="BATCH", help="its name (default: last)")
    parser.add_argument(
        "files", nargs="*", metavar="FILE", help="only these files, by name or number in the plan"
    )
    parser.add_argument("--errors", action="store_true", help="only failures, with their detail")
    parser.add_argument("--follow", action="store_true", help="keep printing until the batch ends")
    parser.add_argument("--json", action="store_true", help="print one line of JSON per entry")


def run(arguments: argparse.Namespace) -> int:
    """Print the log."""
    from boxkite.cli.tables import print_json_lines
    from boxkite.core.records.batch_lock import is_held
    from boxkite.core.records.journal import Journal
    from boxkite.core.records.store import Records

    screen = Screen()
    with Records() as records:
        name = records.batch(arguments.batch, with_files=False).name
        wanted = _wanted(records, name, arguments.files)
        journal, last, shown = Journal(records, name), 0, 0
        while True:
            held = arguments.follow and is_held(records.folder, name)
            lines: list[tuple[str, str]] = []
            values: list[Any] = []
            for key, entry in journal.entries(errors=arguments.errors, after=last):
                last = key
                if not wanted or entry.number in wanted:
                    values += [asdict(entry)]
                    lines += [] if arguments.json else _lines_of(entry, with_detail=arguments.errors)
                    shown += 1
            if arguments.json:
                print_json_lines(values)
            screen.print_lines(lines, wrapped=False)
            if not held:
                if not shown and not arguments.json:
                    what = "nothing failed" if arguments.errors else "nothing happened yet"
                    screen.print(f"{what} in batch {name}")
                return 0
            time.sleep(_EVERY_SECONDS)


def _wanted(records: Records, name: str, files: list[str]) -> set[int]:
    """The numbers of the files that are asked for. Raises RequestError for one that is not in the batch."""
    from boxkite.core.errors import RequestError
    from boxkite.core.suggest import did_you_mean

    if not files:
        return set()
    known = {file.number: file.path.name for file in records.batch(name).files}
    found = set()
    for file in files:
        numbers = {int(file)} & known.keys() if file.isdigit() else set()
        numbers = numbers or {number for number, one in known.items() if one == file}
        if not numbers:
            hint = did_you_mean(file, list(known.values())) or f"boxkite status {name} --files lists them"
            raise RequestError(f"there is no file “{file}” in batch {name}", hint=hint)
        found |= numbers
    return found


def _lines_of(entry: Entry, *, with_detail: bool) -> list[tuple[str, str]]:
    """An entry as lines, each with its style."""
    if entry.kind == "detail":
        return [(f"       | {line}", "") for line in entry.text.splitlines()] if with_detail else []
    number = f"{entry.number:>4} " if entry.number else "     "
    lead = {"warning": "! ", "failure": "failed: ", "used": "from "}.get(entry.kind, "")
    style = (
        "red"
        if entry.kind == "failure"
        else "yellow"
        if entry.kind == "warning"
        else "green"
        if entry.text == "verified"
        else ""
    )
    return [(f"{entry.at[11:23]} {number}{entry.name or 'batch'}: {lead}{entry.text}", style)]
