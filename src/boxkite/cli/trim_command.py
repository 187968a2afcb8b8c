"""Keep only what an edit uses: the used part of each source as a file, and an edit that points at them."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from boxkite.cli.handover import note, run_steps_of
from boxkite.cli.options import add_job_options, job_from
from boxkite.cli.screen import Screen

if TYPE_CHECKING:
    from boxkite.core.projects.trimming import Trim

EXAMPLES = """\
examples:
  boxkite trim day.otio --media card/ --handles 1s --to copy:trimmed --show-only
  boxkite trim day.otio --media card/ --handles 1s --to copy:trimmed
  boxkite trim day.edl --media card/ --handles 12 --to stock:trimmed --separate
  boxkite trim day.otio --media card/ --names "@marker" --to copy:trimmed
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """An edit, and what becomes of its media."""
    parser.add_argument("paths", nargs=1, metavar="EDIT", help="a timeline (.otio, .edl …)")
    add_job_options(parser, "trim")
    parser.add_argument("--separate", action="store_true", help="one file per use, also where uses overlap")
    parser.add_argument(
        "--show-only", action="store_true", help="show the plan and the sizes without writing"
    )
    parser.add_argument(
        "--workers", type=int, metavar="N", help="files made at the same time (default: one per core)"
    )
    parser.add_argument("--json", action="store_true", help="print JSON instead of tables")


def run(arguments: argparse.Namespace) -> int:
    """Show the plan, make the files, write the edit; status 1 when files failed, and then no edit."""
    from boxkite.cli.run_command import exit_status, run_plan, show_summary
    from boxkite.cli.tables import print_json
    from boxkite.core.batch.executors.local import LocalExecutor
    from boxkite.core.batch.outcome import outcome_as_json
    from boxkite.core.batch.recording import Batch
    from boxkite.core.handover.delivery import delivery_of_batch
    from boxkite.core.plan.plan_json import plan_as_json
    from boxkite.core.projects.trimming import edit_paths, plan_trim, write_trimmed_edits

    job = job_from(arguments)
    trim = plan_trim(job, separate=arguments.separate)
    edits = edit_paths(trim)
    screen = Screen(stderr=arguments.json)
    if not arguments.json:
        _show(screen, trim)
    if arguments.show_only:
        if arguments.json:
            print_json({**plan_as_json(trim.plan), "source_bytes": trim.source_bytes}, "trim-plan")
        return 0
    batch = Batch(manifest=job.manifest)
    with LocalExecutor(arguments.workers) as executor:
        outcome = run_plan(screen, trim.plan, executor, batch)
    failed = outcome.failed or outcome.not_begun
    if not failed:
        write_trimmed_edits(trim, edits)
        for path in edits if batch.name else ():
            note(screen, delivery_of_batch(batch.name), "edit", path)
    if arguments.json:
        made = {"edits": [] if failed else [str(path) for path in edits], "source_bytes": trim.source_bytes}
        print_json({**outcome_as_json(outcome), **made}, "trim")
    else:
        show_summary(screen, outcome, plan_shown=True)
    for path in edits:
        screen.print(f"no edit was written: {path}" if failed else f"edit: {path}")
    return exit_status(outcome) or run_steps_of(screen, batch.name)


def _show(screen: Screen, trim: Trim) -> None:
    from boxkite.cli.plan_command import show_plan
    from boxkite.cli.tables import file_size

    show_plan(screen, trim.plan)
    after = sum(row.expected_bytes for row in trim.plan.rows)
    share = f" ({after * 100 // trim.source_bytes} %)" if trim.source_bytes else ""
    screen.print(
        f"sources used: {file_size(trim.source_bytes)}; trimmed: about {file_size(after)}{share}",
        "bold",
    )
