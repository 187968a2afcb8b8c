"""Reading files that strangers gave: regular files only, and no more bytes than such a file may have.

A pipe would wait for ever for somebody to write to it, a device may never end. So nothing is opened before it is
known to be a regular file, and what is opened is looked at again through its own descriptor.
"""

from __future__ import annotations

import errno
import os
import stat
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from boxkite.core.errors import RequestError

_KINDS = (
    (stat.S_ISDIR, "a folder"),
    (stat.S_ISFIFO, "a named pipe"),
    (stat.S_ISCHR, "a device"),
    (stat.S_ISBLK, "a device"),
    (stat.S_ISSOCK, "a socket"),
)
_MOST_PATH_BYTES, _MOST_NAME_BYTES = 4095, 255
MOST_IMAGE_PIXELS = 50_000_000
"""Of a still that is laid over frames; it is decoded whole."""
_BINARY = getattr(os, "O_BINARY", 0)
_NO_WAITING = getattr(os, "O_NONBLOCK", 0)


class NotAFileError(OSError):
    """The path leads to no regular file."""


def path_from(text: str) -> Path:
    """The path that a text means, ~ and ~user expanded. Raises RequestError for what cannot be a path."""
    if "\0" in text:
        raise RequestError(f"“{shown_path(Path(text))}” is not a path: it holds a zero byte")
    encoded = os.fsencode(text)
    if len(encoded) > _MOST_PATH_BYTES or any(len(part) > _MOST_NAME_BYTES for part in encoded.split(b"/")):
        raise RequestError(f"“{text[:60]}…” is too long for a path: {len(encoded)} bytes")
    try:
        return Path(text).expanduser()
    except RuntimeError:  # no such user, or no home folder
        name = Path(text).parts[0]
        raise RequestError(
            f"{text}: there is no home folder for “{name}”",
            hint="write the full path, or ./~name for a file",
        ) from None


def without_dots(path: Path) -> Path:
    """An absolute path without “..”: what is before the last one is resolved, links in it too; the rest is kept."""
    parts = path.parts
    if ".." not in parts:
        return path
    after = len(parts) - parts[::-1].index("..")
    return Path(os.path.realpath(Path(*parts[:after])), *parts[after:])


def shown_path(path: Path) -> str:
    """A path for a message, zero bytes made visible."""
    return str(path).replace("\0", "\\0")


def kind_of(mode: int) -> str:
    """The type of a file by its mode, in words: "a named pipe"; empty for a regular file."""
    if stat.S_ISREG(mode):
        return ""
    return next((words for matches, words in _KINDS if matches(mode)), "not a regular file")


def is_file(path: Path) -> bool:
    """Whether a path leads to a regular file; no path that cannot be, as one that is too long, does."""
    try:
        return stat.S_ISREG(path.stat().st_mode)
    except (OSError, ValueError):
        return False


def require_file(path: Path) -> os.stat_result:
    """Make sure a path leads to a regular file, for libraries that open it themselves. Raises OSError."""
    found = path.stat()
    if stat.S_ISDIR(found.st_mode):
        raise IsADirectoryError(errno.EISDIR, "this is a folder, not a file", str(path))
    if kind := kind_of(found.st_mode):
        raise NotAFileError(errno.EINVAL, f"this is {kind}, not a file", str(path))
    return found


def open_regular(path: Path) -> int:
    """A descriptor of a regular file, opened for reading; whoever asks closes it. Raises OSError for anything else."""
    require_file(path)
    descriptor = os.open(path, os.O_RDONLY | _BINARY | _NO_WAITING)
    if kind := kind_of(os.fstat(descriptor).st_mode):  # exchanged between the two steps
        os.close(descriptor)
        raise NotAFileError(errno.EINVAL, f"this is {kind}, not a file", str(path))
    return descriptor


@contextmanager
def opened(path: Path) -> Iterator[int]:
    """A descriptor of a regular file for as long as it is needed. Raises OSError for anything else."""
    descriptor = open_regular(path)
    try:
        yield descriptor
    finally:
        os.close(descriptor)


def read_bytes(path: Path, most_bytes: int) -> bytes:
    """All bytes of a regular file. Raises OSError, also where it has more than most_bytes."""
    with opened(path) as descriptor, os.fdopen(os.dup(descriptor), "rb") as file:
        content = file.read(most_bytes + 1)
    if len(content) > most_bytes:
        raise OSError(
            errno.EFBIG, f"it has more than the {_size(most_bytes)} such a file may have", str(path)
        )
    return content


def _size(count: int) -> str:
    return f"{count >> 20} MB" if count >= 1 << 20 else f"{count >> 10} KB"
