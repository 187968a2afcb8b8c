"""Make the files of a plan, several shots at once, and verify each before it gets its name."""

from __future__ import annotations

import argparse
import contextlib
import sys
import time
from typing import TYPE_CHECKING, Any

from boxkite.cli.batch_options import (
    add_batch_arguments,
    cluster_from,
    executor_from,
    notices_from,
    options_kept_nowhere,
    turn_from,
    workers_from,
)
from boxkite.cli.options import add_job_arguments, job_from
from boxkite.cli.plan_command import plan_with_progress

if TYPE_CHECKING:
    from collections.abc import Generator

    from rich.console import Console

    from boxkite.core.batch.events import Event, FileEnded
    from boxkite.core.batch.executors.executor import Executor
    from boxkite.core.batch.recording import Batch
    from boxkite.core.plan.rows import Plan

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
        "--background", action="store_true", help="return at once; it goes on when the terminal closes"
    )


def run(arguments: argparse.Namespace) -> int:
    """Run the plan; status 1 when files failed or were not begun."""
    if arguments.background:
        return _in_background(arguments)
    with executor_from(cluster_from(arguments), workers_from(arguments)) as executor:
        batch = _batch_from(arguments)
        assert batch.job
        return run_and_tell(plan_with_progress(batch.job), executor, batch, as_json=arguments.json)


def _batch_from(arguments: argparse.Namespace) -> Batch:
    from boxkite.core.batch.recording import Batch

    job = job_from(arguments)
    return Batch(
        turn=turn_from(arguments),
        job=job,
        notices=notices_from(arguments),
        cluster=cluster_from(arguments),
        words={"typed": sys.argv[1:]},
    )


def run_and_tell(plan: Plan, executor: Executor, batch: Batch, *, as_json: bool) -> int:
    """Run a plan, show how it goes and what came of it; the exit status."""
    from boxkite.cli.tables import make_console, print_json

    console = make_console(stderr=as_json)
    started = time.monotonic()
    ended = make_files(console, plan, executor, batch)
    seconds = time.monotonic() - started
    if as_json:
        print_json(batch_as_json(plan, ended, seconds, batch))
    else:
        show_summary(console, plan, ended, seconds, batch)
    return exit_status(ended, batch, plan)


def exit_status(ended: list[FileEnded], batch: Batch, plan: Plan) -> int:
    """0 all well, 1 some files failed, were not begun or could not be seen, 130 stopped."""
    if batch.stopped:
        return 130
    return 1 if batch.lacking or plan.unseen or any(event.result.failure for event in ended) else 0


def _in_background(arguments: argparse.Namespace) -> int:
    """Note the batch, and leave it to a process of its own."""
    from boxkite.cli.tables import counted, make_console, print_json, print_line
    from boxkite.core.batch.background import go_on_in_background
    from boxkite.core.batch.machine import usable_cores
    from boxkite.core.batch.recording import begin_batch
    from boxkite.core.batch.sharing import fitting_workers
    from boxkite.core.records.store import Records

    batch = _batch_from(arguments)
    assert batch.job
    plan = plan_with_progress(batch.job)
    if not plan.to_make:
        print_line(make_console(), "there is nothing to make", "bold green")
        return 0
    with Records() as records:
        if batch.cluster:
            with executor_from(batch.cluster, arguments.workers) as executor:
                executor.prepare(plan.to_make)
                begin_batch(plan, batch, records, executor.size, cores=executor.cores)
        else:
            workers = workers_from(arguments) or fitting_workers(plan.to_make, usable_cores())
            begin_batch(plan, batch, records, workers)
        process = go_on_in_background(records, batch.name, options_kept_nowhere(arguments))
    if arguments.json:
        print_json({"batch": batch.name, "process": process, "files": len(plan.to_make)})
        return 0
    console = make_console()
    print_line(
        console, f"batch {batch.name} runs in the background: {counted(len(plan.to_make), 'file')}", "bold"
    )
    print_line(console, f"boxkite status {batch.name} --follow shows it; boxkite stop {batch.name} stops it")
    return 0


def make_files(
    console: Console,
    plan: Plan,
    executor: Executor,
    batch: Batch,
    events: Generator[Event, None, None] | None = None,
) -> list[FileEnded]:
    """Run a plan with progress on the terminal, or a line a file where there is none.

    events: of a batch that is resumed; None for a new one.
    """
    from boxkite.cli.progress import LinesProgress, WindowProgress
    from boxkite.core.batch.events import FileEnded
    from boxkite.core.batch.recording import run_recorded

    ended: list[FileEnded] = []
    drawing = WindowProgress(console, plan) if console.is_terminal else LinesProgress(console, plan)
    with drawing, contextlib.closing(events or run_recorded(plan, executor, batch)) as heard:
        for event in heard:
            drawing.show(event)
            if isinstance(event, FileEnded):
                ended.append(event)
    return sorted(ended, key=lambda event: event.row.number)


def show_summary(
    console: Console,
    plan: Plan,
    ended: list[FileEnded],
    seconds: float,
    batch: Batch,
    *,
    warnings: bool = True,
) -> None:
    """What was made, what failed and why, and what the plan had warned of, if it was not just shown."""
    from boxkite.cli.tables import counted, file_size, print_line
    from boxkite.core.shots.choosing import why

    verified = [event for event in ended if event.result.verification]
    failed = [event for event in ended if event.result.failure]
    size = sum(event.result.verification.size_bytes for event in verified if event.result.verification)
    frames = sum(event.row.frames for event in verified)
    speed = f"{frames / seconds:.0f} fps" if seconds > 0 else ""
    if not plan.to_make:
        print_line(console, "there is nothing to make", "bold green")
    else:
        print_line(
            console,
            f"{counted(len(verified), 'file')} verified, {len(failed)} failed:"
            f" {file_size(size)}, {frames} frames in {seconds:.1f} s, {speed}",
            "bold green" if not failed else "bold red",
        )
    for folder in dict.fromkeys(str(row.folder) for row in plan.rows):
        print_line(console, f"in {folder}")
    kept = sum(row.action.value == "keep" for row in plan.rows)
    if kept:
        print_line(console, f"{counted(kept, 'file')} kept: the same was there already")
    if warnings and plan.left_out:
        print_line(console, f"{why(plan.left_out)} (plan --left-out lists them)", "yellow")
    if batch.name:
        print_line(console, f"batch {batch.name}; plan --since {batch.name} shows what changes later")
    for line in ([batch.problem] if batch.problem else []) + batch.said:
        print_line(console, f"! {line}", "yellow")
    _show_what_is_left(console, plan, ended, batch)
    for event in failed:
        print_line(console, f"failed: {event.row.path.name}: {event.result.failure}", "red")
    if failed and batch.name:
        print_line(console, f"boxkite log {batch.name} --errors has the detail")
    for event in ended:
        for warning in (*(event.row.warnings if warnings else ()), *event.result.warnings):
            print_line(console, f"! {event.row.name} ({event.row.preset.name}): {warning}", "yellow")
    for notice in plan.notices if warnings else ():
        print_line(console, f"! {notice}", "yellow")


def _show_what_is_left(console: Console, plan: Plan, ended: list[FileEnded], batch: Batch) -> None:
    """What was not begun, and what to do about it."""
    from boxkite.cli.tables import counted, file_size, print_line

    left = len(plan.to_make) - len(ended)
    if batch.lacking:
        lacking = batch.lacking
        print_line(
            console,
            f"! {counted(left, 'file')} not begun: {lacking.folder} has {file_size(lacking.free_bytes)} left;"
            f" make room, then: boxkite resume {batch.name}",
            "bold yellow",
        )
    elif batch.stopped:
        said = f"stopped: {counted(left, 'file')} left; boxkite resume {batch.name} makes them"
        print_line(console, said, "bold yellow")


def batch_as_json(plan: Plan, ended: list[FileEnded], seconds: float, batch: Batch) -> dict[str, Any]:
    """A batch that has ended as plain values."""
    from boxkite.core.plan.rows import left_out_as_json, row_as_json

    files = []
    for event in ended:
        verification = event.result.verification
        files.append(
            {
                **row_as_json(event.row),
                "state": "failed" if event.result.failure else "verified",
                "failure": event.result.failure or None,
                "size_bytes": verification.size_bytes if verification else None,
                "checksum": verification.checksum if verification else None,
                "warnings": [*event.row.warnings, *event.result.warnings],
            }
        )
    kept = [{**row_as_json(row), "state": "kept"} for row in plan.rows if row.action.value == "keep"]
    done = {event.row.number for event in ended}
    left = [{**row_as_json(row), "state": "planned"} for row in plan.to_make if row.number not in done]
    return {
        "batch": batch.name or None,
        "files": sorted([*files, *kept, *left], key=lambda file: file["number"]),
        "left_out": left_out_as_json(plan),
        "notices": [*plan.notices, *([batch.problem] if batch.problem else []), *batch.said],
        "stopped": batch.stopped,
        "seconds": round(seconds, 3),
    }
