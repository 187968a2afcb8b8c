"""Facts from tables, joined to sources by file name."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path

from boxkite.core.edit.ranges import COLUMN_NAMES
from boxkite.core.edit.table import find_column, read_table
from boxkite.core.errors import MarksError
from boxkite.core.footage.source import Source


def read_facts(
    paths: Sequence[Path], sources: Sequence[Source]
) -> tuple[dict[Path, Mapping[str, str]], list[str]]:
    """Each source's row of facts, and what in the tables found no source.

    A table names its sources in a column called source, file or clip, by file name with or without its
    ending. Where two tables speak of one column, the first that has a value keeps it.
    """
    facts: dict[Path, dict[str, str]] = {}
    notices: list[str] = []
    for path in paths:
        table = read_table(path)
        column = find_column(table, COLUMN_NAMES["source"])
        if column is None:
            raise MarksError(
                f"no column says which source a row is about; its columns are: {', '.join(table.columns)}",
                path=path,
                line=1,
                hint="call one of them source, file or clip",
            )
        for row in table.rows:
            name = row.cells[column].casefold()
            matching = [
                source
                for source in sources
                if name and name in (source.path.name.casefold(), source.clip_name.casefold())
            ]
            if not matching:
                notices.append(f"{path.name}:{row.line}: no source is called “{row.cells[column]}”")
            for source in matching:
                known = facts.setdefault(source.path, {})
                for key, value in row.cells.items():
                    if value and key != column:
                        known.setdefault(key, value)
    return {path: dict(values) for path, values in facts.items()}, notices
