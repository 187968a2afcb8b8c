"""What H.264 and H.265 write alike."""

from __future__ import annotations

from collections.abc import Container

from msgspec import Struct

from boxkite.core.footage.bitstream.bits import BitReader
from boxkite.core.footage.bitstream.obstacles import NotSpliceableError, Obstacle

_EXTENDED_RATIO = 255
_RATIOS = {
    1: (1, 1), 2: (12, 11), 3: (10, 11), 4: (16, 11), 5: (40, 33), 6: (24, 11), 7: (20, 11), 8: (32, 11), 9: (80, 33),
    10: (18, 11), 11: (15, 11), 12: (64, 33), 13: (160, 99), 14: (4, 3), 15: (3, 2), 16: (2, 1),
}  # fmt: skip
"""By aspect_ratio_idc (table E-1 of both)."""


class Appearance(Struct, frozen=True):
    """How a stream says that its pictures are to be shown."""

    ratio: tuple[int, int] | None = None
    """Width and height of a sample; None where it is not said."""
    full_range: bool | None = None
    colours: tuple[int, int, int] | None = None
    """Code points of primaries, transfer and matrix (ITU-T H.273)."""


def read_appearance(bits: BitReader) -> Appearance:
    """Read the beginning of the video usability information: shape, overscan, signal, place of chroma.

    ITU-T H.264, E.1.1; H.265, E.2.1. Raises NotSpliceableError.
    """
    ratio, full_range, colours = None, None, None
    if bits.flag():
        named = bits.bits(8)
        ratio = (bits.bits(16), bits.bits(16)) if named == _EXTENDED_RATIO else _RATIOS.get(named)
    if bits.flag():
        bits.flag()
    if bits.flag():
        bits.bits(3)
        full_range = bits.flag()
        if bits.flag():
            colours = bits.bits(8), bits.bits(8), bits.bits(8)
    if bits.flag():
        bits.unsigned(), bits.unsigned()
    return Appearance(ratio if ratio and all(ratio) else None, full_range, colours)


def free_number(taken: Container[int], limit: int) -> int:
    """The lowest number below a limit that is not taken. Raises NotSpliceableError if there is none."""
    for number in range(limit):
        if number not in taken:
            return number
    raise NotSpliceableError(Obstacle.SETS)


class OrderCount(Struct):
    """The picture order count, of which streams carry only the lowest bits (ITU-T H.264, 8.2.1.1; H.265, 8.3.1)."""

    bits: int
    """How many they carry."""
    high: int = 0
    low: int = 0

    def restart(self) -> None:
        """At an IDR picture."""
        self.high = self.low = 0

    def of(self, low: int, *, others_count_from_it: bool) -> int:
        """The count of the next picture."""
        half = 1 << (self.bits - 1)
        high = self.high
        if low < self.low and self.low - low >= half:
            high += 2 * half
        elif low > self.low and low - self.low > half:
            high -= 2 * half
        if others_count_from_it:
            self.high, self.low = high, low
        return high + low
