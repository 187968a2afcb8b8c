"""Stop a batch that runs, or waits for its turn: after the files it is at, or at once."""

from __future__ import annotations

import argparse
import time

from boxkite.cli.screen import Screen

EXAMPLES = """\
examples:
  boxkite stop
  boxkite stop 2026-11-23.1 --now
"""
_EVERY_SECONDS = 0.2


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Which batch, and when."""
    parser.add_argument("batch", nargs="?", metavar="BATCH", help="its name (default: the running one)")
    parser.add_argument(
        "--now", action="store_true", help="do not finish the current files; they are removed"
    )
    parser.add_argument("--no-wait", action="store_true", help="return without waiting for it to stop")


def run(arguments: argparse.Namespace) -> int:
    """Ask it to stop, and wait until it has."""
    from boxkite.cli.tables import counted
    from boxkite.core.errors import RequestError
    from boxkite.core.records.batch_lock import is_held
    from boxkite.core.records.journal import Journal
    from boxkite.core.records.overview import alive, overviews
    from boxkite.core.records.store import Records

    screen = Screen()
    with Records() as records:
        running = [name for name, _ in alive(records)]
        if arguments.batch:
            name = records.batch(arguments.batch, with_files=False).name
        elif len(running) == 1:
            name = running[0]
        else:
            reason = f"several batches run: {', '.join(running)}" if running else "no batch runs"
            raise RequestError(reason, hint="name one of them" if running else "boxkite status lists all")
        if name not in running:
            raise RequestError(f"batch {name} is not running", hint="boxkite status lists all")
        Journal(records, name).ask_to_stop("now" if arguments.now else "after")
        if arguments.no_wait:
            screen.print(f"batch {name} is asked to stop")
            return 0
        while is_held(records.folder, name):
            time.sleep(_EVERY_SECONDS)
        one = overviews(records, (name,))[0]
        left = one.files - one.verified - one.failed
        screen.print(
            f"batch {name} has stopped: {counted(one.verified, 'file')} verified, {left} left;"
            f" boxkite resume {name} makes them",
        )
    return 0
