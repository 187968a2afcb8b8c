"""Tables and lines on the terminal: fitted to the window, plain and complete when piped."""

from __future__ import annotations

import json
import sys
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Any

from rich.console import Console
from rich.table import Table
from rich.text import Text

_PIPED_WIDTH = 100_000


def make_console(*, stderr: bool = False) -> Console:
    """The terminal; as wide as the longest line where it is none."""
    stream = sys.stderr if stderr else sys.stdout
    width = None if stream.isatty() else _PIPED_WIDTH
    return Console(stderr=stderr, width=width, highlight=False, soft_wrap=not stream.isatty())


@dataclass(frozen=True)
class Column:
    """One column. gives_way: its cells are shortened first when the window is narrow."""

    heading: str
    right: bool = False
    gives_way: bool = False
    style: str = ""


def print_table(console: Console, columns: Sequence[Column], rows: Iterable[Sequence[str]]) -> None:
    """Print rows under headings, one line each."""
    table = Table(box=None, pad_edge=False, header_style="bold", padding=(0, 2, 0, 0))
    piped = not console.is_terminal
    for column in columns:
        table.add_column(
            column.heading,
            justify="right" if column.right else "left",
            no_wrap=True,
            overflow="ignore" if piped else "ellipsis",
            ratio=1 if column.gives_way and not piped else None,
            min_width=None if column.gives_way else max(len(column.heading), 1),
            style=column.style,
        )
    for row in rows:
        table.add_row(*(Text(printable(cell)) for cell in row))
    console.print(table)


def print_line(console: Console, text: str, style: str = "") -> None:
    """Print one line or, in a window, a wrapped paragraph; no markup is read in it."""
    console.print(Text(printable(text), style=style))


def printable(text: str) -> str:
    """Text from strangers with everything left out that would command the terminal."""
    return "".join(sign if sign.isprintable() else "\N{REPLACEMENT CHARACTER}" for sign in text)


def print_json(value: Any) -> None:
    """Print a value as JSON on the standard output."""
    json.dump(value, sys.stdout, indent=2, ensure_ascii=False)
    sys.stdout.write("\n")


def file_size(size_bytes: int) -> str:
    """A size as people read it: 12.3 MB (of a million bytes)."""
    value, unit = float(size_bytes), "B"
    for larger in ("kB", "MB", "GB", "TB"):
        if value < 999.5:
            break
        value, unit = value / 1000, larger
    return f"{value:.0f} {unit}" if unit == "B" or value >= 99.5 else f"{value:.1f} {unit}"


def counted(number: int, noun: str) -> str:
    """A number with its noun: 1 file, 2 files."""
    return f"{number} {noun}" if number == 1 else f"{number} {noun}s"
