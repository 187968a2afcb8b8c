"""The boxes that MOV and MP4 files are made of (ISO/IEC 14496-12, 4.2), in memory and at the top of a file."""

from __future__ import annotations

import os
import struct
from collections.abc import Callable, Iterator
from typing import BinaryIO

from msgspec import Struct

HEADER_BYTES = 8
_LARGE_SIZE, _TO_THE_END = 1, 0
_LARGEST = (1 << 32) - 1


class Box(Struct, frozen=True):
    """Where a box lies."""

    kind: bytes
    start: int
    body: int
    """Where what it holds begins."""
    end: int


class BrokenBoxesError(Exception):
    """A box is longer than what it lies in, or shorter than its own head."""


def boxes_of_file(file: BinaryIO) -> Iterator[Box]:
    """The boxes at the top of a file. Raises BrokenBoxesError, OSError."""
    size = os.fstat(file.fileno()).st_size
    at = 0
    while at + HEADER_BYTES <= size:
        file.seek(at)
        found = _box_at(file.read(2 * HEADER_BYTES), 0, at, size)
        if found is None:
            raise BrokenBoxesError
        yield found
        at = found.end


def boxes(data: bytes | bytearray, start: int, end: int) -> Iterator[Box]:
    """The boxes one after another in a part of some data, up to one that is broken."""
    at = start
    while at + HEADER_BYTES <= end:
        found = _box_at(data, at, at, end)
        if found is None:
            return
        yield found
        at = found.end


def _box_at(data: bytes | bytearray, place: int, at: int, end: int) -> Box | None:
    """The box whose head is found at a place of some data; at: what that is called. None for a broken one."""
    length, kind = struct.unpack_from(">I4s", data, place)
    body = at + HEADER_BYTES
    if length == _LARGE_SIZE:
        if len(data) < place + 2 * HEADER_BYTES:
            return None
        (length,) = struct.unpack_from(">Q", data, place + HEADER_BYTES)
        body += HEADER_BYTES
    stop = end if length == _TO_THE_END else at + length
    return Box(kind, at, body, stop) if body <= stop <= end else None


def new_box(kind: bytes, *parts: bytes) -> bytes:
    """A box that holds some parts."""
    content = b"".join(parts)
    return new_head(kind, len(content)) + content


def new_head(kind: bytes, content_bytes: int) -> bytes:
    """The head of a box for so many bytes."""
    if content_bytes + HEADER_BYTES > _LARGEST:
        return struct.pack(">I4sQ", _LARGE_SIZE, kind, content_bytes + 2 * HEADER_BYTES)
    return struct.pack(">I4s", content_bytes + HEADER_BYTES, kind)


def child_of(parent: bytes, kind: bytes) -> bytes:
    """The first box of a kind in a box; empty where there is none."""
    found = next((child for child in boxes(parent, HEADER_BYTES, len(parent)) if child.kind == kind), None)
    return parent[found.start : found.end] if found else b""


def replaced(parent: bytes, kind: bytes, change: Callable[[bytes], bytes]) -> bytes:
    """A box with the first one of some kind in it changed, or added at its end; change gets b"" where there is none."""
    (own,) = struct.unpack_from(">4s", parent, 4)
    found = next((child for child in boxes(parent, HEADER_BYTES, len(parent)) if child.kind == kind), None)
    if found is None:
        return new_box(own, parent[HEADER_BYTES:], change(b""))
    before, after = parent[HEADER_BYTES : found.start], parent[found.end :]
    return new_box(own, before, change(parent[found.start : found.end]), after)


def children(parent: bytes) -> list[bytes]:
    """The boxes in a box, each with its head."""
    return [parent[child.start : child.end] for child in boxes(parent, HEADER_BYTES, len(parent))]


def kind_of(data: bytes) -> bytes:
    """The kind of a box."""
    return data[4:HEADER_BYTES]
