"""Go on with a batch that was stopped, killed or ran out of room: only what is missing is made."""

from __future__ import annotations

import argparse
import time
from typing import TYPE_CHECKING

from boxkite.cli.batch_options import (
    add_batch_arguments,
    cluster_from,
    executor_from,
    notifications_from,
    options_kept_nowhere,
)
from boxkite.cli.handover import run_steps_of
from boxkite.cli.screen import Screen

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
        "batch", nargs="?", metavar="BATCH", help="its name, or last (default: the last unfinished one)"
    )
    parser.add_argument(
        "--accept-changes", action="store_true", help="also make files whose sources have changed since"
    )
    parser.add_argument(
        "--missing",
        action="store_true",
        help="make verified files again that are now missing",
    )
    parser.add_argument(
        "--background",
        action="store_true",
        help="return at once; the batch keeps running when the terminal closes",
    )
    add_batch_arguments(parser)
    parser.add_argument("--json", action="store_true", help="print JSON instead of tables")


def run(arguments: argparse.Namespace) -> int:
    """Make what is missing; status 1 when files failed or were not begun."""
    from boxkite.core.records.batch_lock import BatchLock
    from boxkite.core.records.journal import Journal
    from boxkite.core.records.store import Records

    with Records() as records:
        name = _name(records, arguments.batch)
        if arguments.background:
            from boxkite.core.batch.background import resume_in_background

            with BatchLock(records.folder, name):  # nobody else resumes it
                Journal(records, name).batch_is("waiting")
            resume_in_background(records, name, options_kept_nowhere(arguments))
            Screen().print(f"batch {name} is resumed in the background", "bold")
            return 0
        with BatchLock(records.folder, name):
            return _go_on(arguments, records, name)


def _go_on(arguments: argparse.Namespace, records: Records, name: str) -> int:
    from boxkite.cli.run_command import exit_status, follow_batch, show_summary
    from boxkite.cli.tables import counted, print_json
    from boxkite.core.batch.outcome import Outcome, outcome_as_json
    from boxkite.core.batch.recording import resume_batch
    from boxkite.core.batch.resuming import rest_of

    rest = rest_of(records, name, accept_changes=arguments.accept_changes, missing=arguments.missing)
    batch = _batch(arguments, rest)
    screen = Screen(stderr=arguments.json)
    rows = tuple(
        sorted((*rest.work.rows, *(row for row, _ in rest.work.refused)), key=lambda row: row.number)
    )
    if not arguments.json:
        begins = f"batch {name}: {counted(rest.done, 'file')} verified before, {len(rows)} to be made"
        screen.print(begins, "bold")
        for notice in rest.notices:
            screen.print(f"! {notice.marked}", "yellow")
    started = time.monotonic()
    workers = arguments.workers or (None if batch.cluster else rest.record.workers)
    with executor_from(batch.cluster, workers) as executor:
        if rest.work.rows:
            batch.notices += executor.prepare(rest.work.rows)
        ended = follow_batch(screen, rows, resume_batch(records, rest.work, executor, batch), batch)
    outcome = Outcome(batch, rows, tuple(ended), time.monotonic() - started, rest.notices)
    if arguments.json:
        print_json({**outcome_as_json(outcome), "verified_before": rest.done}, "run")
    elif rows:
        show_summary(screen, outcome, plan_shown=True)
    return exit_status(outcome) or run_steps_of(screen, name, is_held=True)


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
    from boxkite.core.notices.batches import CLUSTER_NOT_KEPT, COMMAND_NOT_KEPT, WEB_HOOK_NOT_KEPT

    turn = arguments.turn or rest.record.settings.get("turn")
    batch = Batch(
        turn="share" if turn == "share" else "wait",
        notifications=notifications_from(arguments),
        cluster=cluster_from(arguments),
        name=rest.record.name,
    )
    given = {
        "command": batch.notifications.command,
        "web hook": batch.notifications.web_hook,
        "cluster": batch.cluster,
    }
    kinds = {"command": COMMAND_NOT_KEPT, "web hook": WEB_HOOK_NOT_KEPT, "cluster": CLUSTER_NOT_KEPT}
    asked = rest.record.settings.get("asked", ())
    batch.notices += [kind() for what, kind in kinds.items() if what in asked and not given[what]]
    return batch
