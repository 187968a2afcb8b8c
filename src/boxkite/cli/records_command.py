"""Move the record of a batch to another machine: to verify, send or resume it there."""

from __future__ import annotations

import argparse

from boxkite.cli.screen import Screen

EXAMPLES = """\
examples:
  boxkite records save last --into mill-batch.json
  boxkite records save 2026-11-23.1 --into mill-batch.json --for loft
  boxkite records load mill-batch.json
  boxkite status last --json > mill-batch.json

The file holds no secret and nothing that would be run. Folders that have other names on the
other machine are renamed by the rules of settings.toml, here with --for or there when it is loaded.
What status prints as JSON can be loaded too: enough to verify and send the files.
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Save or load."""
    actions = parser.add_subparsers(dest="action", required=True, metavar="save|load")
    save = actions.add_parser("save", help="write the record of a batch to a file")
    save.add_argument("batch", nargs="?", default="last", metavar="BATCH", help="its name (default: last)")
    save.add_argument("--into", metavar="FILE", required=True, help="the file to write (.json)")
    save.add_argument("--for", metavar="MACHINE", default="", dest="machine",
                      help="name the folders as this machine calls them")  # fmt: skip
    save.add_argument("--json", action="store_true", help="print JSON instead of lines")
    load = actions.add_parser("load", help="take in a record that was saved elsewhere")
    load.add_argument("file", metavar="FILE", help="what records save wrote, or status --json printed")
    load.add_argument(
        "--as", metavar="NAME", default="", dest="name", help="call it so here (default: as it was)"
    )
    load.add_argument("--json", action="store_true", help="print JSON instead of lines")


def run(arguments: argparse.Namespace) -> int:
    """Save or load it."""
    from boxkite.cli.tables import print_json
    from boxkite.core.batch.saved_batches import load_batch, save_batch
    from boxkite.core.files.reading import path_from
    from boxkite.core.records.store import Records

    screen = Screen(stderr=arguments.json)
    with Records() as records:
        if arguments.action == "save":
            into = path_from(arguments.into)
            name = save_batch(records, arguments.batch, into, machine=arguments.machine)
            screen.print(
                f"{into}: batch {name}; boxkite records load {into.name} takes it in elsewhere", "bold green"
            )
            taken = True
        else:
            name, taken = load_batch(records, path_from(arguments.file), name=arguments.name)
            there = "" if taken else " is on record already"
            screen.print(f"batch {name}{there}; boxkite verify {name} checks its files", "bold green")
    if arguments.json:
        print_json({"batch": name, "taken_in": taken}, "records")
    return 0
