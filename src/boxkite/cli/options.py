"""The options of a job on the command line: made from their declaration, the same in every command that takes them."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING, Any

from boxkite.cli.messages import with_options
from boxkite.cli.settings import add_settings
from boxkite.core.job.job import GROUPS, OPTIONS

if TYPE_CHECKING:
    from boxkite.core.footage.source import ImageSettings
    from boxkite.core.job.job import Job
    from boxkite.core.job.option import Option
    from boxkite.core.job.request import JobRequest


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
    keywords: dict[str, Any] = {"help": shown, "default": None, "dest": one.key.replace("-", "_")}
    if one.kind == "yes or no":
        parser.add_argument(f"--{one.key}", action="store_true", **keywords)
    elif one.kind == "number":
        parser.add_argument(f"--{one.key}", type=int, metavar=one.metavar, **keywords)
    else:
        action = "append" if one.is_repeatable else "store"
        parser.add_argument(f"--{one.key}", action=action, metavar=one.metavar, **keywords)


def add_job_arguments(parser: argparse.ArgumentParser, command: str) -> None:
    """A whole job: footage, where to cut, names, outputs; and how it is shown."""
    parser.add_argument("paths", nargs="+", metavar=OPTIONS["paths"].metavar, help=OPTIONS["paths"].help)
    add_job_options(parser, command)
    add_settings(
        parser,
        "any option of a job file, or a setting of a preset: review.video.quality=20, or fit=1280x720 for"
        " all of them",
    )
    parser.add_argument("--left-out", action="store_true", help="list what is left out, with the reason")
    parser.add_argument(
        "--warnings", action="store_true", help="list every warning, not one line for each kind"
    )
    parser.add_argument("--json", action="store_true", help="print JSON instead of tables")


def images_from(arguments: argparse.Namespace) -> ImageSettings:
    """How numbered images are read, by --images-rate."""
    from boxkite.core.footage.source import ImageSettings
    from boxkite.core.timebase import FrameRate

    return ImageSettings(FrameRate.parse(arguments.images_rate) if arguments.images_rate else None)


def request_from(arguments: argparse.Namespace) -> JobRequest:
    """The job that the command line asks for. Raises RequestError."""
    from boxkite.core.job.request import read_request

    given = {key: getattr(arguments, key.replace("-", "_"), None) for key in OPTIONS}
    return read_request(arguments.paths, given, getattr(arguments, "changes", []))


def job_from(arguments: argparse.Namespace) -> Job:
    """The job these options describe. Raises a RequestError for values that are none."""
    return request_from(arguments).job(current_user())


def current_user() -> str:
    """Who runs the program; empty where the system does not tell."""
    import getpass

    try:
        return getpass.getuser()
    except (KeyError, OSError):
        return ""
