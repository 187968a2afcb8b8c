"""The edit lists of a finished MOV or MP4 file: where its tracks end (ISO/IEC 14496-12, 8.6.6)."""

from __future__ import annotations

import struct
from collections.abc import Iterator
from fractions import Fraction
from pathlib import Path
from typing import BinaryIO

from boxkite.core.errors import VerificationError

_CONTAINING = (b"moov", b"trak", b"edts", b"mdia")
_LARGE_SIZE = 1


def hide_after(path: Path, seconds: Fraction, track: int | None = None) -> None:
    """Let the picture, or a track by its place, end so long after it begins; what is stored after that is hidden.

    Raises VerificationError where the file has no edit list for it.
    """
    with path.open("r+b") as file:
        scale, edits, is_video, place = 0, (0, 0), False, -1
        for kind, start, _ in _boxes(file, 0, path.stat().st_size):
            if kind == b"mvhd":
                scale = _time_scale(file, start)
            elif kind == b"trak":
                edits, is_video, place = (0, 0), False, place + 1
            elif kind == b"elst":
                file.seek(start)
                version = file.read(1)[0]
                edits = start + 8, version
            elif kind == b"hdlr":
                file.seek(start + 8)
                is_video = file.read(4) == b"vide"
            is_it = is_video if track is None else place == track
            if is_it and edits[0] and scale:
                return _shorten(file, *edits, int(seconds * scale))
    raise VerificationError("its edit list cannot be written")


def _shorten(file: BinaryIO, entries: int, version: int, length: int) -> None:
    """Set the length of the last edit, so that all edits together are so long. entries: where they begin."""
    form, size = (">Q", 20) if version else (">I", 12)
    file.seek(entries - 4)
    (count,) = struct.unpack(">I", file.read(4))
    before = 0
    for number in range(count):
        place = entries + number * size
        file.seek(place)
        (own,) = struct.unpack(form, file.read(struct.calcsize(form)))
        if number == count - 1:
            file.seek(place)
            file.write(struct.pack(form, max(0, min(own, length - before))))
        media_time = file.read(4)
        if media_time != b"\xff\xff\xff\xff":  # an empty edit delays the picture and shows nothing of it
            before += own


def _time_scale(file: BinaryIO, start: int) -> int:
    """The units a second that lengths of edits are counted in, from the header of the film."""
    file.seek(start)
    version = file.read(1)[0]
    file.seek(start + (20 if version else 12))
    (scale,) = struct.unpack(">I", file.read(4))
    return int(scale)


def _boxes(file: BinaryIO, start: int, end: int) -> Iterator[tuple[bytes, int, int]]:
    """(kind, where its content begins, where it ends) of each box, the outer one before those in it."""
    while start + 8 <= end:
        file.seek(start)
        size, kind = struct.unpack(">I4s", file.read(8))
        content = start + 8
        if size == _LARGE_SIZE:
            (size,) = struct.unpack(">Q", file.read(8))
            content += 8
        size = size or end - start
        if size < content - start:
            return
        yield kind, content, start + size
        if kind in _CONTAINING:
            yield from _boxes(file, content, start + size)
        start += size
