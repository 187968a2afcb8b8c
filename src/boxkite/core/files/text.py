"""Text files from strangers: any usual encoding, any line ending, nothing that is not text."""

from __future__ import annotations

import codecs
import contextlib
import gc
import re
from collections.abc import Iterator
from pathlib import Path

from boxkite.core.errors import MarksError
from boxkite.core.files.reading import read_bytes

MOST_BYTES = 64 * 1024 * 1024


def read_text(path: Path, *, most_bytes: int = MOST_BYTES) -> str:
    """The whole text of a file: UTF-8, UTF-16 (marked or plain to see), else the old Western code page.

    Raises MarksError for what is missing, unreadable, too long or not text.
    """
    try:
        data = read_bytes(path, most_bytes)
    except FileNotFoundError:
        raise MarksError("there is no such file", path=path) from None
    except OSError as error:
        raise MarksError(f"it cannot be read: {error.strerror or error}", path=path) from None
    text = to_text(data)
    if "\0" in text or sum(char < " " and char not in "\t\r\n\f\x1a" for char in text[:4096]) > 8:
        raise MarksError("this is not a text file", path=path)
    return text


def to_text(data: bytes) -> str:
    """Bytes of a text file as text, by the encoding they show.

    What is marked as UTF-8 is that, but for names of files that are no text: their odd bytes come back as they are.
    """
    if data.startswith(codecs.BOM_UTF8):
        return data.decode("utf-8-sig", errors="surrogateescape")
    if data.startswith((codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE)):
        return data.decode("utf-16", errors="replace")
    sample = data[:1000]
    if len(sample) > 3 and sample[1::2].count(0) > len(sample) // 3:
        return data.decode("utf-16-le", errors="replace")
    if len(sample) > 3 and sample[::2].count(0) > len(sample) // 3:
        return data.decode("utf-16-be", errors="replace")
    try:
        return data.decode("utf-8-sig")
    except UnicodeDecodeError:
        return data.decode("cp1252", errors="replace")


@contextlib.contextmanager
def no_collection() -> Iterator[None]:
    """Without the search for circles of objects, which takes a third of the time where many are made and kept."""
    was_on = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if was_on:
            gc.enable()


def split_lines(text: str) -> list[str]:
    """The lines without their ends; only carriage return and line feed end a line."""
    return re.split(r"\r\n|\r|\n", text)
