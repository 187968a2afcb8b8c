"""Help that fits a screen: the options used most, one line each; --help-all has the rest."""

from __future__ import annotations

import argparse
import re
import sys
import textwrap
from collections.abc import Sequence
from typing import Any

SCREEN_LINES, SCREEN_COLUMNS = 24, 80
_MOST_EXAMPLES = 3
_FIRST = (
    "marks",
    "by",
    "names",
    "to",
    "only",
    "in",
    "out",
    "handles",
    "metadata",
    "existing",
    "look",
    "set",
    "json",
)
"""Options of a job in the order people need them; those of other commands come as they are declared."""


class ShortHelp(argparse.Action):
    """Prints help of one screen."""

    def __init__(self, option_strings: Sequence[str], dest: str = "help", **settings: Any) -> None:
        super().__init__(
            option_strings, dest=argparse.SUPPRESS, default=argparse.SUPPRESS, nargs=0, **settings
        )

    def __call__(self, parser: argparse.ArgumentParser, *_: object) -> None:
        """Print it, and end."""
        full = parser.format_help()
        lines = full.splitlines()
        fits = len(lines) < SCREEN_LINES and max(map(len, lines)) <= SCREEN_COLUMNS
        sys.stdout.write(full if fits else short_help(parser))
        parser.exit()


class LongHelp(ShortHelp):
    """Prints all help."""

    def __call__(self, parser: argparse.ArgumentParser, *_: object) -> None:
        """Print it, and end."""
        sys.stdout.write(parser.format_help())
        parser.exit()


def short_help(parser: argparse.ArgumentParser) -> str:
    """The help of a command in at most SCREEN_LINES lines."""
    shown = [action for action in parser._actions if action.help != argparse.SUPPRESS]
    places = [action for action in shown if not action.option_strings]
    options = [action for action in shown if action.option_strings and not isinstance(action, ShortHelp)]
    usage = f"usage: {parser.prog} [options] {' '.join(_place(action) for action in places)}".rstrip()
    about = textwrap.wrap((parser.description or "").split("\n\n")[0].replace("\n", " "), SCREEN_COLUMNS - 1)
    given = [line for line in (parser.epilog or "").splitlines()[1:] if line.strip()]
    examples = [line for line in given if len(line) < SCREEN_COLUMNS][:_MOST_EXAMPLES]
    room = SCREEN_LINES - 7 - len(about) - len(examples)
    rows = [row for action in places for row in _rows_of_place(action)]
    wanted = sorted(options, key=_rank)[: max(0, room - len(rows))]
    rows += [(_option(action), action.help or "") for action in options if action in wanted]
    wide = max(len(left) for left, _ in rows)
    lines = [usage, "", *about, "", *(_line(left, text, wide) for left, text in rows)]
    if examples:
        lines += ["", "examples:", *examples]
    more = f"lists all {len(options)} options" if len(wanted) < len(options) else "says more"
    return "\n".join([*lines, "", f"{parser.prog} --help-all {more}"]) + "\n"


def _rank(action: argparse.Action) -> tuple[int, int]:
    name = action.option_strings[-1].lstrip("-")
    if name == "debug":
        return len(_FIRST) + 2, 0
    return (_FIRST.index(name), 0) if name in _FIRST[:-1] else (len(_FIRST) + (name == "json"), 0)


def _place(action: argparse.Action) -> str:
    name = action.metavar if isinstance(action.metavar, str) else action.dest.upper()
    if isinstance(action, argparse._SubParsersAction):
        return f"{name} …"
    nargs = getattr(action, "save_nargs", action.nargs)  # while options and paths are read mixed
    return {"+": f"{name} …", "*": f"[{name} …]", "?": f"[{name}]"}.get(str(nargs or ""), name)


def _rows_of_place(action: argparse.Action) -> list[tuple[str, str]]:
    """What stands without dashes: one line, or one for each action of a command that has several."""
    if isinstance(action, argparse._SubParsersAction):
        return [(one.dest, one.help or "") for one in action._choices_actions]
    return [("|".join(map(str, action.choices)) if action.choices else _place(action), action.help or "")]


def _option(action: argparse.Action) -> str:
    named = action.metavar or "|".join(map(str, action.choices or ())) or action.dest.upper()
    value = "" if action.nargs == 0 else f" {named}"
    return f"{action.option_strings[-1]}{value}"


def _line(left: str, text: str, wide: int) -> str:
    """One line for an option: the first clause of its help that fits."""
    room = SCREEN_COLUMNS - 5 - wide
    clause = re.split(r"; | \(|: ", text.replace("%%", "%"), maxsplit=1)[0]
    while len(clause) > room and ", " in clause:
        clause = clause.rpartition(", ")[0]
    if len(clause) > room:
        clause = textwrap.shorten(clause, room, placeholder=" …") if room > len(clause) // 2 else ""
    return f"  {left:<{wide}}  {clause}".rstrip()
