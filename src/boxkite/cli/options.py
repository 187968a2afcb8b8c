"""The words that describe a job: the same in every command that takes one."""

from __future__ import annotations

import argparse
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

from boxkite.core.plan.job import CLOSING_MARKER, WAYS_TO_CUT

if TYPE_CHECKING:
    from boxkite.core.plan.job import Job


def add_job_arguments(parser: argparse.ArgumentParser) -> None:
    """Footage, where to cut, names, outputs."""
    parser.add_argument("paths", nargs="+", metavar="PATH", help="a program, clips, or folders of them")
    add_images_rate(parser)
    where = parser.add_argument_group("where to cut")
    where.add_argument(
        "--by",
        choices=WAYS_TO_CUT,
        help="at each marker, one file a range, or whole files; follows from --marks where it is not given",
    )
    where.add_argument(
        "--marks",
        metavar="FILE",
        help="marker list (.edl) or table of ranges (.csv, .tsv);"
        " without it --by markers takes the chapters in the media",
    )
    where.add_argument(
        "--marks-rate", metavar="RATE", help="frames a second of the list, where not the program's"
    )
    where.add_argument(
        "--start-timecode",
        metavar="TIMECODE",
        help="timecode of the program's first frame, where its own is missing or wrong",
    )
    where.add_argument(
        "--closing-marker",
        metavar="NAME",
        default=CLOSING_MARKER,
        help="name of the marker that only ends the shot before it (default: END, in any case)",
    )
    names = parser.add_argument_group("names")
    names.add_argument(
        "--names", metavar="PATTERN", help='the rule for names, in double quotes: "@marker_@(count:01)"'
    )
    names.add_argument(
        "--metadata",
        metavar="FILE",
        action="append",
        default=[],
        help="table of facts about the sources; its columns become tokens (repeatable)",
    )
    outputs = parser.add_argument_group("outputs")
    outputs.add_argument(
        "--to",
        metavar="PRESET:FOLDER",
        action="append",
        default=[],
        help="a preset, and where its files go (repeatable)",
    )
    outputs.add_argument("--watermark", metavar="IMAGE", help="image to use in presets that have a watermark")
    parser.add_argument("--json", action="store_true", help="print JSON instead of tables")


def add_images_rate(parser: argparse.ArgumentParser) -> None:
    """The rate of sources that carry none."""
    parser.add_argument(
        "--images-rate",
        metavar="RATE",
        help="frames a second of numbered images, which carry none (default: 24)",
    )


def job_from(arguments: argparse.Namespace) -> Job:
    """The job these words describe. Raises a RequestError for words that do not hold."""
    import getpass

    from boxkite.core.plan.job import Job, Output
    from boxkite.core.timebase import FrameRate

    try:
        user = getpass.getuser()
    except (KeyError, OSError):
        user = ""
    return Job(
        paths=tuple(Path(path).expanduser() for path in arguments.paths),
        outputs=tuple(Output.parse(text) for text in arguments.to),
        by=arguments.by,
        marks=_path(arguments.marks),
        marks_rate=FrameRate.parse(arguments.marks_rate) if arguments.marks_rate else None,
        images_rate=FrameRate.parse(arguments.images_rate) if arguments.images_rate else None,
        start_timecode=arguments.start_timecode,
        closing_marker=arguments.closing_marker,
        names=arguments.names,
        metadata=tuple(Path(path).expanduser() for path in arguments.metadata),
        watermark=_path(arguments.watermark),
        user=user,
        now=datetime.now(),
    )


def _path(text: str | None) -> Path | None:
    return Path(text).expanduser() if text else None
