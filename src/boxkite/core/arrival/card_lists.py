"""The lists beside gathered cards: checksums and a table of metadata. Lines that others wrote are kept."""

from __future__ import annotations

import codecs
import contextlib
import csv
import io
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path

from filelock import FileLock, Timeout
from msgspec import Struct

from boxkite.core.arrival.cards import CardFile, Copied
from boxkite.core.errors import PlanError, RequestError
from boxkite.core.files.cells import guarded, plain_cell
from boxkite.core.files.reading import read_bytes
from boxkite.core.files.table import delimiter_of
from boxkite.core.files.writing import replace_file
from boxkite.core.footage.find import group_sequences
from boxkite.core.footage.kinds import MEDIA_SUFFIXES
from boxkite.core.handover.sum_files import entry_in, line_of

CHECKSUMS = "checksums.xxh128"
METADATA = "metadata.csv"
FILE = "File"
_MOST_BYTES = 1 << 28
_LOCK_SECONDS = 30
_KIND = "xxh128"


class _MetadataTable(Struct):
    """A table of metadata as it stands in a file."""

    lines: list[list[str]]
    delimiter: str
    file_column: int
    """Place of the one that names the file."""


def check_lists(into: Path) -> None:
    """Make sure that what is beside the cards can be added to, before anything is copied. Raises RequestError."""
    _read_metadata(into / METADATA)
    _read_lines(into / CHECKSUMS)


def write_checksums(into: Path, copied: Sequence[Copied]) -> Path:
    """A list of checksums beside the cards' folders, a line each as checksum programs read it; the file.

    Every other line that stands there stays as it is. Raises RequestError, PlanError.
    """
    path = into / CHECKSUMS
    own = {one.file.target.relative_to(into).as_posix(): one.checksum for one in copied if one.checksum}
    with _writing(path):
        lines = []
        for line in _read_lines(path):
            entry = entry_in(line, _KIND)
            lines.append(line_of(own.pop(entry[0]), entry[0]) if entry and entry[0] in own else line)
        lines += [line_of(checksum, name) for name, checksum in sorted(own.items())]
        content = "".join(f"{line}\n" for line in lines)
        replace_file(path, content.encode("utf-8", "surrogateescape"))
    return path


def _read_lines(path: Path) -> list[str]:
    if not path.exists():
        return []
    try:
        text = read_bytes(path, _MOST_BYTES).decode("utf-8", "surrogateescape")
    except OSError as error:
        raise RequestError(
            f"it cannot be read: {error.strerror or error}", path=path, hint="move it away"
        ) from None
    lines = text.split("\n")
    return lines[:-1] if not lines[-1] else lines


def write_metadata(into: Path, files: Sequence[CardFile], metadata: Mapping[str, str]) -> Path:
    """A table of metadata that hold for all media of the cards, as a table of metadata is read; the file.

    Rows and columns that others wrote stay as they are. Raises RequestError, PlanError.
    """
    path = into / METADATA
    cards = {file.target: file.card.resolve().name for file in files}
    sequences, singles = group_sequences(path for path in cards if path.suffix.lower() in MEDIA_SUFFIXES)
    sources = [(path, cards[path]) for path in singles]
    for one in sequences:
        sources.append((one.folder / one.label, cards[one.folder / one.file_name(one.first)]))
    with _writing(path):
        table = _read_metadata(path)
        places = {
            plain_cell(line[table.file_column]): line
            for line in table.lines[1:]
            if len(line) > table.file_column
        }
        for source, card in sources:
            name = source.relative_to(into).as_posix()
            if name not in places:
                places[name] = ["" for _ in table.lines[0]]
                table.lines.append(places[name])
            values = {table.lines[0][table.file_column]: name, "Card": card, **metadata}
            for column, value in values.items():
                _put(table, places[name], column, guarded(value))
        text = io.StringIO(newline="")
        csv.writer(text, delimiter=table.delimiter, lineterminator="\r\n").writerows(table.lines)
        replace_file(path, codecs.BOM_UTF8 + text.getvalue().encode("utf-8", "surrogateescape"))
    return path


def _put(table: _MetadataTable, line: list[str], column: str, value: str) -> None:
    """Put a value into a column, which is added where the table has none of that name."""
    head = table.lines[0]
    place = next((at for at, name in enumerate(head) if name.strip().casefold() == column.casefold()), None)
    if place is None:
        place = len(head)
        head.append(guarded(column))
    line += [""] * (place + 1 - len(line))
    line[place] = value


def _read_metadata(path: Path) -> _MetadataTable:
    """The table that is there, every cell as it is; one with a head alone where there is none. Raises RequestError."""
    if not path.exists():
        return _MetadataTable([[FILE, "Card"]], ",", 0)
    try:
        content = read_bytes(path, _MOST_BYTES)
        if content.startswith((codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE)):
            raise RequestError(
                "this table is not in UTF-8", path=path, hint="move it away, or save it as UTF-8"
            )
        text = content.removeprefix(codecs.BOM_UTF8).decode("utf-8", "surrogateescape")
        lines = text.splitlines(keepends=True)
        delimiter = delimiter_of(lines[0] if lines else "")
        rows = list(csv.reader(io.StringIO(text, newline=""), delimiter=delimiter, strict=True))
        head = [cell.strip().casefold() for cell in rows[0]] if rows else []
        if FILE.casefold() not in head:
            raise RequestError(f"this table has no column {FILE}, so no metadata can be added to it", path=path,
                               hint="move it away, or give its column of files that name")  # fmt: skip
        return _MetadataTable(rows, delimiter, head.index(FILE.casefold()))
    except csv.Error as error:
        raise RequestError(f"this table cannot be read: {error}", path=path, hint="move it away") from None
    except OSError as error:
        raise RequestError(
            f"it cannot be read: {error.strerror or error}", path=path, hint="move it away"
        ) from None


@contextlib.contextmanager
def _writing(path: Path) -> Iterator[None]:
    """Keeps two who gather at once from writing over each other's lines. Raises PlanError."""
    try:
        with FileLock(path.with_name(f".{path.name}.lock"), timeout=_LOCK_SECONDS):
            yield
    except Timeout:
        raise PlanError("another program is writing this list", path=path, hint="gather again") from None
    except OSError as error:
        reason = (error.strerror or str(error)).lower()
        raise PlanError(f"it cannot be written: {reason}", path=path, hint="gather again") from None
