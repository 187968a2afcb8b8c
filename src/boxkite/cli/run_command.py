"""Make the files of a plan, several shots at once, and prove each before it gets its name."""

from __future__ import annotations

import argparse
import time
from typing import TYPE_CHECKING, Any

from boxkite.cli.options import add_job_arguments, job_from
from boxkite.cli.plan_command import plan_with_progress

if TYPE_CHECKING:
    from rich.console import Console

    from boxkite.core.batch.events import FileEnded
    from boxkite.core.batch.pool import Crew
    from boxkite.core.batch.recording import Batch
    from boxkite.core.plan.rows import Plan

EXAMPLES = """\
examples:
  boxkite run mill.mov --marks mill.edl --to review:out/review
  boxkite run mill.mov --marks mill.edl --names "@marker" --to review:out/review --to stock:out/stock
  boxkite run card1/ --by files --to web:out/web --workers 1
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """A job, and how to run it."""
    add_job_arguments(parser)
    parser.add_argument(
        "--workers", type=int, metavar="N", help="shots made at the same time (default: one a core)"
    )


def run(arguments: argparse.Namespace) -> int:
    """Run the plan; status 1 when files failed."""
    from boxkite.core.batch.pool import Crew
    from boxkite.core.batch.recording import Batch

    job = job_from(arguments)
    with Crew(arguments.workers) as crew:
        from boxkite.cli.tables import make_console, print_json

        plan = plan_with_progress(job)
        started = time.monotonic()
        batch = Batch()
        ended = make_files(make_console(stderr=arguments.json), plan, crew, batch)
        seconds = time.monotonic() - started
    if arguments.json:
        print_json(as_json(plan, ended, seconds, batch))
    else:
        show_summary(make_console(), plan, ended, seconds, batch)
    return 1 if any(event.result.failure for event in ended) else 0


def make_files(console: Console, plan: Plan, crew: Crew, batch: Batch) -> list[FileEnded]:
    """Run a plan with progress on the terminal, or a line a file where there is none."""
    from boxkite.cli.progress import LinesProgress, WindowProgress
    from boxkite.core.batch.events import FileEnded
    from boxkite.core.batch.recording import run_recorded

    ended: list[FileEnded] = []
    drawing = WindowProgress(console, plan) if console.is_terminal else LinesProgress(console, plan)
    with drawing:
        for event in run_recorded(plan, crew, batch):
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

    proved = [event for event in ended if event.result.proof]
    failed = [event for event in ended if event.result.failure]
    size = sum(event.result.proof.size_bytes for event in proved if event.result.proof)
    frames = sum(event.row.frames for event in proved)
    speed = f"{frames / seconds:.0f} frames a second" if seconds > 0 else ""
    if not plan.to_make:
        print_line(console, "there is nothing to make", "bold green")
    else:
        print_line(
            console,
            f"{counted(len(proved), 'file')} proved, {len(failed)} failed:"
            f" {file_size(size)}, {frames} frames in {seconds:.1f} s, {speed}",
            "bold green" if not failed else "bold red",
        )
    for folder in dict.fromkeys(str(row.folder) for row in plan.rows):
        print_line(console, f"in {folder}")
    kept = len(plan.rows) - len(plan.to_make)
    if kept:
        print_line(console, f"{counted(kept, 'file')} kept: the same was there already")
    if batch.name:
        print_line(console, f"batch {batch.name}; plan --since {batch.name} shows what changes later")
    if batch.problem:
        print_line(console, f"! {batch.problem}", "yellow")
    for event in failed:
        print_line(console, f"failed: {event.row.path.name}: {event.result.failure}", "red")
    for event in ended:
        for warning in (*(event.row.warnings if warnings else ()), *event.result.warnings):
            print_line(console, f"! {event.row.name} ({event.row.preset.name}): {warning}", "yellow")
    for notice in plan.notices if warnings else ():
        print_line(console, f"! {notice}", "yellow")


def as_json(plan: Plan, ended: list[FileEnded], seconds: float, batch: Batch) -> dict[str, Any]:
    """A batch that has ended as plain values."""
    from boxkite.core.plan.rows import row_as_json

    files = []
    for event in ended:
        proof = event.result.proof
        files.append(
            {
                **row_as_json(event.row),
                "state": "failed" if event.result.failure else "proved",
                "failure": event.result.failure or None,
                "size_bytes": proof.size_bytes if proof else None,
                "checksum": proof.checksum if proof else None,
                "warnings": [*event.row.warnings, *event.result.warnings],
            }
        )
    kept = [{**row_as_json(row), "state": "kept"} for row in plan.rows if row.action.value == "keep"]
    return {
        "batch": batch.name or None,
        "files": sorted([*files, *kept], key=lambda file: file["number"]),
        "notices": [*plan.notices, *([batch.problem] if batch.problem else [])],
        "seconds": round(seconds, 3),
    }
