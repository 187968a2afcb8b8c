"""Tab-delimited log exchange files (.ale): a heading of keys and values, the names of columns, rows of data."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from boxkite.core.errors import MarksError

_SECTIONS = ("heading", "column", "data")


def is_log(path: Path, lines: Sequence[str]) -> bool:
    """Whether a file is such a log: by its extension, or by its first line."""
    first = next((line for line in lines if line.strip()), "")
    return path.suffix.lower() == ".ale" or first.strip().casefold() == _SECTIONS[0]


def log_rows(path: Path, lines: Sequence[str]) -> list[tuple[int, list[str]]]:
    """(line, cells) of a log: the names of its columns, and its data. Raises MarksError where there are none.

    A name that comes twice is left out the second time.
    """
    section = ""
    rows: list[tuple[int, list[str]]] = []
    for number, line in enumerate(lines, start=1):
        if line.strip().casefold() in _SECTIONS:
            section = line.strip().casefold()
        elif not line.strip() or section in ("", "heading"):
            continue
        elif section == "column" and not rows:
            names = [name.strip() for name in line.split("\t")]
            seen = dict.fromkeys(names)
            rows.append((number, [name if seen.pop(name, 0) is None else "" for name in names]))
        elif section == "data" and rows:
            rows.append((number, line.split("\t")[: len(rows[0][1])]))
    if not rows:
        raise MarksError(
            "this log has no Column section that names its columns",
            path=path,
            hint="export it again, tab-delimited",
        )
    if not any(any(cell.strip() for cell in cells) for _, cells in rows[1:]):
        raise MarksError("this log has no rows under Data", path=path)
    return rows
