"""The rotation a MOV or MP4 file stores for its picture: the matrix in its track header (ISO/IEC 14496-12 §8.3.2).

The codec library hands it out with decoded frames only; a few seeks over the boxes find it without decoding.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from io import BytesIO
from pathlib import Path
from typing import BinaryIO

_MOST_BOXES = 10_000
_READ_AT_ONCE_BYTES = 1 << 20
_TURNS = {(1, 0): 0, (0, 1): 270, (-1, 0): 180, (0, -1): 90}


def stored_rotation(path: Path, width_px: int, height_px: int) -> int:
    """Degrees a player turns the picture counter-clockwise: 0, 90, 180 or 270.

    width_px, height_px: of the picture track, to identify it. 0 where nothing is stored.
    """
    try:
        with path.open("rb") as file:
            size = path.stat().st_size
            for kind, start, end in _boxes(file, 0, size):
                if kind == b"moov":
                    if end - start > _READ_AT_ONCE_BYTES:
                        return _turn_of_movie(file, start, end, width_px, height_px)
                    file.seek(start)
                    return _turn_of_movie(
                        BytesIO(file.read(end - start)), 0, end - start, width_px, height_px
                    )
    except (OSError, struct.error):
        return 0
    return 0


def _turn_of_movie(file: BinaryIO, start: int, end: int, width_px: int, height_px: int) -> int:
    turns = []
    for kind, track_start, track_end in _boxes(file, start, end):
        if kind != b"trak":
            continue
        for inner, header, header_end in _boxes(file, track_start, track_end):
            if inner == b"tkhd" and header_end - header >= 84:
                file.seek(header)
                data = file.read(min(96, header_end - header))
                at = 52 if data[0] == 1 else 40  # version 1 has longer times
                a, b = (round(part / 65536) for part in struct.unpack_from(">ii", data, at))
                width, height = (part / 65536 for part in struct.unpack_from(">II", data, at + 36))
                if width and height:
                    turns.append((abs(width - width_px) + abs(height - height_px), _TURNS.get((a, b), 0)))
    return min(turns)[1] if turns else 0


def _boxes(file: BinaryIO, start: int, end: int) -> Iterator[tuple[bytes, int, int]]:
    """(kind, first byte of its content, end) of each box in part of a file."""
    for _ in range(_MOST_BOXES):
        if start + 8 > end:
            return
        file.seek(start)
        head = file.read(16)
        if len(head) < 8:
            return
        size, kind = struct.unpack(">I4s", head[:8])
        content = start + 8
        if size == 1 and len(head) == 16:
            size, content = struct.unpack(">Q", head[8:])[0], start + 16
        elif size == 0:
            size = end - start
        if size < 8:
            return
        yield kind, content, min(start + size, end)
        start += size
