"""Completion in the shell: commands, options, presets, tokens of a pattern, batches, keywords of the marks at hand."""

from __future__ import annotations

import argparse
import os
import re
import shlex
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import Any, get_args

from boxkite.cli.dispatch import Parser, add_command
from boxkite.cli.main import COMMANDS

Completer = Callable[..., Iterable[str]]
_TOKEN = re.compile(r"@(\(?)([^@()\[\]/]*)$")


def complete() -> None:
    """Answer the shell that asks by argcomplete's variables, and end."""
    import argcomplete

    line = os.environ.get("COMP_LINE", "")
    try:
        words = shlex.split(line[: int(os.environ.get("COMP_POINT", len(line)))])
    except ValueError:  # within quotes
        words = line.split()
    argcomplete.autocomplete(_parser(words[1] if len(words) > 1 else ""), always_complete_options="long")


def _parser(command: str) -> argparse.ArgumentParser:
    """A parser of all commands, the one that is typed with its options."""
    parser = Parser(prog="boxkite")
    actions = parser.add_subparsers()
    for name, summary in COMMANDS.items():
        own = actions.add_parser(name, help=summary)
        if name == command:
            add_command(own, name)
            _set_completers(own)
    helped = actions.add_parser("help", help="the help of a command")
    helped.add_argument("command", choices=list(COMMANDS))
    return parser


def _set_completers(parser: argparse.ArgumentParser) -> None:
    for action in parser._actions:
        if isinstance(action, argparse._SubParsersAction):
            for inner in set(action.choices.values()):
                _set_completers(inner)
        elif found := _completer_of(parser.prog, action):
            action.completer = found  # type: ignore[attr-defined]


def _completer_of(prog: str, action: argparse.Action) -> Completer | None:
    from boxkite.core.job.allowed import By
    from boxkite.core.job.job import OPTIONS

    by_name: dict[str, Completer] = {
        "to": _outputs, "names": _patterns, "only": _choices, "except": _choices, "batch": _batches, "since": _batches,
        "delivery": _batches, "what": _batches, "columns": _columns, "show": _columns, "preset": _presets,
        "based_on": _presets, "keyword": _keywords, "by": lambda **_: get_args(By),
    }  # fmt: skip
    if action.dest == "names" and prog.endswith("presets"):
        return _presets
    if action.dest == "name" and "change" in prog:
        return _patterns
    if found := by_name.get(action.dest):
        return found
    option = OPTIONS.get(action.dest.replace("_", "-"))
    if option and option.allowed:
        return lambda **_: [str(one) for one in option.allowed]
    return None


def _presets(**_: Any) -> list[str]:
    from boxkite.core.presets.library import list_presets

    return [preset.name for preset in list_presets()]


def _columns(**_: Any) -> list[str]:
    from boxkite.core.handover.columns import built_in_mappings

    return built_in_mappings()


def _outputs(prefix: str, **_: Any) -> list[str]:
    """PRESET:FOLDER: the preset first, then a folder."""
    import argcomplete

    preset, colon, folder = prefix.partition(":")
    if not colon:
        return [f"{name}:" for name in _presets()]
    return [f"{preset}:{found}" for found in argcomplete.completers.DirectoriesCompleter()(folder)]


def _patterns(prefix: str, **_: Any) -> list[str]:
    """A pattern with the token at its end completed."""
    from boxkite.core.naming.saved import saved_patterns
    from boxkite.core.shots.tokens import TOKENS

    if not (begun := _TOKEN.search(prefix)):
        return [*(f"saved:{name}" for name in saved_patterns()), *([f"{prefix}@"] if not prefix else [])]
    before = prefix[: begun.start()]
    names = [name for name in TOKENS if name.startswith(begun[2])]
    return [f"{before}@({name})" if begun[1] or not name.isalpha() else f"{before}@{name}" for name in names]


def _choices(parsed_args: argparse.Namespace, **_: Any) -> list[str]:
    """What --only and --except take, with the keywords of the marks that are named or lie beside the footage."""
    words = [f"keyword:{word}" for word in _keywords(parsed_args)]
    return ["circled", "marked", *words, *(f"{kind}:" for kind in ("keyword", "name", "track", "number"))]


def _keywords(parsed_args: argparse.Namespace, **_: Any) -> list[str]:
    from boxkite.core.edit.reading import read_marks
    from boxkite.core.errors import BoxkiteError
    from boxkite.core.marks.mark_table import table_beside

    given = getattr(parsed_args, "marks", None)
    paths = getattr(parsed_args, "paths", None) or [getattr(parsed_args, "path", None)]
    tables = [Path(given)] if given else [table_beside(Path(str(path))) for path in paths if path]
    found: dict[str, None] = {}
    for table in dict.fromkeys(tables):
        try:
            found |= dict.fromkeys(word for mark in read_marks(table).marks for word in mark.keywords)
        except (BoxkiteError, OSError):
            continue
    return list(found)


def _batches(**_: Any) -> list[str]:
    from boxkite.core.records.overview import overviews
    from boxkite.core.records.store import LAST, Records

    if not Records.are_kept():
        return []
    with Records() as records:
        return [LAST, *(one.name for one in overviews(records))]
