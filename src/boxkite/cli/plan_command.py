"""Show every file a run would make: names, spans, sizes, and what is to be known before. Writes no media."""

from __future__ import annotations

import argparse
import sys
from typing import TYPE_CHECKING

from boxkite.cli.options import add_job_arguments, job_from, request_from
from boxkite.cli.screen import Screen
from boxkite.core.files.reading import path_from

if TYPE_CHECKING:
    from collections.abc import Sequence

    from boxkite.core.handover.after.planning import PlannedStep
    from boxkite.core.job.job import Job
    from boxkite.core.plan.rows import Plan, Row

EXAMPLES = """\
examples:
  boxkite plan mill.mov --marks mill.edl --to review:out/review
  boxkite plan mill.mov --by markers --marks mill.edl --names "@(count:01)_@marker" --to web:out/web --sample
  boxkite plan card1/ --by ranges --marks picks.csv --metadata slates.csv --names "@scene/@clip_@marker" --to stock:out
  boxkite plan day.otio --by cuts --picture originals --media card/ --handles 12 --to review:out --chart use.png
  boxkite plan day.edl day.mov --by cuts,timelines --only "name:A-*" --to web:out
  boxkite plan mill.mov --marks mill.edl --to review:out --save-job mill.toml
  boxkite plan mill.toml --set handles=12 --save-plan shots.csv
  boxkite plan day.otio --since last --names "@clip_v@(version:00)" --to review:out
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """A job, and what to write of its plan."""
    add_job_arguments(parser, "plan")
    plan = parser.add_argument_group("the plan")
    plan.add_argument(
        "--sample", action="store_true", help="encode short probes to estimate sizes more closely"
    )
    plan.add_argument(
        "--save-plan", metavar="FILE", help="write the plan as a table (.csv) that can be edited and run"
    )
    plan.add_argument("--save-job", metavar="FILE", help="write these options as a job file (.toml)")
    plan.add_argument("--chart", metavar="FILE", help="draw which parts of each source the shots use (.png)")


def run(arguments: argparse.Namespace) -> int:
    """Print the plan, and write what was asked for."""
    from boxkite.cli.tables import print_json
    from boxkite.core.machine import usable_cores
    from boxkite.core.plan.plan_json import plan_as_json
    from boxkite.core.plan.totals import expected_time, totals_as_json

    job = job_from(arguments)
    plan = plan_with_progress(job)
    if arguments.sample:
        plan = _sampled(plan)
    written = _write(arguments, job, plan)
    if arguments.json:
        time = expected_time(plan, usable_cores())
        after = [{"step": one.step.kind, "writes": list(one.writes)} for one in check_after(job)]
        print_json({**plan_as_json(plan), "totals": totals_as_json(plan, time), "after": after}, "plan")
    else:
        lines = [f"then {one}" for one in check_after(job)]
        show_plan(Screen(), plan, left_out=arguments.left_out, warnings=arguments.warnings, after=lines,
                  next_step="boxkite run with the same options makes them")  # fmt: skip
    for line in written:
        sys.stderr.write(f"{line}\n")
    return int(bool(plan.unseen))


def _write(arguments: argparse.Namespace, job: Job, plan: Plan) -> list[str]:
    """Write the table, the job file and the chart that were asked for; what to say of each."""
    from boxkite.cli.messages import printable

    lines = []
    if arguments.save_job:
        from boxkite.core.job.file import save_job

        path = path_from(arguments.save_job)
        save_job(request_from(arguments).as_saved, path)
        lines.append(f"job saved: boxkite run {path}")
    if arguments.save_plan:
        from boxkite.core.plan.table import save_plan

        path = path_from(arguments.save_plan)
        save_plan(plan, path)
        lines.append(f"plan saved: edit it, then boxkite run {path}")
        if job.presets.own or job.presets.changes or job.watermark or job.look:
            lines.append(
                "! the table names presets only: give the same --set, --watermark, --look or presets when running it"
            )
    if arguments.chart:
        from boxkite.cli.tables import counted
        from boxkite.core.preview.chart import draw_chart

        path = path_from(arguments.chart)
        unseen = draw_chart(plan, path)
        lines.append(
            f"chart drawn: {path}" + (f", without {counted(unseen, 'source')} used least" if unseen else "")
        )
    return [printable(line) for line in lines]


def plan_with_progress(job: Job) -> Plan:
    """Work the plan out, saying on a terminal which source is being measured."""
    from boxkite.core.plan.planning import make_plan

    check_after(job)
    if not sys.stderr.isatty():
        return make_plan(job)
    from boxkite.cli.messages import printable

    with Screen(stderr=True).status("planning") as status:
        return make_plan(job, progress=lambda label: status.update(f"measuring {printable(label)}"))


def check_after(job: Job) -> list[PlannedStep]:
    """The steps after the files, checked; nothing is loaded for a job that has none."""
    if not job.after:
        return []
    from boxkite.core.handover.after.planning import plan_steps

    return plan_steps(job.after)


def _sampled(plan: Plan) -> Plan:
    """The plan with sizes from probes, with progress on a terminal."""
    from boxkite.core.batch.executors.local import LocalExecutor
    from boxkite.core.batch.sampling import sample_sizes

    with LocalExecutor() as executor:
        if not sys.stderr.isatty():
            return sample_sizes(plan, executor)
        with Screen(stderr=True).status("encoding probes") as status:
            return sample_sizes(
                plan, executor, lambda done, total: status.update(f"encoding probes: {done} of {total}")
            )


def show_plan(
    screen: Screen,
    plan: Plan,
    *,
    left_out: bool = False,
    warnings: bool = False,
    after: Sequence[str] = (),
    next_step: str = "",
) -> None:
    """Warnings, the table, and what each output adds up to: what matters most comes last.

    left_out: also list what is left out. warnings: list every warning, not one line per kind. after: the steps that
    follow. next_step: how to go on.
    """
    from boxkite.cli.tables import Column, print_table
    from boxkite.cli.warnings import show_unseen, show_warnings
    from boxkite.core.shots.choosing import why

    if left_out and plan.left_out:
        print_table(
            screen,
            [Column("left out", gives_way=True), Column("where", gives_way=True), Column("why")],
            [[one.name, one.origin, one.reason.marked] for one in plan.left_out],
        )
        screen.print()
    show_warnings(screen, plan.rows, plan.notices, in_full=warnings)
    for gone in plan.gone:
        screen.print(f"gone: {gone.path} is made no more", "yellow")
    for row in plan.rows:
        if row.replaces:
            other = "" if row.replaces.is_ours else ", which no batch on record made"
            style = "yellow" if row.replaces.is_ours else "bold yellow"
            screen.print(f"replaces {row.place}{other}", style)
    _show_rows(screen, plan)
    screen.print()
    if plan.left_out:
        screen.print(why(plan.left_out) + ("" if left_out else " (--left-out lists them)"))
    _show_uncovered(screen, plan)
    _show_totals(screen, plan)
    for line in after:
        screen.print(line)
    if plan.to_make and next_step:
        screen.print(next_step, "bold")
    show_unseen(screen, plan.unseen)


def _show_rows(screen: Screen, plan: Plan) -> None:
    from boxkite.cli.tables import Column, file_size, print_table
    from boxkite.core.looks.look import look_words
    from boxkite.core.plan.rows import Action, ends_of

    make = Action.MAKE
    has_handles = any(row.shot.handle_in or row.shot.handle_out for row in plan.rows)
    has_changes = any(row.change for row in plan.rows)
    has_looks = any(row.look for row in plan.rows)
    all_encoded = not any(row.action is not make or row.preset.copy or row.splice for row in plan.rows)
    columns = [
        Column("#", right=True),
        Column("file", gives_way=True),
        Column("in"),
        Column("out"),
        Column("frames", right=True),
        *([] if all_encoded else [Column("how")]),
        *([Column("change", gives_way=True)] if has_changes else []),
        *([Column("handles", right=True, optional=True)] if has_handles else []),
        Column("picture", optional=True),
        Column("preset"),
        *([Column("look", gives_way=True)] if has_looks else []),
        Column("about", right=True, optional=True),
        Column("source", optional=True),
        Column("in folder", optional=True),
    ]
    rows = []
    known: dict[tuple[int, ...], tuple[str, ...]] = {}
    for row, ends in zip(plan.rows, ends_of(plan.rows), strict=True):
        key = id(row.shot.footage), id(row.preset), id(row.folder), id(row.geometry), row.exact
        if key not in known:  # what rows of one source and output have in common
            source = row.shot.footage.source
            known[key] = row.extension, row.size, row.preset.name, source.label, str(row.folder)
        extension, size, preset, label, folder = known[key]
        rows.append(
            [
                f"{row.number}!" if row.warnings else str(row.number),
                row.name + extension,
                *ends,
                str(row.frames),
                *([] if all_encoded else [_how(row)]),
                *([row.change] if has_changes else []),
                *([f"{row.shot.handle_in}+{row.shot.handle_out}"] if has_handles else []),
                size,
                preset,
                *([look_words(row.look)] if has_looks else []),
                file_size(row.expected_bytes),
                label,
                folder,
            ]
        )
    print_table(screen, columns, rows)


def _how(row: Row) -> str:
    """How a file is made, in the fewest words."""
    from boxkite.core.plan.rows import Action

    if row.action is Action.REPLACE:
        return "replace"
    return f"{row.splice.encoded} encoded" if row.how == "splice" and row.splice else row.how


def _show_totals(screen: Screen, plan: Plan) -> None:
    from boxkite.cli.tables import counted, file_size, length_of_time
    from boxkite.core.machine import usable_cores
    from boxkite.core.plan.totals import add_up, by_output, expected_sizes, expected_time

    to_make = plan.to_make
    totals = add_up(to_make)
    differences = totals.different_from_edit
    if differences:
        kinds = ", ".join(f"{count} {kind.value}" for kind, count in differences.items())
        screen.print(f"! differs from the edit: {kinds}", "yellow")
    if others := {kind: count for kind, count in totals.differences.items() if kind not in differences}:
        kinds = ", ".join(f"{count} {kind.value}" for kind, count in others.items())
        screen.print(f"! to check: {kinds}", "yellow")
    for (preset, folder), members in by_output(to_make).items():
        sizes = _sizes(*expected_sizes(members))
        screen.print(f"{preset} → {folder}  {counted(len(members), 'file')}, {sizes}")
    if len(plan.rows) > totals.files:
        screen.print(f"{counted(len(plan.rows) - totals.files, 'file')} kept: identical files exist already")
    if not totals.files:
        return
    screen.print(
        f"total: {counted(totals.files, 'file')} of {counted(totals.shots, 'shot')},"
        f" {length_of_time(float(totals.seconds))} of footage, {_sizes(totals.expected_bytes, totals.bytes_between)};"
        f" {counted(totals.sources, 'source')} of {file_size(totals.source_bytes)}",
    )
    spliced, encoded, copied = totals.spliced
    if spliced:
        what = f"{counted(encoded, 'frame')} at their ends encoded, {copied} copied"
        screen.print(f"cut exactly: {counted(spliced, 'file')}, {what}")
    if totals.chunked[0]:
        screen.print(f"encoded in chunks: {counted(totals.chunked[0], 'file')}, {totals.chunked[1]} chunks")
    for volume in plan.volumes:
        screen.print(f"free at {volume.folder}: {file_size(volume.free_bytes)}")
    if time := expected_time(plan, usable_cores()):
        about = "about " if time.seconds >= 1 else ""
        workers, files = counted(time.workers, "worker"), counted(time.files, "file")
        took = f"{about}{length_of_time(time.seconds)} on {workers}"
        screen.print(f"{took}, judging by {files} made on this machine before")


def _sizes(expected_bytes: int, between: tuple[int, int]) -> str:
    """About so much, and between which sizes where they are far apart."""
    from boxkite.cli.tables import file_size

    least, most = between
    about = f"about {file_size(expected_bytes)}"
    if most <= expected_bytes * 1.05:
        return about
    return f"{about} ({file_size(least)} to {file_size(most)})"


def _show_uncovered(screen: Screen, plan: Plan) -> None:
    from boxkite.cli.tables import counted

    for footage, span in plan.uncovered:
        place = "in no shot"
        if span.start == 0:
            place = "before the first shot"
        elif span.end == footage.frame_index.frame_count:
            place = "after the last shot"
        screen.print(
            f"no file: {counted(span.length, 'frame')} {place}"
            f" ({footage.timecode(span.start)} to {footage.timecode(span.end)} of {footage.source.label})",
        )
