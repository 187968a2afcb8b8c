"""NAL units, the parts that H.264 and H.265 streams are made of, and the headers that carry them in containers."""

from __future__ import annotations

import re
from dataclasses import dataclass

import xxhash

from boxkite.core.footage.bitstream.obstacles import NotSpliceableError, Obstacle

_DELIMITER = 9
START_CODE = re.compile(rb"\x00\x00\x01")
_ESCAPED = re.compile(rb"\x00\x00\x03")
_TO_ESCAPE = re.compile(rb"\x00\x00(?=[\x00-\x03])")


def unescaped(data: bytes) -> bytes:
    """A unit's payload without its emulation prevention (ITU-T H.264, 7.4.1; H.265, 7.4.2)."""
    return _ESCAPED.sub(b"\x00\x00", data) if b"\x00\x00\x03" in data else data


def escaped(data: bytes) -> bytes:
    """A payload with emulation prevention, so that no start code can be read in it."""
    found = _TO_ESCAPE.sub(b"\x00\x00\x03", data)
    return found + b"\x03" if found.endswith(b"\x00") else found


@dataclass(frozen=True)
class Framing:
    """How the units of a stream are told apart."""

    length_bytes: int
    """Of the length before each unit; 0 where start codes stand between them (Annex B)."""

    def units(self, data: bytes) -> list[bytes]:
        """The units of a packet. Raises NotSpliceableError where lengths do not fit."""
        if not self.length_bytes:
            return split_at_start_codes(data)
        found, place, size = [], 0, self.length_bytes
        while place < len(data):
            length = int.from_bytes(data[place : place + size], "big")
            place += size
            if place + length > len(data):
                raise NotSpliceableError(Obstacle.UNREADABLE)
            if length:
                found.append(data[place : place + length])
            place += length
        return found

    def checksum(self, data: bytes) -> int:
        """Of a packet; in a byte stream without what containers put in and take out (access unit delimiters)."""
        if not self.length_bytes:
            data = self.packed([unit for unit in self.units(data) if unit[0] & 31 != _DELIMITER])
        return xxhash.xxh3_64_intdigest(data)

    def packed(self, units: list[bytes]) -> bytes:
        """Units as a packet. Raises NotSpliceableError for one that is longer than its length can say."""
        if not self.length_bytes:
            return b"".join(b"\x00\x00\x00\x01" + unit for unit in units)
        if any(len(unit) >= 1 << 8 * self.length_bytes for unit in units):
            raise NotSpliceableError(Obstacle.ENCODER)
        return b"".join(len(unit).to_bytes(self.length_bytes, "big") + unit for unit in units)


def split_at_start_codes(data: bytes) -> list[bytes]:
    """The units of a byte stream (Annex B), without start codes and the zeros around them."""
    places = [found.end() for found in START_CODE.finditer(data)]
    ends = [place - 3 for place in places[1:]] + [len(data)]
    units = [data[start:end].rstrip(b"\x00") for start, end in zip(places, ends, strict=True)]
    return [unit for unit in units if unit]


@dataclass(frozen=True)
class AvcHeader:
    """The header of an H.264 stream in a container (ISO/IEC 14496-15, 5.3.3.1), or its sets as a byte stream."""

    framing: Framing
    sequence_sets: tuple[bytes, ...]
    picture_sets: tuple[bytes, ...]
    first: bytes = b""
    """Version, profile and level; empty for a byte stream."""
    last: bytes = b""
    """What follows the sets: chroma format, bit depths, extensions."""

    @classmethod
    def read(cls, data: bytes) -> AvcHeader:
        """Raises NotSpliceableError for what is no such header."""
        if data[:3] == b"\x00\x00\x01" or data[:4] == b"\x00\x00\x00\x01":
            units = split_at_start_codes(data)
            return cls(
                Framing(0),
                tuple(unit for unit in units if unit[0] & 31 == 7),
                tuple(unit for unit in units if unit[0] & 31 == 8),
            )
        if len(data) < 7 or data[0] != 1:
            raise NotSpliceableError(Obstacle.UNREADABLE)
        place = 6
        sets: list[list[bytes]] = []
        for mask in (31, 255):
            if mask == 255:
                place += 1
            found = []
            for _ in range((data[place - 1 : place] or b"\0")[0] & mask):
                length = int.from_bytes(data[place : place + 2], "big")
                found.append(data[place + 2 : place + 2 + length])
                place += 2 + length
            sets.append(found)
        if place > len(data) or not all(sets) or not all(unit for found in sets for unit in found):
            raise NotSpliceableError(Obstacle.UNREADABLE)
        return cls(Framing((data[4] & 3) + 1), tuple(sets[0]), tuple(sets[1]), data[:5], data[place:])

    def written(self) -> bytes:
        """The header as bytes."""
        if not self.framing.length_bytes:
            return self.framing.packed([*self.sequence_sets, *self.picture_sets])
        parts = [self.first, bytes([0xE0 | len(self.sequence_sets)])]
        parts += [len(unit).to_bytes(2, "big") + unit for unit in self.sequence_sets]
        parts.append(bytes([len(self.picture_sets)]))
        parts += [len(unit).to_bytes(2, "big") + unit for unit in self.picture_sets]
        return b"".join([*parts, self.last])
