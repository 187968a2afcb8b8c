"""What the commands on finished files share: the delivery they take, progress, the line in the log."""

from __future__ import annotations

import argparse
import contextlib
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator, Sequence
    from pathlib import Path

    from boxkite.cli.screen import Screen
    from boxkite.core.handover.delivery import Delivery


def add_delivery(parser: argparse.ArgumentParser) -> None:
    """The batch or folder, and JSON."""
    parser.add_argument(
        "delivery", nargs="?", default="last", metavar="BATCH|FOLDER",
        help="a batch by its name, or a folder (default: last, the last batch)",
    )  # fmt: skip


def add_existing(parser: argparse.ArgumentParser) -> None:
    """What happens where the name is taken."""
    parser.add_argument(
        "--existing", metavar="POLICY", choices=("stop", "number", "replace"), default="stop",
        help="where the name is taken: stop, number or replace (default: stop)",
    )  # fmt: skip


@contextlib.contextmanager
def bytes_progress(screen: Screen, what: str, total: int) -> Iterator[Callable[[int], None]]:
    """A bar for so many bytes, in a window; a function that takes how many more were read."""
    if not screen.is_terminal:
        yield lambda _: None
        return
    from rich.progress import BarColumn, DownloadColumn, Progress, TextColumn, TransferSpeedColumn

    with Progress(
        TextColumn("{task.description}"), BarColumn(), DownloadColumn(), TransferSpeedColumn(),
        console=screen.console, transient=True,
    ) as progress:  # fmt: skip
        task = progress.add_task(what, total=total or None)
        yield lambda read: progress.advance(task, read)


@contextlib.contextmanager
def count_progress(screen: Screen, what: str, total: int) -> Iterator[Callable[[], None]]:
    """A bar for so many things, in a window; a function to call after each."""
    if not screen.is_terminal:
        yield lambda: None
        return
    from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn, TimeRemainingColumn

    with Progress(
        TextColumn("{task.description}"), BarColumn(), MofNCompleteColumn(), TimeRemainingColumn(),
        console=screen.console, transient=True,
    ) as progress:  # fmt: skip
        task = progress.add_task(what, total=total or None)
        yield lambda: progress.advance(task)


def note(
    screen: Screen,
    delivery: Delivery,
    kind: str,
    path: Path | None,
    outcome: str = "",
    also: Sequence[Path] = (),
) -> None:
    """Note what was written, and in the logs of the batches what was done with their files.

    Where that fails it is reported and no more.
    """
    from boxkite.cli.options import current_user
    from boxkite.core.errors import RecordsError
    from boxkite.core.records.handovers import Handover, note_handover
    from boxkite.core.records.journal import now_text
    from boxkite.core.records.store import Records

    if path is None and not Records.are_kept():
        return
    try:
        with Records() as records:
            handover = Handover(now_text(), current_user(), kind, path, outcome)
            note_handover(records, handover, delivery.batches, also)
    except RecordsError as error:
        screen.print(f"! it is not in the log: {error.text}", "yellow")


def unseen_lines(delivery: Delivery) -> list[str]:
    """What could not be looked into, a line each."""
    return [f"{one.path}: {one.reason}" for one in delivery.unseen]


def run_steps_of(screen: Screen, name: str, *, is_held: bool = False) -> int:
    """Do the steps that follow once all files of a batch are made, a line each; the exit status.

    is_held: whether this process holds the batch already.
    """
    from boxkite.core.records.batch_lock import BatchLock
    from boxkite.core.records.steps import has_steps_left
    from boxkite.core.records.store import Records

    if not name or not Records.are_kept():
        return 0
    with Records() as records:
        if not has_steps_left(records, name):
            return 0
        if not is_held:
            with BatchLock(records.folder, name):  # nobody resumes it meanwhile
                return run_steps_of(screen, name, is_held=True)
    from boxkite.cli.options import current_user
    from boxkite.core.handover.after.running import run_steps  # loads all that steps need

    status = 0
    with screen.status("") as at_work:
        for event in run_steps(name, current_user()):
            if event.state == "begun":
                at_work.update(f"{event.kind} is under way")
            elif event.state == "done":
                where = f": {', '.join(event.paths)}" if event.paths else ""
                screen.print(f"{event.kind}{where} ({event.outcome})", "green")
            else:
                screen.print(f"{event.kind} failed: {event.outcome}", "red")
                screen.print(f"the files stay; boxkite resume {name} does it again, and what follows it")
                status = 1
    return status
