"""Make the files of a plan, several shots at once, and verify each before it gets its name."""

from __future__ import annotations

import argparse
import contextlib
import sys
import time
from typing import TYPE_CHECKING

from boxkite.cli.batch_options import (
    add_batch_arguments,
    cluster_from,
    executor_from,
    notifications_from,
    options_kept_nowhere,
    turn_from,
    without_secrets,
    workers_from,
)
from boxkite.cli.handover import run_steps_of
from boxkite.cli.options import add_job_arguments, job_from
from boxkite.cli.plan_command import plan_with_progress
from boxkite.cli.screen import Screen

if TYPE_CHECKING:
    from collections.abc import Generator, Sequence

    from boxkite.cli.progress import LinesProgress
    from boxkite.cli.window_progress import WindowProgress
    from boxkite.core.batch.events import Event, FileEnded
    from boxkite.core.batch.executors.executor import Executor
    from boxkite.core.batch.outcome import Outcome
    from boxkite.core.batch.recording import Batch
    from boxkite.core.plan.rows import Plan, Row

EXAMPLES = """\
examples:
  boxkite run mill.mov --marks mill.edl --to review:out/review
  boxkite run mill.mov --marks mill.edl --names "@marker" --to review:out/review --to stock:out/stock
  boxkite run card1/ --by files --to web:out/web --workers 1
  boxkite run mill.toml --cluster tcp://farm:8786
  boxkite run mill.toml --background --when-ended "notify-send mill done"
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """A job, and how to run it."""
    add_job_arguments(parser, "run")
    add_batch_arguments(parser)
    parser.add_argument(
        "--background",
        action="store_true",
        help="return at once; the batch keeps running when the terminal closes",
    )


def run(arguments: argparse.Namespace) -> int:
    """Run the plan; status 1 when files failed or were not begun."""
    if arguments.background:
        return _in_background(arguments)
    with executor_from(cluster_from(arguments), workers_from(arguments)) as executor:
        batch = _batch_from(arguments)
        assert batch.job
        return run_and_tell(
            plan_with_progress(batch.job),
            executor,
            batch,
            as_json=arguments.json,
            warnings=arguments.warnings,
        )


def _batch_from(arguments: argparse.Namespace) -> Batch:
    from boxkite.core.batch.recording import Batch

    job = job_from(arguments)
    return Batch(
        turn=turn_from(arguments),
        job=job,
        notifications=notifications_from(arguments),
        cluster=cluster_from(arguments),
        command_line=without_secrets(sys.argv[1:]),
    )


def run_and_tell(
    plan: Plan, executor: Executor, batch: Batch, *, as_json: bool, warnings: bool = False
) -> int:
    """Run a plan, show how it goes and what came of it; the exit status."""
    from boxkite.cli.tables import print_json
    from boxkite.core.batch.outcome import outcome_as_json

    screen = Screen(stderr=as_json)
    outcome = run_plan(screen, plan, executor, batch)
    if as_json:
        print_json(outcome_as_json(outcome), "run")
    else:
        show_summary(screen, outcome, warnings=warnings)
    return exit_status(outcome) or run_steps_of(screen, batch.name)


def run_plan(screen: Screen, plan: Plan, executor: Executor, batch: Batch) -> Outcome:
    """Run a plan with progress; what came of it."""
    from boxkite.core.batch.outcome import Outcome
    from boxkite.core.batch.recording import run_recorded

    started = time.monotonic()
    ended = follow_batch(screen, plan.to_make, run_recorded(plan, executor, batch), batch)
    return Outcome.of_plan(plan, batch, ended, time.monotonic() - started)


def exit_status(outcome: Outcome) -> int:
    """0 all well, 1 some files failed, were not begun or could not be seen, 130 stopped."""
    return 130 if outcome.batch.stopped else int(not outcome.is_complete)


def _in_background(arguments: argparse.Namespace) -> int:
    """Note the batch, and leave it to a separate process."""
    from boxkite.cli.tables import counted, print_json
    from boxkite.core.batch.background import resume_in_background
    from boxkite.core.batch.recording import begin_batch
    from boxkite.core.batch.sharing import fitting_workers
    from boxkite.core.machine import usable_cores
    from boxkite.core.records.store import Records

    batch = _batch_from(arguments)
    assert batch.job
    plan = plan_with_progress(batch.job)
    if not plan.to_make:
        Screen().print("nothing to do", "bold green")
        return 0
    with Records() as records:
        if batch.cluster:
            with executor_from(batch.cluster, arguments.workers) as executor:
                executor.prepare(plan.to_make)
                begin_batch(plan, batch, records, executor.size, cores=executor.cores)
        else:
            workers = workers_from(arguments) or fitting_workers(plan.to_make, usable_cores())
            begin_batch(plan, batch, records, workers)
        process = resume_in_background(records, batch.name, options_kept_nowhere(arguments))
    if arguments.json:
        print_json({"batch": batch.name, "process": process, "files": len(plan.to_make)}, "background")
        return 0
    screen = Screen()
    screen.print(f"batch {batch.name} runs in the background: {counted(len(plan.to_make), 'file')}", "bold")
    screen.print(f"boxkite status {batch.name} --follow shows it; boxkite stop {batch.name} stops it")
    return 0


def _progress_of(screen: Screen, rows: Sequence[Row]) -> WindowProgress | LinesProgress:
    if screen.is_terminal:
        from boxkite.cli.window_progress import WindowProgress  # and the library that draws

        return WindowProgress(screen, rows)
    from boxkite.cli.progress import LinesProgress

    return LinesProgress(screen, rows)


def follow_batch(
    screen: Screen, rows: Sequence[Row], events: Generator[Event, None, None], batch: Batch
) -> list[FileEnded]:
    """Follow a batch with progress on the terminal, or one line per file where there is none.

    Raises KeyboardInterrupt, with what makes the rest, where the user interrupts it.
    """
    from boxkite.core.batch.events import FileEnded

    ended: list[FileEnded] = []
    drawing = _progress_of(screen, rows)
    try:
        with drawing, contextlib.closing(events) as happening:
            for event in happening:
                drawing.show(event)
                if isinstance(event, FileEnded):
                    ended.append(event)
    except KeyboardInterrupt:
        rest = f"boxkite resume {batch.name} makes the rest" if batch.name else ""
        raise KeyboardInterrupt(rest) from None
    return sorted(ended, key=lambda event: event.row.number)


def show_summary(
    screen: Screen, outcome: Outcome, *, plan_shown: bool = False, warnings: bool = False
) -> None:
    """Print warnings, failures, and last what was made and where.

    plan_shown: the plan's warnings were printed just before. warnings: list every one, not one line per kind.
    """
    from boxkite.cli.tables import counted
    from boxkite.cli.warnings import warning_lines
    from boxkite.core.shots.choosing import why

    batch = outcome.batch
    found = [("", "", notice) for notice in (() if plan_shown else outcome.plan_notices)]
    for event in outcome.ended:
        name = f"{event.row.name} ({event.row.preset.name})"
        of_file = (*(() if plan_shown else event.row.warnings), *event.result.warnings)
        found += [(str(event.row.number), name, warning) for warning in of_file]
    for line in warning_lines(found, in_full=warnings):
        screen.print(f"! {line}", "yellow")
    if outcome.left_out and not plan_shown:
        screen.print(f"{why(outcome.left_out)} (plan --left-out lists them)", "yellow")
    for notice in outcome.notices:
        screen.print(f"! {notice.marked}", "yellow")
    for event in outcome.failed:
        screen.print(f"failed: {event.row.path.name}: {event.result.failure}", "red")
    if outcome.failed and batch.name:
        screen.print(f"boxkite log {batch.name} --errors has the detail")
    if kept := len(outcome.rows) - len(outcome.to_make):
        screen.print(f"{counted(kept, 'file')} kept: identical files exist already")
    _show_what_was_made(screen, outcome)
    for folder in dict.fromkeys(str(row.folder) for row in outcome.rows):
        screen.print(f"in {folder}")
    if batch.name:
        screen.print(f"batch {batch.name}; plan --since {batch.name} shows what changes later")
    _show_what_is_left(screen, outcome)


def _show_what_was_made(screen: Screen, outcome: Outcome) -> None:
    from boxkite.cli.tables import counted, file_size

    if not outcome.to_make:
        screen.print("nothing to do", "bold green")
        return
    verified, failed = outcome.verified, outcome.failed
    size = sum(event.result.verification.size_bytes for event in verified if event.result.verification)
    frames = sum(event.row.frames for event in verified)
    speed = f", {frames / outcome.seconds:.0f} fps" if outcome.seconds > 0 else ""
    screen.print(
        f"{counted(len(verified), 'file')} verified, {len(failed)} failed:"
        f" {file_size(size)}, {counted(frames, 'frame')} in {outcome.seconds:.1f} s{speed}",
        "bold green" if not failed else "bold red",
    )


def _show_what_is_left(screen: Screen, outcome: Outcome) -> None:
    """Print how many files were not begun, and what to do about it."""
    from boxkite.cli.tables import counted, file_size

    batch, left = outcome.batch, counted(outcome.not_begun, "file")
    if batch.out_of_space:
        out_of_space = batch.out_of_space
        screen.print(
            f"! {left} not begun: {out_of_space.folder} has {file_size(out_of_space.free_bytes)} left;"
            f" make room, then: boxkite resume {batch.name}",
            "bold yellow",
        )
    elif batch.stopped:
        screen.print(f"stopped: {left} left; boxkite resume {batch.name} makes them", "bold yellow")
