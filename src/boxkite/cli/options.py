"""The options of a job on the command line: made from their declaration, the same in every command that takes them."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING, Any

from boxkite.cli.messages import with_options
from boxkite.cli.settings import add_settings
from boxkite.core.files.reading import path_from
from boxkite.core.job.job import GROUPS, OPTIONS

if TYPE_CHECKING:
    from collections.abc import Sequence

    from boxkite.core.footage.source import ImageSettings
    from boxkite.core.job.job import Job
    from boxkite.core.job.option import Option
    from boxkite.core.job.options import JobOptions


def add_job_options(parser: argparse.ArgumentParser, command: str) -> None:
    """The options of a job that a command takes, but its paths."""
    taken = [one for key, one in OPTIONS.items() if command in one.commands and key != "paths"]
    for heading in GROUPS:
        listed = [one for one in taken if one.group == heading]
        group = parser.add_argument_group(heading) if heading and listed else parser
        for one in listed:
            _add(group, one)


def _add(parser: argparse._ActionsContainer, one: Option) -> None:
    shown = with_options(one.description).replace("%", "%%")
    words: dict[str, Any] = {"help": shown, "default": None, "dest": one.key.replace("-", "_")}
    if one.kind == "yes or no":
        parser.add_argument(f"--{one.key}", action="store_true", **words)
    elif one.kind == "number":
        parser.add_argument(f"--{one.key}", type=int, metavar=one.metavar, **words)
    else:
        action = "append" if one.is_repeatable else "store"
        parser.add_argument(f"--{one.key}", action=action, metavar=one.metavar, **words)


def add_job_arguments(parser: argparse.ArgumentParser, command: str) -> None:
    """A whole job: footage, where to cut, names, outputs; and how it is shown."""
    parser.add_argument("paths", nargs="+", metavar=OPTIONS["paths"].metavar, help=OPTIONS["paths"].help)
    add_job_options(parser, command)
    add_settings(
        parser,
        "any option of a job file, or a setting of a preset: review.video.quality=20, or fit=1280x720 for"
        " all of them",
    )
    parser.add_argument("--left-out", action="store_true", help="list what is left out, and why")
    parser.add_argument("--json", action="store_true", help="print JSON instead of tables")


def images_from(arguments: argparse.Namespace) -> ImageSettings:
    """How numbered images are read, by --images-rate."""
    from boxkite.core.footage.source import ImageSettings
    from boxkite.core.timebase import FrameRate

    return ImageSettings(FrameRate.parse(arguments.images_rate) if arguments.images_rate else None)


def options_from(arguments: argparse.Namespace) -> JobOptions:
    """The options of a job: those of a job file among the paths, with those of the command line over them."""
    return _options(arguments.paths, vars(arguments), getattr(arguments, "changes", []))


def _options(paths: Sequence[str], given: dict[str, Any], changes: Sequence[str]) -> JobOptions:
    from boxkite.core.errors import RequestError
    from boxkite.core.job.file import is_job_file, read_job_file
    from boxkite.core.job.options import JobOptions

    files = [path_from(path) for path in paths if is_job_file(Path(path))]
    if len(files) > 1:
        raise RequestError("one job file at a time", hint=f"leave out {files[1]}")
    written = {key: given.get(key.replace("-", "_")) for key in OPTIONS}
    written["paths"] = [path for path in paths if not is_job_file(Path(path))]
    typed = JobOptions({key: tuple(one) if isinstance(one, list) else one for key, one in written.items()})
    below = read_job_file(files[0]) if files else JobOptions()
    return _set_options(changes).over(typed.over(below))


def _set_options(changes: Sequence[str]) -> JobOptions:
    """Those of --set KEY=VALUE that are options of the job."""
    from boxkite.cli.settings import read_setting
    from boxkite.core.job.options import options_from_tables

    settings = dict(read_setting(text) for text in changes)
    return options_from_tables({key: value for key, value in settings.items() if key in OPTIONS}, "--set")


def preset_changes(changes: Sequence[str], options: JobOptions) -> dict[str, Any]:
    """Those of --set KEY=VALUE that are settings of presets. Raises RequestError for what is neither."""
    from dataclasses import fields

    from boxkite.cli.settings import read_setting
    from boxkite.core.errors import RequestError
    from boxkite.core.presets.library import list_presets
    from boxkite.core.presets.model import Preset
    from boxkite.core.suggest import did_you_mean

    names = [*options.get("presets", {}), *(file.name for file in list_presets())]
    keys = [one.name for one in fields(Preset)]
    found = {}
    for text in changes:
        key, value = read_setting(text)
        first = key.partition(".")[0]
        if key in OPTIONS:
            continue
        if first not in names and first not in keys:
            hint = did_you_mean(first, [*OPTIONS, *keys, *names])
            raise RequestError(
                f"--set {text}: “{first}” is no option of a job, no preset and no setting of one", hint=hint
            )
        found[key] = value
    return found


def job_from(arguments: argparse.Namespace) -> Job:
    """The job these options describe. Raises a RequestError for values that are none."""
    from boxkite.core.errors import RequestError
    from boxkite.core.job.options import job_from_options

    options = options_from(arguments)
    if not options.get("paths"):
        raise RequestError(
            "no footage is named", hint="name files, folders, a timeline, or a job file (.toml)"
        )
    changes = preset_changes(getattr(arguments, "changes", []), options)
    return job_from_options(options, origin=_job_file(arguments.paths), changes=changes, user=_user())


def job_on(
    job_file: str, changes: Sequence[str], paths: Sequence[Path], *, metadata: Sequence[Path] = ()
) -> Job:
    """The job of a job file on footage that comes from elsewhere. changes: as --set says them.

    metadata: tables beside those the job names. Raises a RequestError for values that are none, or that name footage.
    """
    from boxkite.core.errors import PlanError
    from boxkite.core.job.file import is_job_file
    from boxkite.core.job.options import job_from_options

    origin = Path(job_file)
    if not is_job_file(origin):
        raise PlanError("this is no job file (.toml)", path=origin)
    options = _options([job_file], {}, changes)
    if options.get("paths"):
        raise PlanError(
            "the job names footage; here that comes from elsewhere",
            path=origin,
            key="paths",
            hint="leave it out",
        )
    tables = (*options.get("metadata"), *map(str, metadata))
    options = options.replaced(paths=tuple(map(str, paths)), metadata=tables)
    return job_from_options(options, origin=origin, changes=preset_changes(changes, options), user=_user())


def _user() -> str:
    import getpass

    try:
        return getpass.getuser()
    except (KeyError, OSError):
        return ""


def _job_file(paths: Sequence[str]) -> Path | None:
    return next((Path(path) for path in paths if path.lower().endswith(".toml")), None)
