"""Write stills of planned files as PNG, just as a run would encode them, to judge look, size and lettering."""

from __future__ import annotations

import argparse
import sys
from dataclasses import replace
from typing import TYPE_CHECKING

from boxkite.cli.options import add_job_arguments, job_from
from boxkite.cli.plan_command import plan_with_progress
from boxkite.core.files.reading import path_from

if TYPE_CHECKING:
    from PIL.Image import Image

    from boxkite.core.job.job import Job
    from boxkite.core.plan.rows import Plan, Row

EXAMPLES = """\
examples:
  boxkite preview mill.mov --marks mill.edl --to review:out
  boxkite preview mill.mov --marks mill.edl --to review:out --file 2 --at 01:00:10:00 --before-after
  boxkite preview mill.mov --to review:out --look warm.cube --set review.watermark.position=top --guides
  boxkite preview mill.mov --marks mill.edl --to review:out --sheet --still all.png
  boxkite preview mill.mov --to review:out --set "review.watermark.nudge=[0, -4]" --save-preset mill-review
"""
_MOST_ON_A_SHEET = 24
_SHEET_COLUMNS, _SHEET_CELL = 3, 400


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """A job, which of its frames, and how they are shown."""
    add_job_arguments(parser, "preview")
    stills = parser.add_argument_group("the still")
    stills.add_argument(
        "--file", type=int, metavar="NUMBER", help="number of the planned file (default: the first)"
    )
    stills.add_argument(
        "--at",
        default="",
        metavar="WHERE",
        help="a timecode, a frame of the source, or a percentage such as 25%% (default: 50%%)",
    )
    stills.add_argument("--before-after", action="store_true", help="the source's frame beside it")
    stills.add_argument(
        "--sheet", action="store_true", help=f"all planned files, {_MOST_ON_A_SHEET} on a page"
    )
    stills.add_argument("--guides", action="store_true", help="draw the safe areas for action and graphics")
    stills.add_argument(
        "--still", default="preview.png", metavar="FILE", help="file to write (default: preview.png)"
    )
    stills.add_argument(
        "--save-preset",
        metavar="NAME",
        help="save the --set changes as your own preset, based on the one shown",
    )


def run(arguments: argparse.Namespace) -> int:
    """Write the still."""
    from boxkite.core.preview.sheets import save_still

    job = replace(job_from(arguments), existing="replace")  # what is there already is no reason not to look
    plan = plan_with_progress(job)
    rows = _chosen(plan, arguments)
    path = path_from(arguments.still)
    if arguments.sheet:
        pages = [rows[at : at + _MOST_ON_A_SHEET] for at in range(0, len(rows), _MOST_ON_A_SHEET)]
        for number, page in enumerate(pages, start=1):
            own = path if len(pages) == 1 else path.with_name(f"{path.stem}-{number}{path.suffix}")
            image = _sheet(page, arguments)
            save_still(image, own)
            files = f"files {page[0].number} to {page[-1].number}"
            _tell(f"{own}: {image.width}x{image.height}, {files}, page {number} of {len(pages)}")
    else:
        image = _one(rows[0], arguments)
        save_still(image, path)
        _tell(f"{path}: {image.width}x{image.height}, {_words(rows[0])}")
    if arguments.save_preset:
        _save_preset(arguments, job, rows[0])
    return 0


def _chosen(plan: Plan, arguments: argparse.Namespace) -> list[Row]:
    from boxkite.core.errors import PlanError

    rows = [row for row in plan.rows if row.preset.video]
    if not rows:
        raise PlanError("no planned file has a frame that is encoded", hint="copies and audio need no still")
    if arguments.sheet or arguments.file is None:
        return rows
    chosen = [row for row in rows if row.number == arguments.file]
    if not chosen:
        numbers = f"{rows[0].number} to {rows[-1].number}"
        raise PlanError(
            f"--file {arguments.file}: no encoded file has this number", hint=f"files have numbers {numbers}"
        )
    return chosen


def _one(row: Row, arguments: argparse.Namespace) -> Image:
    from boxkite.core.preview.sheets import side_by_side, with_guides
    from boxkite.core.preview.stills import frame_named, source_still, still_of

    frame = frame_named(row, arguments.at)
    still = still_of(row, frame)
    if arguments.guides:
        still = with_guides(still)
    if not arguments.before_after:
        return still
    timecode = row.shot.footage.timecode(frame)
    captions = (
        f"{row.shot.footage.source.label}  {timecode}",
        f"{row.name}{row.extension} ({row.preset.name})",
    )
    return side_by_side(source_still(row, frame), still, captions)


def _sheet(rows: list[Row], arguments: argparse.Namespace) -> Image:
    from boxkite.core.preview.sheets import sheet, with_guides
    from boxkite.core.preview.stills import frame_named, still_of

    stills, captions = [], []
    for row in rows:
        frame = frame_named(row, arguments.at)
        still = still_of(row, frame)
        stills.append(with_guides(still) if arguments.guides else still)
        captions.append(f"{row.number}  {row.name}{row.extension} ({row.preset.name})")
    return sheet(stills, captions, columns=min(_SHEET_COLUMNS, len(stills)), cell_width=_SHEET_CELL)


def _words(row: Row) -> str:
    """Of which file it is, and with which look."""
    from boxkite.core.looks.look import look_words

    look = f", look: {look_words(row.look)}" if row.look else ""
    return f"file {row.number}, {row.name}{row.extension} ({row.preset.name}){look}"


def _save_preset(arguments: argparse.Namespace, job: Job, row: Row) -> None:
    from boxkite.core.presets.writing import make_preset

    own = job.presets.changes_of(row.preset.name)
    if job.look:
        own["look.file"] = str(job.look)
    path = make_preset(arguments.save_preset, row.preset.name, own)
    _tell(f"preset saved: {path}; use it as --to {arguments.save_preset}:out")


def _tell(line: str) -> None:
    from boxkite.cli.messages import printable

    sys.stdout.write(f"{printable(line)}\n")
