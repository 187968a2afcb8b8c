"""Parts of files joined into one by the system; a thread reads what was written and counts it into its checksum."""

from __future__ import annotations

import errno
import os
import queue
import threading
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path
from typing import NamedTuple

import xxhash

from boxkite.core.files.moving import begin_to_sync

_AT_A_TIME = 1 << 22
_READ_AT_A_TIME = 1 << 20
"""Bytes. With fewer, writing and reading the same file wait for each other more often."""
_TO_DISK_AT_A_TIME = 1 << 26
"""Bytes. The system begins to write only when much is waiting; then it lets writers wait too."""
_CANNOT = frozenset({errno.ENOSYS, errno.EINVAL, errno.EOPNOTSUPP, errno.ENOTSUP, errno.EXDEV, errno.EPERM})
CAN_JOIN = hasattr(os, "preadv")
"""Whether the system reads at a place of a file that others read from as well."""


class Part(NamedTuple):
    """Bytes of an open file."""

    descriptor: int
    start: int
    length: int


def in_a_row(parts: Iterable[Part]) -> Iterator[Part]:
    """The same bytes in the same order, in as few parts as may be."""
    last: Part | None = None
    for part in parts:
        if last and part.descriptor == last.descriptor and part.start == last.start + last.length:
            last = last._replace(length=last.length + part.length)
            continue
        if last:
            yield last
        last = part
    if last:
        yield last


def join_parts(
    head: bytes, parts: Iterable[Part], path: Path, progress: Callable[[int], None] = lambda _: None
) -> str:
    """Write a head and parts one after another into a file that is there and empty; its checksum (files/checksum.py).

    progress: gets how many bytes are written, now and then.

    Raises OSError, EOFError where a file ends before a part of it.
    """
    with path.open("r+b", buffering=0) as target, _Follower(target.fileno()) as follower:
        place = to_disk = 0
        while place < len(head):
            place += target.write(head[place:])
        for part in in_a_row(parts):
            left = part
            while left.length:
                size = _copy(left, target.fileno(), place)
                if not size:
                    raise EOFError
                place += size
                left = Part(part.descriptor, left.start + size, left.length - size)
                follower.go_up_to(place)
                if place - to_disk >= _TO_DISK_AT_A_TIME:
                    begin_to_sync(target.fileno(), to_disk, place - to_disk)
                    to_disk = place
                    progress(place)
        return follower.checksum(place)


def _copy(part: Part, target: int, place: int) -> int:
    """Copy the beginning of a part, within the system where it can; how many bytes, 0 at the end of its file."""
    source, start, length = part
    if hasattr(os, "copy_file_range"):
        try:
            if copied := os.copy_file_range(source, target, min(length, _AT_A_TIME), start, place):
                return copied
        except OSError as error:
            if error.errno not in _CANNOT:
                raise
    return os.pwrite(target, os.pread(source, min(length, _READ_AT_A_TIME), start), place)


class _Follower:
    """A thread that reads a file as far as it was written. Use it as a context."""

    def __init__(self, descriptor: int) -> None:
        self._descriptor = descriptor
        self._written: queue.SimpleQueue[int | None] = queue.SimpleQueue()
        self._told = 0
        self._checksum = xxhash.xxh3_128()
        self._failure: Exception | None = None
        self._thread = threading.Thread(target=self._run, daemon=True)

    def __enter__(self) -> _Follower:
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._written.put(None)
        self._thread.join()

    def go_up_to(self, place: int) -> None:
        """Tell how far the file was written."""
        if place - self._told >= _READ_AT_A_TIME:
            self._told = place
            self._written.put(place)

    def checksum(self, end: int) -> str:
        """The checksum over all of it, once that was read. Raises OSError, EOFError."""
        self._written.put(end)
        self._written.put(None)
        self._thread.join()
        if self._failure:
            raise self._failure
        return self._checksum.hexdigest()

    def _run(self) -> None:
        try:
            buffer, place = memoryview(bytearray(_READ_AT_A_TIME)), 0
            while end := self._written.get():
                while place < end:
                    size = os.preadv(self._descriptor, [buffer[: end - place]], place)
                    if not size:
                        raise EOFError
                    self._checksum.update(buffer[:size])
                    place += size
        except (OSError, EOFError) as error:
            self._failure = error
