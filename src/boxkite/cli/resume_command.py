"""Go on with a batch that was stopped, killed or ran out of room: only what is missing is made."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from boxkite.cli.batch_options import (
    add_batch_arguments,
    cluster_from,
    executor_from,
    notices_from,
    options_kept_nowhere,
)

if TYPE_CHECKING:
    from boxkite.core.batch.recording import Batch
    from boxkite.core.batch.resuming import Rest
    from boxkite.core.records.store import Records

EXAMPLES = """\
examples:
  boxkite resume
  boxkite resume 2026-11-23.1
  boxkite resume 2026-11-23.1 --background
  boxkite resume last --missing
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Which batch."""
    parser.add_argument(
        "batch", nargs="?", metavar="BATCH", help="its name, or last (default: the last that is unfinished)"
    )
    parser.add_argument(
        "--accept-changes", action="store_true", help="also make files of sources that have changed since"
    )
    parser.add_argument(
        "--missing",
        action="store_true",
        help="make files again that were verified and are not there any more",
    )
    parser.add_argument(
        "--background", action="store_true", help="return at once; it goes on when the terminal closes"
    )
    add_batch_arguments(parser)
    parser.add_argument("--json", action="store_true", help="print JSON instead of tables")


def run(arguments: argparse.Namespace) -> int:
    """Make what is missing; status 1 when files failed or were not begun."""
    from boxkite.core.records.batch_lock import Holding
    from boxkite.core.records.journal import Journal
    from boxkite.core.records.store import Records

    with Records() as records:
        name = _name(records, arguments.batch)
        if arguments.background:
            from boxkite.cli.tables import make_console, print_line
            from boxkite.core.batch.background import go_on_in_background

            with Holding(records.folder, name):  # nobody else goes on with it
                Journal(records, name).batch_is("waiting")
            go_on_in_background(records, name, options_kept_nowhere(arguments))
            print_line(make_console(), f"batch {name} goes on in the background", "bold")
            return 0
        with Holding(records.folder, name):
            return _go_on(arguments, records, name)


def _go_on(arguments: argparse.Namespace, records: Records, name: str) -> int:
    import time

    from boxkite.cli.run_command import batch_as_json, exit_status, make_files, show_summary
    from boxkite.cli.tables import counted, make_console, print_json, print_line
    from boxkite.core.batch.recording import go_on
    from boxkite.core.batch.resuming import rest_of
    from boxkite.core.plan.rows import Plan

    rest = rest_of(records, name, accept_changes=arguments.accept_changes, missing=arguments.missing)
    batch = _batch(arguments, rest)
    console = make_console(stderr=arguments.json)
    rows = sorted((*rest.work.rows, *(row for row, _ in rest.work.refused)), key=lambda row: row.number)
    plan = Plan(tuple(rows), rest.said, (), (), rest.record.pattern, version=rest.record.version)
    if not arguments.json:
        said = f"batch {name}: {counted(rest.done, 'file')} verified before, {len(rows)} to be made"
        print_line(console, said, "bold")
        for line in rest.said:
            print_line(console, f"! {line}", "yellow")
    started = time.monotonic()
    workers = arguments.workers or (None if batch.cluster else rest.record.workers)
    with executor_from(batch.cluster, workers) as executor:
        if rest.work.rows:
            batch.said += executor.prepare(rest.work.rows)
        ended = make_files(console, plan, executor, batch, go_on(records, rest.work, executor, batch))
    seconds = time.monotonic() - started
    if arguments.json:
        print_json({**batch_as_json(plan, ended, seconds, batch), "verified_before": rest.done})
    elif rows:
        show_summary(console, plan, ended, seconds, batch, warnings=False)
    return exit_status(ended, batch, plan)


def _name(records: Records, wanted: str | None) -> str:
    from boxkite.core.errors import RecordsError
    from boxkite.core.records.overview import unfinished

    if wanted:
        return records.batch(wanted, with_files=False).name
    found = unfinished(records)
    if not found:
        raise RecordsError("no batch is unfinished", hint="boxkite status lists them all")
    return found[0].name


def _batch(arguments: argparse.Namespace, rest: Rest) -> Batch:
    from boxkite.core.batch.recording import Batch

    turn = arguments.turn or rest.record.settings.get("turn")
    batch = Batch(
        turn="share" if turn == "share" else "wait",
        notices=notices_from(arguments),
        cluster=cluster_from(arguments),
        name=rest.record.name,
    )
    given = {"command": batch.notices.command, "web hook": batch.notices.web_hook, "cluster": batch.cluster}
    words = {
        "command": "a command was to be run at its end: --when-ended gives it again",
        "web hook": "a web address was to be told of its end: --web-hook gives it again",
        "cluster": "it was begun on a cluster and is made on this machine now: --cluster gives it again",
    }
    asked = rest.record.settings.get("asked", ())
    batch.said += [text for what, text in words.items() if what in asked and not given[what]]
    return batch
