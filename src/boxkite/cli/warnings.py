"""Warnings on the terminal: grouped by kind, the rarest in full, above what they are about."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING

from boxkite.cli.screen import Screen

if TYPE_CHECKING:
    from boxkite.core.files.walking import Unseen
    from boxkite.core.notices.notice import Notice
    from boxkite.core.plan.rows import Row

_IN_FULL = 2
"""Warnings of one kind that are printed in full; of more, the first and the numbers of the others."""
_MOST_LINES = 60


def show_warnings(
    screen: Screen, rows: Sequence[Row], notices: Sequence[Notice], *, in_full: bool = False
) -> None:
    """Print the notices about a plan and the warnings of its rows, one line per kind unless in_full."""
    from boxkite.core.plan.rows import rows_by_shot

    found: list[tuple[str, str, Notice]] = []
    for of_shot in rows_by_shot([row for row in rows if row.warnings]):
        numbers_of: dict[Notice, list[int]] = {}
        for row in of_shot:
            for warning in row.warnings:
                numbers_of.setdefault(warning, []).append(row.number)
        found += [(_numbers(numbers), of_shot[0].name, warning) for warning, numbers in numbers_of.items()]
    lines = warning_lines([*(("", "", notice) for notice in notices), *found], in_full=in_full)
    for line in lines:
        screen.print(f"! {line}", "yellow")
    if lines:
        screen.print()


def warning_lines(warnings: Iterable[tuple[str, str, Notice]], *, in_full: bool = False) -> list[str]:
    """Lines for (number, name, warning), the most frequent kind first; of a frequent kind one line, unless in_full."""
    by_kind: dict[str, list[tuple[str, str, Notice]]] = {}
    for one in warnings:
        by_kind.setdefault(one[2].kind, []).append(one)
    lines = []
    for group in sorted(by_kind.values(), key=len, reverse=True):
        if in_full or len(group) <= _IN_FULL:
            lines += [_line(*one) for one in group]
            continue
        numbers = ", ".join(number for number, _, _ in group[1:] if number)
        shortened = f"{numbers[:50].rpartition(',')[0]} …" if len(numbers) > 50 else numbers
        lines.append(f"{_line(*group[0])} ({len(group) - 1} more{': ' if numbers else ''}{shortened})")
    if len(lines) > _MOST_LINES and not in_full:
        return [*lines[:_MOST_LINES], f"and {len(lines) - _MOST_LINES} more: --warnings lists all"]
    return lines


def show_unseen(screen: Screen, unseen: Sequence[Unseen]) -> None:
    """Print the folders that could not be entered, last on the screen: footage may be missing there."""

    for one in unseen[:_MOST_LINES]:
        screen.print(f"! {one.path}: {one.reason}", "bold red")
    if len(unseen) > _MOST_LINES:
        screen.print(f"and {len(unseen) - _MOST_LINES} more: --json has them all", "bold red")


def _line(number: str, name: str, warning: Notice) -> str:
    return f"{number} {name}: {warning.marked}" if name else warning.marked


def _numbers(numbers: Sequence[int]) -> str:
    if len(numbers) == 1:
        return f"{numbers[0]}"
    return f"{numbers[0]}, {numbers[-1]}" if len(numbers) == 2 else f"{numbers[0]}-{numbers[-1]}"
