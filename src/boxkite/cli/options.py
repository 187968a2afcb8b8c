"""The words that describe a job: the same in every command that takes one."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING, Any

from boxkite.cli.settings import add_settings
from boxkite.core.files.reading import path_from
from boxkite.core.job.words import DECODERS, PICTURES, WAYS_TO_CUT, WHETHER_JOINED

if TYPE_CHECKING:
    from collections.abc import Sequence

    from boxkite.core.footage.source import ImageSettings
    from boxkite.core.job.job import Job
    from boxkite.core.job.said import JobWords


def add_job_arguments(parser: argparse.ArgumentParser) -> None:
    """Footage, where to cut, names, outputs."""
    parser.add_argument(
        "paths",
        nargs="+",
        metavar="PATH",
        help="a program, clips, folders of them, a timeline (.otio, .edl …), a job file (.toml),"
        " or a saved plan (.csv)",
    )
    add_images_rate(parser)
    where = parser.add_argument_group("where to cut")
    where.add_argument(
        "--by",
        action="append",
        default=[],
        metavar="WAY",
        help=f"{', '.join(WAYS_TO_CUT)}; follows from the paths and --marks where it is not given (repeatable)",
    )
    where.add_argument(
        "--marks",
        metavar="FILE",
        help="marker list (.edl) or table of ranges (.csv, .tsv);"
        " without it --by markers takes the chapters in the media",
    )
    where.add_argument(
        "--marks-rate", metavar="RATE", help="frame rate of the list, if not the program's, in fps"
    )
    where.add_argument(
        "--start-timecode",
        metavar="TIMECODE",
        help="timecode of the program's first frame, where its own is missing or wrong",
    )
    where.add_argument(
        "--closing-marker",
        metavar="NAME",
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
        "--tracks",
        metavar="NAMES",
        action="append",
        default=[],
        help="of an edit that is rendered, only these tracks, as V1,A1 (repeatable)",
    )
    edits.add_argument(
        "--retime",
        action="store_true",
        default=None,
        help="give clips of originals the speed they have in the edit, freezes too; the rendered edit always has it",
    )
    edits.add_argument(
        "--depth",
        metavar="NUMBER",
        type=int,
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
        dest="range_in",
        help="begin here, for this plan only: a timecode, an event number, the name of a clip or marker",
    )
    which.add_argument("--out", metavar="WHERE", dest="range_out", help="end there")
    which.add_argument(
        "--handles",
        metavar="LENGTH",
        help="extra at both ends: frames, seconds (0.5s), or whole",
    )
    which.add_argument(
        "--join", action="store_true", default=None, help="make one file of shots that touch in one source"
    )
    names = parser.add_argument_group("names")
    names.add_argument(
        "--names",
        metavar="PATTERN",
        help='the rule for names, in double quotes: "@marker_@(count:01)"; or saved:NAME',
    )
    names.add_argument(
        "--version-number",
        metavar="NUMBER",
        type=int,
        help="what @version stands for (default: one above the highest in the output folders)",
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
    outputs.add_argument(
        "--existing",
        metavar="POLICY",
        help="what becomes of files that are there already: stop (default), number, skip those made of the same"
        " frames by the same preset, replace",
    )
    outputs.add_argument(
        "--replace-others",
        action="store_true",
        default=None,
        help="with --existing replace: also single files that no batch on record made, each listed by the plan",
    )
    outputs.add_argument(
        "--since",
        metavar="BATCH",
        help="only what is new or changed since an earlier batch, by its name, or last",
    )
    add_settings(
        outputs,
        "any word of a job file, or a setting of a preset: review.video.quality=20, or fit=1280x720 for"
        " all of them",
    )
    outputs.add_argument(
        "--look", metavar="FILE", help="look file (.cube …) for every picture, after the shot's own colours"
    )
    outputs.add_argument("--watermark", metavar="IMAGE", help="image to use in presets that have a watermark")
    ends = parser.add_argument_group("sources, copies and sound")
    ends.add_argument(
        "--decode-with",
        metavar="KIND",
        help=f"a decoder outside the CPU, where it works: {', '.join(DECODERS)}",
    )
    ends.add_argument("--layer", metavar="NAME", help="of EXR images that hold several, as diffuse, or plain")
    ends.add_argument("--view", metavar="NAME", help="of EXR images that hold several, as left")
    ends.add_argument(
        "--exact-cuts",
        action="store_true",
        default=None,
        help="encode a shot that cannot be copied from its very first to its very last frame",
    )
    ends.add_argument(
        "--joined",
        metavar="WHETHER",
        help=f"one file of all copies: {', '.join(WHETHER_JOINED)} (default: no)",
    )
    ends.add_argument(
        "--sound",
        metavar="PATH",
        action="append",
        default=[],
        help="waves of a sound recorder, to take the place of the camera's sound by timecode (repeatable)",
    )
    ends.add_argument(
        "--accept-gaps",
        action="store_true",
        default=None,
        help="also make sources in which one picture stands for more than an hour",
    )
    ends.add_argument(
        "--accept-damaged",
        action="store_true",
        default=None,
        help="make what can be made of damaged footage, and count what is missing",
    )
    parser.add_argument("--json", action="store_true", help="print JSON instead of tables")


def add_images_rate(parser: argparse.ArgumentParser) -> None:
    """The rate of sources that carry none."""
    parser.add_argument(
        "--images-rate",
        metavar="RATE",
        help="frame rate of numbered images, which carry none, in fps (default: 24)",
    )


def images_from(arguments: argparse.Namespace) -> ImageSettings:
    """How numbered images are read, by --images-rate."""
    from boxkite.core.footage.source import ImageSettings
    from boxkite.core.timebase import FrameRate

    return ImageSettings(FrameRate.parse(arguments.images_rate) if arguments.images_rate else None)


def words_from(arguments: argparse.Namespace) -> JobWords:
    """The words of a job: those of a job file among the paths, with those of the command line over them."""
    from boxkite.core.errors import RequestError
    from boxkite.core.job.file import is_job_file, read_job_file
    from boxkite.core.job.said import FIELD_OF, TAKES_LIST, JobWords, laid_over

    files = [path_from(path) for path in arguments.paths if is_job_file(Path(path))]
    if len(files) > 1:
        raise RequestError("one job file at a time", hint=f"leave out {files[1]}")
    said = {name: getattr(arguments, name) for name in FIELD_OF.values() if hasattr(arguments, name)}
    said["paths"] = [path for path in arguments.paths if not is_job_file(Path(path))]
    given: dict[str, Any] = {
        name: tuple(value) if name in TAKES_LIST else value
        for name, value in said.items()
        if value is not None and value != []
    }
    words = laid_over(read_job_file(files[0]) if files else JobWords(), JobWords(**given))
    return laid_over(words, _set_words(arguments))


def _set_words(arguments: argparse.Namespace) -> JobWords:
    """Those of --set KEY=VALUE that are words of the job."""
    from boxkite.cli.settings import read_setting
    from boxkite.core.job.file import words_of_tables
    from boxkite.core.job.said import FIELD_OF

    settings = dict(read_setting(text) for text in arguments.changes)
    return words_of_tables({key: value for key, value in settings.items() if key in FIELD_OF}, "--set")


def preset_changes(arguments: argparse.Namespace, words: JobWords) -> dict[str, Any]:
    """Those of --set KEY=VALUE that are settings of presets. Raises RequestError for what is neither."""
    from dataclasses import fields

    from boxkite.cli.settings import read_setting
    from boxkite.core.errors import RequestError
    from boxkite.core.job.said import FIELD_OF
    from boxkite.core.presets.library import list_presets
    from boxkite.core.presets.model import Preset
    from boxkite.core.suggest import did_you_mean

    names = [*words.presets, *(file.name for file in list_presets())]
    keys = [one.name for one in fields(Preset)]
    changes = {}
    for text in arguments.changes:
        key, value = read_setting(text)
        first = key.partition(".")[0]
        if key in FIELD_OF:
            continue
        if first not in names and first not in keys:
            hint = did_you_mean(first, [*FIELD_OF, *keys, *names])
            raise RequestError(
                f"--set {text}: “{first}” is no word of a job, no preset and no setting of one", hint=hint
            )
        changes[key] = value
    return changes


def job_from(arguments: argparse.Namespace) -> Job:
    """The job these words describe. Raises a RequestError for words that do not hold."""
    from boxkite.core.errors import RequestError
    from boxkite.core.job.said import job_from_words

    words = words_from(arguments)
    if not words.paths:
        raise RequestError(
            "no footage is named", hint="name files, folders, a timeline, or a job file (.toml)"
        )
    changes = preset_changes(arguments, words)
    return job_from_words(words, origin=_job_file(arguments), changes=changes, user=_user())


def job_on(
    job_file: str, changes: Sequence[str], paths: Sequence[Path], *, metadata: Sequence[Path] = ()
) -> Job:
    """The job of a job file on footage that comes from elsewhere. changes: as --set says them.

    metadata: tables of facts beside its own. Raises a RequestError for words that do not hold, or that name footage.
    """
    from dataclasses import replace

    from boxkite.core.errors import PlanError
    from boxkite.core.job.file import is_job_file
    from boxkite.core.job.said import job_from_words

    origin = Path(job_file)
    if not is_job_file(origin):
        raise PlanError("this is no job file (.toml)", path=origin)
    asked = argparse.Namespace(paths=[job_file], changes=changes)
    words = words_from(asked)
    if words.paths:
        raise PlanError(
            "the job names footage; here that comes from elsewhere",
            path=origin,
            key="paths",
            hint="leave it out",
        )
    tables = (*words.metadata, *map(str, metadata))
    words = replace(words, paths=tuple(map(str, paths)), metadata=tables)
    return job_from_words(words, origin=origin, changes=preset_changes(asked, words), user=_user())


def _user() -> str:
    import getpass

    try:
        return getpass.getuser()
    except (KeyError, OSError):
        return ""


def _job_file(arguments: argparse.Namespace) -> Path | None:
    return next((Path(path) for path in arguments.paths if path.lower().endswith(".toml")), None)


def presets_tuned(arguments: argparse.Namespace, words: JobWords) -> JobWords:
    """The words with what --set says of presets written into presets of their own, for a job file."""
    from dataclasses import replace

    from boxkite.core.presets.inheriting import BASED_ON

    changes = preset_changes(arguments, words)
    if not changes:
        return words
    presets = {name: dict(tables) for name, tables in words.presets.items()}
    named = {text.partition(":")[0] for text in words.to}
    for key, value in changes.items():
        first, _, rest = key.partition(".")
        for name in [first] if first in named else sorted(named):
            tables = presets.setdefault(name, {BASED_ON: name})
            *above, last = (rest if first in named else key).split(".")
            for table in above:
                tables = tables.setdefault(table, {})
            tables[last] = value
    return replace(words, presets=presets)
