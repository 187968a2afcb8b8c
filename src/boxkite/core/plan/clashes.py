"""Paths that would clash with each other."""

from __future__ import annotations

import os
from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path

from msgspec.structs import replace

from boxkite.core.errors import PlanError, setting
from boxkite.core.files.names import clash_key
from boxkite.core.plan.rows import Row


def check_clashes(rows: Sequence[Row], folders: Mapping[Path, Row], pattern: str) -> None:
    """Make sure no two rows write to what some file system takes for one path.

    folders: that they are written to, as folders_of has them. Raises PlanError that lists both sides and a pattern that
    would work.
    """
    seen: dict[str, Row] = {}
    for row in rows:
        key = clash_key(row.place)
        other = seen.setdefault(key, row)
        if other is not row:
            raise PlanError(_clash_message(other, row), hint=_working_pattern(other, row, rows, pattern))
    for folder, row in folders.items():
        for parent in (folder, *folder.parents):
            if other_row := seen.get(clash_key(str(parent))):
                raise PlanError(
                    f"{_side(other_row)} would be a file where {_side(row)} needs a folder",
                    hint="give one of them another name",
                )


def numbered(rows: Sequence[Row], taken: Callable[[Path], bool]) -> list[Row]:
    """The rows with _2, _3 … after names that others of them bear, or that are taken on the disk."""
    seen: set[str] = set()
    result = []
    for row in rows:
        number, found = 1, row
        while (key := clash_key(found.place)) in seen or taken(found.path):
            number += 1
            found = renamed(row, f"{row.name}_{number}")
        seen.add(key)
        result.append(found)
    return result


def renamed(row: Row, name: str) -> Row:
    """The row with another name below its folder."""
    return replace(row, name=name)


def folders_of(rows: Sequence[Row]) -> dict[Path, Row]:
    """Every folder that files are written to, with the first row that needs it."""
    firsts: dict[tuple[int, str], Row] = {}
    for row in rows:
        firsts.setdefault(
            (id(row.folder), row.name.rpartition("/")[0]), row
        )  # which those of an output share
    return {row.path.parent: row for row in reversed(firsts.values())}


def _side(row: Row) -> str:
    return f"“{row.name}” ({row.preset.name}, {row.shot.origin}, in {row.in_timecode})"


def _clash_message(first: Row, second: Row) -> str:
    how = "" if first.path == second.path else " but for case or composition"
    return f"two files would have one name{how}: {_side(first)} and {_side(second)}"


def _working_pattern(first: Row, second: Row, rows: Sequence[Row], pattern: str) -> str:
    if first.shot is second.shot:
        return f'give each preset a separate folder, or use {setting("names")} "{pattern}_@preset"'
    digits = "0" * (len(str(len(rows))) - 1) + "1"
    added = (
        "[_@again]" if "again" not in pattern.casefold() and _can_be_numbered(rows) else f"_@(count:{digits})"
    )
    return f'a pattern that works: {setting("names")} "{pattern}{added}"; or {setting("existing")} number'


def _can_be_numbered(rows: Sequence[Row]) -> bool:
    """Whether _2, _3 … after the second and further rows of one name give no name that another row has."""
    seen: Counter[str] = Counter()
    made = set()
    for row in rows:
        key = clash_key(row.place)
        seen[key] += 1
        made.add(clash_key(renamed(row, f"{row.name}_{seen[key]}").place) if seen[key] > 1 else key)
    return len(made) == len(rows)


def check_folder(folder: Path) -> None:
    """Make sure a folder is there and can be written to, or can be made. Raises PlanError."""
    for ancestor in (folder, *folder.parents):
        if ancestor.is_dir():
            if not os.access(ancestor, os.W_OK | os.X_OK) or _read_only(ancestor):
                raise PlanError(
                    "this folder cannot be written to",
                    path=ancestor,
                    hint=f"choose another with {setting('to')}",
                )
            return
        if ancestor.exists() or ancestor.is_symlink():
            raise PlanError(
                "this is a file, not a folder", path=ancestor, hint=f"choose another with {setting('to')}"
            )


def _read_only(folder: Path) -> bool:
    """Whether the volume is mounted read-only, which a right to write does not tell."""
    statvfs = getattr(os, "statvfs", None)
    return bool(statvfs and statvfs(folder).f_flag & getattr(os, "ST_RDONLY", 0))


def check_inside(folders: Mapping[Path, Row]) -> None:
    """Make sure no path leaves its output folder, through links that are there already either.

    folders: that rows are written to, as folders_of has them. Raises PlanError.
    """
    for parent, row in folders.items():
        folder = row.folder
        if not parent.resolve().is_relative_to(folder.resolve()):
            name = row.name
            raise PlanError(
                f"“{name}” would be written outside the output folder, to {parent.resolve()}",
                path=folder,
                hint="a link inside the folder points elsewhere",
            )
