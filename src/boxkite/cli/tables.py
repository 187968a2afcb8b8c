"""Tables and lines on the terminal: fitted to the window, plain and complete when piped."""

from __future__ import annotations

import io
import json
import sys
from collections.abc import Sequence
from functools import lru_cache
from typing import Any, NamedTuple

from boxkite.cli.messages import printable, with_options
from boxkite.cli.screen import Line, Screen, width_of

_GAP = 2
_LEAST_WIDTH = 8


class Column(NamedTuple):
    """One column."""

    heading: str
    right: bool = False
    gives_way: bool = False
    """Its cells are shortened in a narrow window, after optional columns have gone."""
    optional: bool = False


def print_table(screen: Screen, columns: Sequence[Column], rows: Sequence[Sequence[str]]) -> None:
    """Print rows under headings, one line each, within the window; complete where there is none.

    Cells beyond the columns are not shown.
    """
    screen.print_lines(table_lines(screen, columns, rows), wrapped=False)


def table_lines(
    screen: Screen, columns: Sequence[Column], rows: Sequence[Sequence[str]], styles: Sequence[str] = ()
) -> list[Line]:
    """The lines of that table, none without columns, with their styles: the headings bold, the rows in their own."""
    if not columns:
        return []
    lines = _table_lines(screen, columns, rows)
    return list(zip(lines, ("bold", *(styles or [""] * len(rows))), strict=True))


def _table_lines(screen: Screen, columns: Sequence[Column], rows: Sequence[Sequence[str]]) -> list[str]:
    heads = [column.heading for column in columns]
    by_column = [_printable_column(list(cells)) for cells in zip(heads, *rows, strict=False)]
    widths = [max(map(len if one.is_plain else width_of, one.cells)) for one in by_column]
    natural = list(widths)
    shown = list(range(len(columns)))
    too_wide = sum(widths) + _GAP * (len(shown) - 1) - screen.width
    for index in reversed(range(len(columns))):
        if too_wide > 0 and columns[index].optional:
            shown.remove(index)
            too_wide -= widths[index] + _GAP
    for index in shown:
        if too_wide > 0 and columns[index].gives_way:
            kept = max(min(_LEAST_WIDTH, widths[index]), widths[index] - too_wide)
            too_wide -= widths[index] - kept
            widths[index] = kept
    fitted = [
        _fitted_column(
            by_column[index], widths[index], columns[index], is_whole=widths[index] >= natural[index]
        )
        for index in shown
    ]
    return [(" " * _GAP).join(parts).rstrip() for parts in zip(*fitted, strict=True)]


class _Cells(NamedTuple):
    """The cells of a column, fit to be printed."""

    cells: list[str]
    is_plain: bool
    """Whether each takes as many columns as it has characters."""


def _printable_column(cells: list[str]) -> _Cells:
    whole = "".join(cells)
    if whole.isascii() and whole.isprintable():
        return _Cells(cells, is_plain=True)
    return _Cells([printable(cell) for cell in cells], is_plain=False)


def _fitted_column(column: _Cells, width: int, what: Column, *, is_whole: bool) -> list[str]:
    """Cells padded to a width. is_whole: whether none need be shortened."""
    cells = column.cells
    if column.is_plain and is_whole:
        return [cell.rjust(width) for cell in cells] if what.right else [cell.ljust(width) for cell in cells]
    return [_fitted(cell, width, right=what.right) for cell in cells]


def _fitted(cell: str, width: int, *, right: bool) -> str:
    """A cell padded to a width, or shortened in its middle, where names differ least."""
    if width_of(cell) > width:
        from rich.cells import set_cell_size

        tail = (width - 1) * 2 // 5
        cell = set_cell_size(cell, width - 1 - tail).rstrip() + "…" + cell[len(cell) - tail :]
    missing = " " * (width - width_of(cell))
    return missing + cell if right else cell + missing


SCHEMA_VERSION = 1
"""Of what is printed as JSON: one more when a key goes or changes its type."""


def print_json(value: Any, schema: str = "") -> None:
    """Print a value as JSON on the standard output; names that are no proper text keep their odd bytes as \\udcXX.

    schema: the name of what describes it, which is printed along; empty where nothing does.
    """
    if schema:
        value = {"schema": f"boxkite/{schema}/{SCHEMA_VERSION}", **value}
    if isinstance(sys.stdout, io.TextIOWrapper):
        sys.stdout.reconfigure(errors="backslashreplace")
    sys.stdout.write(with_options(_json_text(value)) + "\n")


def print_json_lines(values: Sequence[Any]) -> None:
    """Print values as JSON, each on a line."""
    if isinstance(sys.stdout, io.TextIOWrapper):
        sys.stdout.reconfigure(errors="backslashreplace")
    text = "".join(f"{json.dumps(value, ensure_ascii=False)}\n" for value in values)
    sys.stdout.write(with_options(text))
    sys.stdout.flush()


def _json_text(value: Any) -> str:
    """JSON with the entries of its lists on a line each: quick to write, and fit to be searched line by line."""
    if not isinstance(value, dict):
        return json.dumps(value, indent=2, ensure_ascii=False)
    parts = []
    for key, inner in value.items():
        if isinstance(inner, list) and inner:
            text = "[\n    " + ",\n    ".join(json.dumps(one, ensure_ascii=False) for one in inner) + "\n  ]"
        else:
            text = json.dumps(inner, indent=2, ensure_ascii=False).replace("\n", "\n  ")
        parts.append(f"  {json.dumps(key, ensure_ascii=False)}: {text}")
    return "{\n" + ",\n".join(parts) + "\n}"


@lru_cache(maxsize=1024)
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
    if number == 1:
        return f"1 {noun}"
    return f"{number} {noun}es" if noun.endswith("ch") else f"{number} {noun}s"


def length_of_time(seconds: float) -> str:
    """A length of time as people say it: 8 s, 2 min 5 s, 3 h 20 min."""
    whole = round(seconds)
    if whole < 60:
        return f"{whole} s" if seconds >= 1 else "under a second"
    if whole < 3600:
        return f"{whole // 60} min {whole % 60} s"
    return f"{whole // 3600} h {whole % 3600 // 60} min"
