"""Show every file a run would make: names, spans, sizes, and what is to be known before. Writes nothing."""

from __future__ import annotations

import argparse
import sys
from typing import TYPE_CHECKING

from boxkite.cli.options import add_job_arguments, job_from

if TYPE_CHECKING:
    from rich.console import Console

    from boxkite.core.plan.job import Job
    from boxkite.core.plan.rows import Plan

_MOST_WARNINGS = 60
EXAMPLES = """\
examples:
  boxkite plan mill.mov --marks mill.edl --to review:out/review
  boxkite plan mill.mov --by markers --marks mill.edl --names "@(count:01)_@marker" --to web:out/web
  boxkite plan card1/ --by ranges --marks picks.csv --metadata slates.csv --names "@scene/@clip_@marker" --to stock:out
  boxkite plan day.otio --by cuts --picture originals --media card/ --handles 12 --to review:out
  boxkite plan day.edl day.mov --by cuts,timelines --only "name:A-*" --to web:out
  boxkite plan mill.mov --marks mill.edl --start-timecode 01:00:00:00 --to review:out --json
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """A job."""
    add_job_arguments(parser)


def run(arguments: argparse.Namespace) -> int:
    """Print the plan."""
    from boxkite.cli.tables import make_console, print_json
    from boxkite.core.plan.rows import plan_as_json

    plan = plan_with_progress(job_from(arguments))
    if arguments.json:
        print_json(plan_as_json(plan))
    else:
        show_plan(make_console(), plan, left_out=arguments.left_out)
    return 0


def plan_with_progress(job: Job) -> Plan:
    """Work the plan out, saying on a terminal which source is being measured."""
    from boxkite.core.plan.planning import make_plan

    if not sys.stderr.isatty():
        return make_plan(job)
    from boxkite.cli.messages import printable
    from boxkite.cli.tables import make_console

    with make_console(stderr=True).status("planning") as status:
        return make_plan(job, progress=lambda label: status.update(f"measuring {printable(label)}"))


def show_plan(console: Console, plan: Plan, *, left_out: bool = False) -> None:
    """The table, what each output adds up to, and every warning; left_out: a second table of what is left out."""
    from boxkite.cli.tables import Column, counted, file_size, print_line, print_table
    from boxkite.core.plan.choosing import why
    from boxkite.core.plan.rows import ends_of

    columns = [
        Column("#", right=True),
        Column("file", gives_way=True),
        Column("in"),
        Column("out"),
        Column("frames", right=True),
        Column("picture", optional=True),
        Column("preset"),
        Column("about", right=True, optional=True),
    ]
    rows = []
    for row, ends in zip(plan.rows, ends_of(plan.rows), strict=True):
        rows.append(
            [
                f"{row.number}{'!' if row.warnings else ''}",
                f"{row.name}{row.ending}",
                *ends,
                str(row.span.length),
                row.size,
                row.preset.name,
                file_size(row.expected_bytes),
            ]
        )
    print_table(console, columns, rows)
    console.print()
    for (preset, folder), members in _by_output(plan).items():
        size = file_size(sum(row.expected_bytes for row in members))
        print_line(console, f"{preset} → {folder}  {counted(len(members), 'file')}, about {size}")
    _show_uncovered(console, plan)
    if plan.left_out:
        print_line(console, why(plan.left_out) + ("" if left_out else " (--left-out lists them)"))
    if left_out and plan.left_out:
        print_table(
            console,
            [Column("left out", gives_way=True), Column("where", gives_way=True), Column("why")],
            [[one.name, one.origin, one.reason] for one in plan.left_out],
        )
    _show_warnings(console, plan)
    for notice in plan.notices:
        print_line(console, f"! {notice}", "yellow")


def _show_warnings(console: Console, plan: Plan) -> None:
    """A line for each warning; the same said of several files of one shot once, and of very many only the first."""
    from boxkite.cli.tables import print_line
    from boxkite.core.plan.rows import rows_by_shot

    lines = []
    for rows in rows_by_shot(plan.rows):
        said: dict[str, list[int]] = {}
        for row in rows:
            for warning in row.warnings:
                said.setdefault(warning, []).append(row.number)
        for warning, numbers in said.items():
            which = f"{numbers[0]}" if len(numbers) == 1 else f"{numbers[0]}, {numbers[-1]}"
            which = f"{numbers[0]}-{numbers[-1]}" if len(numbers) > 2 else which
            lines.append(f"! {which} {rows[0].name}: {warning}")
    for line in lines[:_MOST_WARNINGS]:
        print_line(console, line, "yellow")
    if len(lines) > _MOST_WARNINGS:
        print_line(console, f"! and {len(lines) - _MOST_WARNINGS} more: --json has them all", "yellow")


def _by_output(plan: Plan) -> dict[tuple[str, str], list]:  # type: ignore[type-arg]
    found: dict[tuple[str, str], list] = {}  # type: ignore[type-arg]
    for row in plan.rows:
        found.setdefault((row.preset.name, str(row.folder)), []).append(row)
    return found


def _show_uncovered(console: Console, plan: Plan) -> None:
    from boxkite.cli.tables import counted, print_line

    for reel, span in plan.uncovered:
        place = "in no shot"
        if span.start == 0:
            place = "before the first shot"
        elif span.end == reel.table.frame_count:
            place = "after the last shot"
        print_line(
            console,
            f"no file: {counted(span.length, 'frame')} {place}"
            f" ({reel.timecode(span.start)} to {reel.timecode(span.end)} of {reel.source.label})",
        )
