"""Prints of frames: so few bytes of each that all are kept, enough to tell that a frame read back is another one."""

from __future__ import annotations

import sys
from functools import cache
from operator import sub
from typing import Any, NamedTuple

from av.video.format import VideoFormat
from av.video.frame import VideoFrame

from boxkite.core.picture import compiled

_ROWS, _BINS = 6, 16
PRINT_BYTES = _ROWS * _BINS
_MOST_DIFFERENCE = 12.0
"""Mean difference, in levels of 255, that coding makes at most."""


class FramePrints:
    """The prints of all frames that an encoder was handed, in their order: 96 bytes a frame."""

    def __init__(self) -> None:
        self._kept = bytearray()
        self._layout = ""
        self._count = 0

    def __len__(self) -> int:
        return self._count

    def add(self, frame: VideoFrame) -> None:
        """Keep the print of the next frame."""
        found = print_of(frame)
        self._layout = self._layout or _layout_of(frame)
        self._kept += found if found is not None else bytes(PRINT_BYTES)
        self._count += 1
        if found is None:
            self._layout = "none"

    @property
    def content(self) -> tuple[str, bytes]:
        """What two frames must share to be compared, and all prints one after the other."""
        return self._layout, bytes(self._kept)

    def extend(self, layout: str, kept: bytes) -> None:
        """Take the prints of the frames that follow, as content gave them."""
        is_alike = self._layout in ("", layout)
        self._layout = layout if is_alike else "none"
        self._kept += kept
        self._count += len(kept) // PRINT_BYTES

    def differs(self, number: int, frame: VideoFrame) -> bool | None:
        """Whether a frame that was read back is not the one of that number; None where they cannot be compared."""
        if not 0 <= number < self._count or _layout_of(frame) != self._layout:
            return None
        found = print_of(frame)
        if found is None:
            return None
        kept = self._kept[number * PRINT_BYTES : (number + 1) * PRINT_BYTES]
        difference: int = sum(map(abs, map(sub, found, kept)))
        return difference > PRINT_BYTES * _MOST_DIFFERENCE


def print_of(frame: VideoFrame) -> bytes | None:
    """Means of stretches of some lines of its first plane, 8 bits each; None for formats without whole samples."""
    plane: Any = frame.planes[0]
    read = _reading_of(frame.format.name, frame.width, frame.height, abs(plane.line_size))
    if read is None:
        return None
    if compiled.print_of and read.byte_order == sys.byteorder and plane.line_size > 0:
        return compiled.print_of(
            plane, plane.line_size, frame.height, read.across, read.sample_bytes, read.bits_above
        )
    return _print_by_numpy(plane, frame.height, read)


def _print_by_numpy(plane: Any, height: int, read: _Reading) -> bytes:
    import numpy as np  # only where what is compiled cannot: it takes long to load

    sample = np.dtype(f"{'>' if read.byte_order == 'big' else '<'}u{read.sample_bytes}")
    rows = (np.arange(_ROWS) * 2 + 1) * height // (2 * _ROWS)
    chosen = np.frombuffer(plane, np.uint8).reshape(-1, abs(plane.line_size))[rows].view(sample)
    stretches = chosen[:, : read.across].reshape(PRINT_BYTES, -1)
    sums = np.add.reduce(stretches, axis=1, dtype=np.uint32)  # half of what mean() takes
    return bytes((sums / (stretches.shape[1] << read.bits_above)).clip(0, 255).astype(np.uint8).tobytes())


class _Reading(NamedTuple):
    """How a print is taken of frames of one kind."""

    sample_bytes: int
    byte_order: str
    across: int
    """Samples of each line."""
    bits_above: int
    """Above the eighth."""


@cache
def _reading_of(name: str, width: int, height: int, line_bytes: int) -> _Reading | None:
    """How a print is taken of frames of a kind; None for formats without whole samples."""
    kind = VideoFormat(name, width, height)
    bits = kind.components[0].bits
    if bits > 16 or "f32" in name or "f16" in name or "bayer" in name:
        return None
    sample_bytes = 1 if bits <= 8 else 2
    across = width * (1 if kind.is_planar else len(kind.components)) // _BINS * _BINS
    if across < _BINS or line_bytes // sample_bytes < across:
        return None
    is_other = kind.is_big_endian and sample_bytes > 1
    return _Reading(sample_bytes, "big" if is_other else "little", across, max(0, bits - 8))


def _layout_of(frame: VideoFrame) -> str:
    """What two frames must share to be compared: JPEG's range is told elsewhere."""
    return f"{frame.format.name.replace('yuvj', 'yuv')} {frame.width}x{frame.height}"
