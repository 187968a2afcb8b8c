"""What H.264 and H.265 write alike."""

from __future__ import annotations

from collections.abc import Container

from msgspec import Struct

from boxkite.core.footage.bitstream.bits import BitReader
from boxkite.core.footage.bitstream.obstacles import NotSpliceableError, Obstacle

_EXTENDED_RATIO = 255


def skip_appearance(bits: BitReader) -> None:
    """Read over the beginning of the video usability information: shape, overscan, signal, place of chroma.

    ITU-T H.264, E.1.1; H.265, E.2.1.
    """
    if bits.flag() and bits.bits(8) == _EXTENDED_RATIO:
        bits.bits(32)
    if bits.flag():
        bits.flag()
    if bits.flag():
        bits.bits(4)
        if bits.flag():
            bits.bits(24)
    if bits.flag():
        bits.unsigned(), bits.unsigned()


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
