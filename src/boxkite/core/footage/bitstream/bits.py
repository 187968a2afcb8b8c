"""Bits as the video standards write them (ITU-T H.264 and H.265, 7.2 and 9.1/9.2)."""

from __future__ import annotations

from boxkite.core.footage.bitstream.obstacles import NotSpliceableError, Obstacle


class BitReader:
    """Reads numbers from bytes, the highest bit first."""

    def __init__(self, data: bytes) -> None:
        self._value = int.from_bytes(data, "big")
        self.length = 8 * len(data)
        """In bits."""
        self.place = 0
        """Of the next bit."""

    def bits(self, count: int) -> int:
        """u(n): a number of so many bits. Raises NotSpliceableError beyond the end."""
        self.place += count
        if self.place > self.length:
            raise NotSpliceableError(Obstacle.UNREADABLE)
        return (self._value >> (self.length - self.place)) & ((1 << count) - 1)

    def flag(self) -> bool:
        """u(1)."""
        return bool(self.bits(1))

    def unsigned(self) -> int:
        """ue(v): an exponential Golomb code. Raises NotSpliceableError beyond the end."""
        left = self.length - self.place
        zeros = left - (self._value & ((1 << left) - 1)).bit_length()
        if zeros > 32:
            raise NotSpliceableError(Obstacle.UNREADABLE)
        return self.bits(2 * zeros + 1) - 1

    def signed(self) -> int:
        """se(v): the same with a sign."""
        code = self.unsigned()
        return (code + 1) // 2 if code & 1 else -(code // 2)

    def slice(self, start: int, end: int) -> int:
        """The bits between two places, as a number."""
        return (self._value >> (self.length - end)) & ((1 << (end - start)) - 1)

    @property
    def stop_bit(self) -> int:
        """The place of the last bit that is set: the one that ends a payload (rbsp_trailing_bits)."""
        return self.length - ((self._value & -self._value).bit_length() if self._value else self.length)


class BitWriter:
    """Puts numbers one after the other, the highest bit first."""

    def __init__(self) -> None:
        self._value = 0
        self.length = 0
        """In bits."""

    def bits(self, count: int, value: int) -> None:
        """u(n)."""
        self._value = (self._value << count) | value
        self.length += count

    def unsigned(self, value: int) -> None:
        """ue(v)."""
        self.bits(2 * (value + 1).bit_length() - 1, value + 1)

    def signed(self, value: int) -> None:
        """se(v)."""
        self.unsigned(2 * value - 1 if value > 0 else -2 * value)

    def fill(self, bit: int) -> None:
        """The same bit up to the next whole byte."""
        missing = -self.length % 8
        self.bits(missing, (1 << missing) - 1 if bit else 0)

    def end(self) -> bytes:
        """All of it, with the bit that ends a payload (rbsp_trailing_bits)."""
        self.bits(1, 1)
        return self.whole()

    def whole(self) -> bytes:
        """All of it, filled up with zeros."""
        self.fill(0)
        return self._value.to_bytes(self.length // 8, "big")
