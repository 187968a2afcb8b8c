"""A catalogue of delivered files: a row for each, in the columns its receiver wants, within the receiver's limits."""

from __future__ import annotations

import io
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from msgspec import Struct

from boxkite.core.errors import RequestError
from boxkite.core.files.cells import table_bytes
from boxkite.core.handover.columns import ColumnMapping, cell_of, check_mapping, faults_of
from boxkite.core.handover.described import Described, Description
from boxkite.core.handover.extras import require
from boxkite.core.marks.ranges import split_keywords, value_under

FORMS = (".csv", ".tsv", ".xlsx")
_FIRST_ROW = 2
"""Of the table, below its head."""


class CatalogueRow(Struct, frozen=True):
    """One file's cells."""

    described: Described
    cells: tuple[tuple[str, ...], ...]
    """By column: one text, or the entries of a list."""


class Catalogue(Struct, frozen=True):
    """The rows, and what the receiver would not take."""

    mapping: ColumnMapping
    rows: tuple[CatalogueRow, ...]
    faults: tuple[str, ...]
    """Each with row, file and column."""

    def texts(self, row: CatalogueRow) -> list[str]:
        """A row's cells as they are written."""
        return [column.join.join(cell) if column.values else cell[0]
                for column, cell in zip(self.mapping.columns, row.cells, strict=True)]  # fmt: skip


def catalogue_of(description: Description, mapping: ColumnMapping) -> Catalogue:
    """Fill in the columns for every file. Raises PatternError for a token that is not known."""
    check_mapping(mapping, description.tokens | {"title", "description", "category", "location"})
    rows, faults = [], []
    seen: dict[tuple[str, str], int] = {}
    for number, one in enumerate(description.files, start=_FIRST_ROW):
        cells = []
        for column in mapping.columns:
            entries = cell_of(mapping, column, one.values, _keywords_of(one))
            cells.append(tuple(entries))
            found = faults_of(column, entries)
            text = column.join.join(entries)
            if column.unique and text:
                before = seen.setdefault((column.name, text.casefold()), number)
                found += [f"“{text}” is in row {before} already"] if before != number else []
            faults += [f"row {number} ({one.file.path.name}), {column.name}: {fault}" for fault in found]
        rows.append(CatalogueRow(one, tuple(cells)))
    return Catalogue(mapping, tuple(rows), tuple(faults))


def _keywords_of(one: Described) -> tuple[str, ...]:
    return one.shot.keywords or split_keywords(value_under(one.shot.metadata, "keywords"))


def require_form(path: Path) -> None:
    """Raises RequestError where a path's extension is none a catalogue is written in."""
    if path.suffix.lower() == ".xlsx":
        require("pandas", "a workbook")
    if path.suffix.lower() not in FORMS:
        raise RequestError(f"a catalogue is written as {', '.join(FORMS)}", path=path)


def catalogue_bytes(catalogue: Catalogue, form: str) -> bytes:
    """The catalogue as a file of a form, ".csv", ".tsv" or ".xlsx"; no cell of it is a formula."""
    head = [column.name for column in catalogue.mapping.columns]
    rows = [catalogue.texts(row) for row in catalogue.rows]
    if form == ".xlsx":
        return _workbook(head, rows)
    return table_bytes([head, *rows], delimiter="\t" if form == ".tsv" else ",")


def _workbook(head: Sequence[str], rows: Sequence[Sequence[str]]) -> bytes:
    import pandas
    from openpyxl.cell.cell import ILLEGAL_CHARACTERS_RE
    from openpyxl.utils import get_column_letter

    clean = [[ILLEGAL_CHARACTERS_RE.sub("", cell) for cell in row] for row in rows]
    written = io.BytesIO()
    with pandas.ExcelWriter(written, engine="openpyxl") as writer:
        pandas.DataFrame(clean, columns=list(head), dtype=str).to_excel(
            writer, sheet_name="shots", index=False
        )
        sheet: Any = writer.sheets["shots"]
        for row in sheet.iter_rows():
            for cell in row:
                if cell.data_type == "f":
                    cell.data_type = "s"  # a text that begins like a formula stays a text
                    cell.quotePrefix = True
        sheet.freeze_panes = "A2"
        for place, name in enumerate(head):
            longest = max([len(name), *(len(row[place]) for row in clean)])
            sheet.column_dimensions[get_column_letter(place + 1)].width = min(longest + 2, 60)
    return written.getvalue()
