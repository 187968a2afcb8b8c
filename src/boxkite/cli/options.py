"""The words that describe a job: the same in every command that takes one."""

from __future__ import annotations

import argparse
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

from boxkite.core.plan.words import CLOSING_MARKER, PICTURES, WAYS_TO_CUT

if TYPE_CHECKING:
    from boxkite.core.plan.job import Job


def add_job_arguments(parser: argparse.ArgumentParser) -> None:
    """Footage, where to cut, names, outputs."""
    parser.add_argument(
        "paths",
        nargs="+",
        metavar="PATH",
        help="a program, clips, folders of them, or a timeline (.otio, .edl …)",
    )
    add_images_rate(parser)
    where = parser.add_argument_group("where to cut")
    where.add_argument(
        "--by",
        action="append",
        default=[],
        metavar="WAY",
        type=_way,
        help=f"{', '.join(WAYS_TO_CUT)}; follows from the paths and --marks where it is not given (repeatable)",
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
    edits = parser.add_argument_group("timelines")
    edits.add_argument(
        "--picture",
        choices=PICTURES,
        help="cut the finished program, go back to the camera originals, or render the edit"
        " (default: program where one is named, else originals)",
    )
    edits.add_argument(
        "--media",
        metavar="PATH",
        action="append",
        default=[],
        help="where the camera originals lie (repeatable)",
    )
    edits.add_argument(
        "--depth",
        metavar="NUMBER",
        type=int,
        default=1,
        help="how deep --by timelines goes into nested ones (default: 1)",
    )
    which = parser.add_argument_group("which shots")
    which.add_argument(
        "--only",
        metavar="CHOICE",
        action="append",
        default=[],
        help="circled, marked, keyword:WORD, track:V2, name:WORD, number:3-7, length:2s-, or any TOKEN:VALUE;"
        " * and ? are wildcards, a comma parts alternatives (repeatable: all must hold)",
    )
    which.add_argument(
        "--except",
        metavar="CHOICE",
        action="append",
        default=[],
        dest="without",
        help="the same words, for what is not wanted (repeatable)",
    )
    which.add_argument(
        "--in",
        metavar="WHERE",
        default="",
        dest="range_in",
        help="begin here, for this plan only: a timecode, an event number, the name of a clip or marker",
    )
    which.add_argument("--out", metavar="WHERE", default="", dest="range_out", help="end there")
    which.add_argument(
        "--handles",
        metavar="LENGTH",
        default="0",
        help="extra at both ends: frames, seconds (0.5s), or whole",
    )
    which.add_argument("--join", action="store_true", help="make one file of shots that touch in one source")
    names = parser.add_argument_group("names")
    names.add_argument(
        "--names", metavar="PATTERN", help='the rule for names, in double quotes: "@marker_@(count:01)"'
    )
    names.add_argument(
        "--metadata",
        metavar="FILE",
        action="append",
        default=[],
        help="table of facts (.csv, .tsv) or log (.ale) about the sources; its columns become tokens (repeatable)",
    )
    names.add_argument(
        "--match-by",
        metavar="COLUMN",
        help="column of the tables that names the source, by file, clip or reel",
    )
    parser.add_argument("--left-out", action="store_true", help="list what is left out, and why")
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

    from boxkite.core.plan.choosing import Choice
    from boxkite.core.plan.job import Job, Output
    from boxkite.core.shots.limits import Handles
    from boxkite.core.timebase import FrameRate

    try:
        user = getpass.getuser()
    except (KeyError, OSError):
        user = ""
    return Job(
        paths=tuple(Path(path).expanduser() for path in arguments.paths),
        outputs=tuple(Output.parse(text) for text in arguments.to),
        by=tuple(dict.fromkeys(way for ways in arguments.by for way in ways)),
        marks=_path(arguments.marks),
        marks_rate=FrameRate.parse(arguments.marks_rate) if arguments.marks_rate else None,
        images_rate=FrameRate.parse(arguments.images_rate) if arguments.images_rate else None,
        start_timecode=arguments.start_timecode,
        closing_marker=arguments.closing_marker,
        names=arguments.names,
        match_by=arguments.match_by,
        metadata=tuple(Path(path).expanduser() for path in arguments.metadata),
        watermark=_path(arguments.watermark),
        picture=arguments.picture,
        media=tuple(Path(path).expanduser() for path in arguments.media),
        depth=arguments.depth,
        handles=Handles.parse(arguments.handles),
        range_in=arguments.range_in,
        range_out=arguments.range_out,
        only=tuple(Choice.parse(text, "--only") for text in arguments.only),
        without=tuple(Choice.parse(text, "--except") for text in arguments.without),
        join=arguments.join,
        user=user,
        now=datetime.now(),
    )


def _way(text: str) -> list[str]:
    """One way to cut, or several parted by commas."""
    from boxkite.core.suggest import did_you_mean

    ways = [word.strip() for word in text.split(",") if word.strip()]
    for way in ways:
        if way not in WAYS_TO_CUT:
            hint = did_you_mean(way, WAYS_TO_CUT)
            choices = ", ".join(WAYS_TO_CUT)
            raise argparse.ArgumentTypeError(
                f"there is no “{way}”, choose from {choices}" + (f"; {hint}" if hint else "")
            )
    return ways


def _path(text: str | None) -> Path | None:
    return Path(text).expanduser() if text else None
