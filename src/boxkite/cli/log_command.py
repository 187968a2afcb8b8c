"""What happened in a batch, file by file: states, warnings, failures with their detail."""

from __future__ import annotations

import argparse
import time
from typing import TYPE_CHECKING

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
    parser.add_argument("--follow", action="store_true", help="go on until the batch ends")
    parser.add_argument("--json", action="store_true", help="print a line of JSON for each entry")


def run(arguments: argparse.Namespace) -> int:
    """Print the log."""
    from boxkite.cli.tables import make_console, print_line
    from boxkite.core.records.holding import is_held
    from boxkite.core.records.journal import Journal
    from boxkite.core.records.store import Records

    with Records() as records:
        name = records.batch(arguments.batch, with_files=False).name
        wanted = _wanted(records, name, arguments.files)
        journal, last, shown = Journal(records, name), 0, 0
        while True:
            held = arguments.follow and is_held(records.folder, name)
            for key, entry in journal.entries(errors=arguments.errors, after=last):
                last = key
                if not wanted or entry.number in wanted:
                    _print(entry, as_json=arguments.json, with_detail=arguments.errors)
                    shown += 1
            if not held:
                if not shown and not arguments.json:
                    what = "nothing failed" if arguments.errors else "nothing happened yet"
                    print_line(make_console(), f"{what} in batch {name}")
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


def _print(entry: Entry, *, as_json: bool, with_detail: bool) -> None:
    import json
    import sys
    from dataclasses import asdict

    from boxkite.cli.tables import make_console, print_line

    if as_json:
        sys.stdout.write(json.dumps(asdict(entry), ensure_ascii=False) + "\n")
        sys.stdout.flush()
        return
    console = make_console()
    name = entry.name or "batch"
    number = f"{entry.number:>4} " if entry.number else "     "
    if entry.kind == "detail":
        if with_detail:
            for line in entry.text.splitlines():
                print_line(console, f"       | {line}")
        return
    sign = {"warning": "! ", "failure": "failed: "}.get(entry.kind, "")
    style = (
        "red" if entry.kind == "failure" else "yellow" if sign else "green" if entry.text == "proved" else ""
    )
    print_line(console, f"{entry.at[11:23]} {number}{name}: {sign}{entry.text}", style)
