"""The edit lists of a finished MOV or MP4 file: where its tracks end (ISO/IEC 14496-12, 8.6.6)."""

from __future__ import annotations

import struct
from collections.abc import Iterator
from fractions import Fraction
from pathlib import Path

from boxkite.core.errors import VerificationError
from boxkite.core.files.boxes import Box, BrokenBoxesError, boxes, boxes_of_file

_CONTAINING = (b"trak", b"edts", b"mdia")
_NO_MEDIA = b"\xff\xff\xff\xff"
"""Begins the time in the media of an empty edit, which delays the picture and shows nothing of it."""


def hide_after(path: Path, seconds: Fraction, track: int | None = None) -> None:
    """Let the picture, or a track by its place, end so long after it begins; what is stored after that is hidden.

    Raises VerificationError where the file has no edit list for it.
    """
    with path.open("r+b") as file:
        try:
            index = next((found for found in boxes_of_file(file) if found.kind == b"moov"), None)
        except BrokenBoxesError:
            index = None
        if index is None:
            raise VerificationError("its edit list cannot be written")
        file.seek(index.start)
        data = bytearray(file.read(index.end - index.start))
        _hide_after(data, index.body - index.start, seconds, track)
        file.seek(index.start)
        file.write(data)


def _hide_after(index: bytearray, begin: int, seconds: Fraction, track: int | None) -> None:
    scale, edits, is_video, place = 0, 0, False, -1
    for found in _all_boxes(index, begin, len(index)):
        if found.kind == b"mvhd":
            scale = _time_scale(index, found.body)
        elif found.kind == b"trak":
            edits, is_video, place = 0, False, place + 1
        elif found.kind == b"elst":
            edits = found.body
        elif found.kind == b"hdlr":
            is_video = index[found.body + 8 : found.body + 12] == b"vide"
        is_it = is_video if track is None else place == track
        if is_it and edits and scale:
            _shorten(index, edits, int(seconds * scale))
            return
    raise VerificationError("its edit list cannot be written")


def _shorten(index: bytearray, edits: int, length: int) -> None:
    """Set the length of the last edit, so that all edits together are so long. edits: where their list begins."""
    form, size = (">Q", 20) if index[edits] else (">I", 12)
    (count,) = struct.unpack_from(">I", index, edits + 4)
    before = 0
    for number in range(count):
        entry = edits + 8 + number * size
        (own,) = struct.unpack_from(form, index, entry)
        if number == count - 1:
            struct.pack_into(form, index, entry, max(0, min(own, length - before)))
        media_time = entry + struct.calcsize(form)
        if index[media_time : media_time + 4] != _NO_MEDIA:
            before += own


def _time_scale(index: bytearray, header: int) -> int:
    """The units a second that lengths of edits are counted in, from the header of the film."""
    (scale,) = struct.unpack_from(">I", index, header + (20 if index[header] else 12))
    return int(scale)


def _all_boxes(index: bytearray, begin: int, end: int) -> Iterator[Box]:
    """Each box, the outer one before those in it."""
    for found in boxes(index, begin, end):
        yield found
        if found.kind in _CONTAINING:
            yield from _all_boxes(index, found.body, found.end)
