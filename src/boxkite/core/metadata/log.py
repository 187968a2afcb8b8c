"""Tab-delimited log exchange files (.ale): a heading of keys and values, the names of columns, rows of data."""

from __future__ import annotations

from pathlib import Path

from boxkite.core.errors import MarksError
from boxkite.core.files.table import MOST_COLUMNS, Table, TableRow
from boxkite.core.files.text import read_text, split_lines

_SECTIONS = ("heading", "column", "data")


def read_log(path: Path) -> tuple[Table, dict[str, str]]:
    """Read a log as (table, heading). Raises MarksError for a file without columns or data."""
    section = ""
    heading: dict[str, str] = {}
    columns: list[str] = []
    rows: list[TableRow] = []
    for number, line in enumerate(split_lines(read_text(path)), start=1):
        if line.strip().casefold() in _SECTIONS:
            section = line.strip().casefold()
        elif not line.strip():
            continue
        elif section == "heading":
            key, _, value = line.partition("\t")
            heading[key.strip()] = value.strip()
        elif section == "column" and not columns:
            columns = [name.strip() for name in line.split("\t")]
            if len(columns) > MOST_COLUMNS:
                raise MarksError(f"{len(columns)} columns are too many", path=path, line=number)
        elif section == "data":
            cells = [cell.strip() for cell in line.split("\t")]
            if columns and any(cells):
                named = {name: cell for name, cell in zip(columns, cells, strict=False) if name}
                rows.append(TableRow(number, named))
    if not columns:
        raise MarksError(
            "this log has no Column section that names its columns",
            path=path,
            hint="export it again, tab-delimited",
        )
    if not rows:
        raise MarksError("this log has no rows under Data", path=path)
    return Table(path, tuple(name for name in columns if name), tuple(rows)), heading
