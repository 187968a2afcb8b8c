"""Tables as files: cells that no spreadsheet takes for a formula, and the bytes of a table."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Sequence

_FORMULA = ("=", "+", "-", "@", "\t", "\r", "\uff1d", "\uff0b", "\uff0d", "\uff20")
"""Characters that begin a formula in spreadsheets, full-width forms too."""


def guarded(value: str) -> str:
    """A cell that no spreadsheet takes for a formula: an apostrophe before what begins like one.

    Spaces before it do not help; an apostrophe that stood there already gets another, so that plain_cell gives back
    what was written.
    """
    begins = value.lstrip(" \n'")
    return f"'{value}" if begins.startswith(_FORMULA) else value


def plain_cell(value: str) -> str:
    """A cell without the apostrophe that guards it."""
    return value[1:] if value.startswith("'") and value[1:].lstrip(" \n'").startswith(_FORMULA) else value


def table_bytes(
    rows: Iterable[Sequence[str]], *, delimiter: str = ",", line_end: str = "\r\n", marked: bool = True
) -> bytes:
    """A table as CSV (RFC 4180) in UTF-8, every cell guarded. marked: with the mark that tells spreadsheets so."""
    text = io.StringIO(newline="")
    writer = csv.writer(text, delimiter=delimiter, lineterminator=line_end)
    for row in rows:
        writer.writerow([guarded(cell) for cell in row])
    return text.getvalue().encode("utf-8-sig" if marked else "utf-8", "surrogateescape")
