"""Remove the record of batches; the files they made stay where they are."""

from __future__ import annotations

import argparse

from boxkite.cli.screen import Screen

EXAMPLES = """\
examples:
  boxkite forget 2026-11-23.1
  boxkite forget --older-than 90

--existing skip and --since no longer know a batch that is forgotten, and it cannot be resumed.
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Which batches."""
    parser.add_argument("batches", nargs="*", metavar="BATCH", help="batches by name")
    parser.add_argument(
        "--older-than", type=int, metavar="DAYS", help="all that began at least this many days ago"
    )


def run(arguments: argparse.Namespace) -> int:
    """Forget them; one that runs is never forgotten."""
    from datetime import datetime, timedelta

    from boxkite.cli.tables import counted
    from boxkite.core.errors import RequestError
    from boxkite.core.records.batch_lock import is_held, remove_lock
    from boxkite.core.records.journal import Journal
    from boxkite.core.records.overview import overviews
    from boxkite.core.records.store import Records

    if not arguments.batches and arguments.older_than is None:
        raise RequestError(
            "no batch is named", hint="boxkite status lists them; --older-than 90 takes the old ones"
        )
    with Records() as records:
        names = [records.batch(name, with_files=False).name for name in arguments.batches]
        if arguments.older_than is not None:
            before = datetime.now() - timedelta(days=arguments.older_than)
            names += [
                one.name for one in overviews(records, latest=-1) if one.started < before and not one.held
            ]
        names = list(dict.fromkeys(names))
        for name in names:
            if is_held(records.folder, name):
                raise RequestError(f"batch {name} is running", hint=f"boxkite stop {name} stops it")
        for name in names:
            Journal(records, name).forget()
            remove_lock(records.folder, name)
    Screen().print(f"{counted(len(names), 'batch')} forgotten; the files stay")
    return 0
