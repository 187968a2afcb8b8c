"""The bar code across the top of every drawn frame: which source, which frame, and a check over both.

32 cells over the whole width, a twelfth of the height: light, dark, 8 bits of source number, 14 bits of frame
number, 6 check bits, dark, light. It survives scaling, coding and a change of pixel format.
"""

from __future__ import annotations

from itertools import pairwise

import numpy as np
from av.video.frame import VideoFrame

from boxkite.core.picture.pixel_layout import PixelLayout
from boxkite.core.picture.stamp import Array, plane_array

CELLS = 32
HEIGHT_SHARE = 12
_LIGHT, _DARK = 224, 32


class BarcodeError(ValueError):
    """No bar code where one should be, or one that fails its check."""


def barcode_bits(source: int, frame: int) -> list[int]:
    """The 32 cells of a frame, 1 for light. source: 0…255; frame: 0…16383."""
    value = (source & 0xFF) << 14 | frame & 0x3FFF
    return [1, 0, *_bits(value, 22), *_bits(_check(value), 6), 0, 1]


def _bits(value: int, count: int) -> list[int]:
    return [value >> shift & 1 for shift in reversed(range(count))]


def _check(value: int) -> int:
    return (value * 2654435761 >> 11) & 0x3F


def draw_barcode(luma: Array, source: int, frame: int) -> None:
    """Draw the code into the top of a luma plane (height, width), uint8, in place."""
    height, width = luma.shape
    cells = np.array(barcode_bits(source, frame), dtype=bool)
    columns = np.where(cells, _LIGHT, _DARK).astype(np.uint8)[np.arange(width) * CELLS // width]
    luma[: max(4, height // HEIGHT_SHARE)] = columns


def read_barcode(picture: VideoFrame | Array) -> tuple[int, int]:
    """Which (source, frame) a frame is. Takes a decoded frame, or a luma plane (height, width).

    Raises BarcodeError when there is no code or its check fails.
    """
    depth = 8
    if isinstance(picture, VideoFrame):
        kind = picture.format
        depth = kind.components[0].bits
        if kind.name.startswith("yuv") and kind.is_planar and not kind.is_big_endian:
            picture = plane_array(picture.planes[0], PixelLayout(depth, 1, 1))
        else:
            picture, depth = picture.reformat(format="gray").to_ndarray(), 8
    height, width = picture.shape
    strip = max(4, height // HEIGHT_SHARE)
    rows = picture[strip // 4 : max(strip // 4 + 1, strip * 3 // 4)].mean(axis=0) / (1 << depth - 8)
    edges = np.arange(CELLS + 1) * width / CELLS
    quarter = width / CELLS / 4
    levels = [
        float(rows[int(left + quarter) : max(int(left + quarter) + 1, int(right - quarter))].mean())
        for left, right in pairwise(edges)
    ]
    light, dark = min(levels[0], levels[-1]), max(levels[1], levels[-2])
    if light - dark < 40:
        raise BarcodeError("no bar code in this picture")
    bits = [int(level > (light + dark) / 2) for level in levels]
    value = int("".join(map(str, bits[2:24])), 2)
    if int("".join(map(str, bits[24:30])), 2) != _check(value):
        raise BarcodeError("the bar code fails its check")
    return value >> 14, value & 0x3FFF
