"""Print the JSON Schema of what a command prints with --json, of preset files, or of job files."""

from __future__ import annotations

import argparse
import sys
from importlib import resources

EXAMPLES = """\
examples:
  boxkite schema
  boxkite schema plan
  boxkite schema job > job.schema.json
"""
_OF_FILES = ("job", "preset")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Of what."""
    parser.add_argument("name", nargs="?", metavar="NAME", help="of what (default: list the names)")


def run(arguments: argparse.Namespace) -> int:
    """Print it, or the names there are."""
    from boxkite.core.errors import RequestError
    from boxkite.core.suggest import did_you_mean

    folder = resources.files("boxkite.cli").joinpath("schemas")
    names = sorted(one.name.removesuffix(".json") for one in folder.iterdir() if one.name.endswith(".json"))
    name = arguments.name
    if name is None:
        sys.stdout.write("\n".join([*names, *_OF_FILES]) + "\n")
        return 0
    if name in _OF_FILES:
        from boxkite.cli.tables import print_json
        from boxkite.core.job.file import job_schema
        from boxkite.core.presets.reading import preset_schema

        print_json(job_schema() if name == "job" else preset_schema())
        return 0
    if name not in names:
        known = [*names, *_OF_FILES]
        hint = did_you_mean(name, known) or f"there are: {', '.join(known)}"
        raise RequestError(f"there is no schema “{name}”", hint=hint)
    sys.stdout.write(folder.joinpath(f"{name}.json").read_text(encoding="utf-8"))
    return 0
