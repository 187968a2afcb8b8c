"""Spreadsheet workbooks (.xlsx, ECMA-376) as rows of text: the first sheet that has something in it."""

from __future__ import annotations

import datetime
from collections.abc import Iterator
from pathlib import Path

from boxkite.core.errors import MarksError

WORKBOOK_SUFFIX = ".xlsx"
_MOST_BYTES = 256 * 1024 * 1024
"""Of its parts, unpacked."""
_MOST_ROWS, _MOST_COLUMNS = 300_000, 600


def workbook_rows(path: Path) -> list[list[str]]:
    """The cells of the first sheet that is not empty, as a reader would see them.

    Numbers without a fraction are whole, times are hours:minutes:seconds with a fraction, dates are ISO 8601. Formulas
    give what was last worked out. Raises MarksError for what is no workbook, or one too large.
    """
    import zipfile

    import openpyxl

    try:
        with zipfile.ZipFile(path) as parts:
            if sum(part.file_size for part in parts.infolist()) > _MOST_BYTES:
                raise MarksError(
                    "this workbook is too large", path=path, hint="export the sheet that is wanted as CSV"
                )
        book = openpyxl.load_workbook(path, read_only=True, data_only=True)
    except MarksError:
        raise
    except FileNotFoundError:
        raise MarksError("there is no such file", path=path) from None
    except OSError as error:
        raise MarksError(f"it cannot be read: {error.strerror or error}", path=path) from None
    except Exception:  # whatever a broken workbook makes the library say
        raise MarksError("this is not a workbook, or it is broken", path=path) from None
    try:
        for sheet in book.worksheets:
            rows = list(_rows(sheet.iter_rows(max_row=_MOST_ROWS, max_col=_MOST_COLUMNS, values_only=True)))
            if any(any(row) for row in rows):
                return rows
    except Exception:
        raise MarksError("a sheet of this workbook cannot be read", path=path) from None
    finally:
        book.close()
    raise MarksError("the workbook is empty", path=path)


def _rows(rows: Iterator[tuple[object, ...]]) -> Iterator[list[str]]:
    for row in rows:
        yield [_as_text(cell) for cell in row]


def _as_text(cell: object) -> str:
    if cell is None:
        return ""
    if isinstance(cell, bool):
        return "yes" if cell else "no"
    if isinstance(cell, float):
        return f"{cell:.6f}".rstrip("0").rstrip(".")
    if isinstance(cell, datetime.timedelta):
        return _as_clock(cell)
    if isinstance(cell, datetime.time):
        return _as_clock(datetime.datetime.combine(datetime.date.min, cell) - datetime.datetime.min)
    if isinstance(cell, datetime.datetime):
        return cell.date().isoformat() if cell.time() == datetime.time() else cell.isoformat(" ")
    return str(cell).strip()


def _as_clock(length: datetime.timedelta) -> str:
    seconds, micros = length.seconds + length.days * 86400, length.microseconds
    return f"{seconds // 3600:02}:{seconds // 60 % 60:02}:{seconds % 60:02}.{micros // 1000:03}"
