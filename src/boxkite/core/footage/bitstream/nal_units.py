"""NAL units, the parts that H.264 and H.265 streams are made of, and the headers that carry them in containers."""

from __future__ import annotations

import re
from collections.abc import Iterable
from typing import ClassVar

import xxhash
from msgspec import Struct
from msgspec.structs import replace

from boxkite.core.footage.bitstream.obstacles import NotSpliceableError, Obstacle

_AVC_DELIMITER, _HEVC_DELIMITER = 9, 35
_HEVC_SETS, _HEVC_IDR, _HEVC_FIRST_BYTES = (32, 33, 34), (19, 20), 22
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


class Framing(Struct, frozen=True):
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


class AvcHeader(Struct, frozen=True):
    """The header of an H.264 stream in a container (ISO/IEC 14496-15, 5.3.3.1), or its sets as a byte stream."""

    codec: ClassVar[str] = "h264"
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

    @staticmethod
    def is_slice(unit: bytes) -> bool:
        """Whether a unit holds coded samples (ITU-T H.264, table 7-1); IDR pictures are always referred to (7.4.1)."""
        return unit[0] & 31 == 1 or (unit[0] & 31 == 5 and unit[0] & 0x60 > 0)

    @staticmethod
    def is_idr(unit: bytes) -> bool:
        """Whether it is a slice of an IDR picture."""
        return unit[0] & 31 == 5

    def is_needed(self, packet: bytes) -> bool:
        """Whether other pictures may be decoded from the one of a packet (nal_ref_idc)."""
        return any(self.is_slice(unit) and unit[0] & 0x60 for unit in self.framing.units(packet))

    def checksum(self, packet: bytes) -> int:
        """Of a packet; in a byte stream without what containers put in and take out (access unit delimiters)."""
        if not self.framing.length_bytes:
            units = self.framing.units(packet)
            packet = self.framing.packed([unit for unit in units if unit[0] & 31 != _AVC_DELIMITER])
        return xxhash.xxh3_64_intdigest(packet)

    @property
    def sets(self) -> tuple[bytes, ...]:
        """All of them, in the order a byte stream needs them."""
        return (*self.sequence_sets, *self.picture_sets)

    def with_picture_sets(self, units: Iterable[bytes]) -> AvcHeader:
        """The same with these as well."""
        return replace(self, picture_sets=tuple(dict.fromkeys((*self.picture_sets, *units))))

    def written(self) -> bytes:
        """The header as bytes."""
        if not self.framing.length_bytes:
            return self.framing.packed([*self.sequence_sets, *self.picture_sets])
        parts = [self.first, bytes([0xE0 | len(self.sequence_sets)])]
        parts += [len(unit).to_bytes(2, "big") + unit for unit in self.sequence_sets]
        parts.append(bytes([len(self.picture_sets)]))
        parts += [len(unit).to_bytes(2, "big") + unit for unit in self.picture_sets]
        return b"".join([*parts, self.last])


class HevcHeader(Struct, frozen=True):
    """The header of an H.265 stream in a container (ISO/IEC 14496-15, 8.3.3.1), or its sets as a byte stream."""

    codec: ClassVar[str] = "hevc"
    framing: Framing
    arrays: tuple[tuple[int, tuple[bytes, ...]], ...]
    """(kind, units); the first bit of a kind says that no unit of it stands in the stream itself."""
    first: bytes = b""
    """Version, profile, tier, level and format; empty for a byte stream."""

    @classmethod
    def read(cls, data: bytes) -> HevcHeader:
        """Raises NotSpliceableError for what is no such header."""
        if data[:3] == b"\x00\x00\x01" or data[:4] == b"\x00\x00\x00\x01":
            units = split_at_start_codes(data)
            kinds = ((kind, tuple(unit for unit in units if unit[0] >> 1 == kind)) for kind in _HEVC_SETS)
            return cls(Framing(0), tuple(kinds))
        if len(data) <= _HEVC_FIRST_BYTES or data[0] != 1:
            raise NotSpliceableError(Obstacle.UNREADABLE)
        place, arrays = _HEVC_FIRST_BYTES + 1, []
        for _ in range(data[_HEVC_FIRST_BYTES]):
            if place + 3 > len(data):
                raise NotSpliceableError(Obstacle.UNREADABLE)
            kind, units = data[place], []
            count, place = int.from_bytes(data[place + 1 : place + 3], "big"), place + 3
            for _ in range(count):
                length = int.from_bytes(data[place : place + 2], "big")
                units.append(data[place + 2 : place + 2 + length])
                place += 2 + length
            arrays.append((kind, tuple(units)))
        if place > len(data) or not all(unit for _, units in arrays for unit in units):
            raise NotSpliceableError(Obstacle.UNREADABLE)
        return cls(Framing((data[_HEVC_FIRST_BYTES - 1] & 3) + 1), tuple(arrays), data[:_HEVC_FIRST_BYTES])

    @staticmethod
    def is_slice(unit: bytes) -> bool:
        """Whether a unit holds coded samples (ITU-T H.265, table 7-1)."""
        return unit[0] >> 1 & 63 < _HEVC_SETS[0]

    @staticmethod
    def is_idr(unit: bytes) -> bool:
        """Whether it is a slice of an IDR picture."""
        return unit[0] >> 1 & 63 in _HEVC_IDR

    def is_needed(self, packet: bytes) -> bool:
        """Whether other pictures may be decoded from the one of a packet: which layer needs it is not looked at."""
        return bool(packet)

    def checksum(self, packet: bytes) -> int:
        """Of a packet; in a byte stream without what containers put in and take out (access unit delimiters)."""
        if not self.framing.length_bytes:
            units = self.framing.units(packet)
            packet = self.framing.packed([unit for unit in units if unit[0] >> 1 & 63 != _HEVC_DELIMITER])
        return xxhash.xxh3_64_intdigest(packet)

    def of_kind(self, kind: int) -> tuple[bytes, ...]:
        """The sets of a kind: 32 of the video, 33 of the sequence, 34 of pictures."""
        return tuple(unit for one, units in self.arrays if one & 63 == kind for unit in units)

    @property
    def picture_sets(self) -> tuple[bytes, ...]:
        """Those of pictures."""
        return self.of_kind(_HEVC_SETS[-1])

    @property
    def sets(self) -> tuple[bytes, ...]:
        """All of them, in the order a byte stream needs them."""
        return tuple(unit for kind in _HEVC_SETS for unit in self.of_kind(kind))

    def with_picture_sets(self, units: Iterable[bytes]) -> HevcHeader:
        """The same with these as well."""
        added, last = tuple(dict.fromkeys((*self.picture_sets, *units))), _HEVC_SETS[-1]
        return replace(
            self, arrays=tuple((kind, added if kind & 63 == last else own) for kind, own in self.arrays)
        )

    def written(self) -> bytes:
        """The header as bytes."""
        if not self.framing.length_bytes:
            return self.framing.packed(list(self.sets))
        parts = [self.first, bytes([len(self.arrays)])]
        for kind, units in self.arrays:
            parts.append(bytes([kind]) + len(units).to_bytes(2, "big"))
            parts += [len(unit).to_bytes(2, "big") + unit for unit in units]
        return b"".join(parts)


StreamHeader = AvcHeader | HevcHeader


def header_of(codec: str, data: bytes) -> StreamHeader:
    """The header of a stream. codec: as the codec library calls it. Raises NotSpliceableError for other codecs."""
    if codec not in ("h264", "hevc"):
        raise NotSpliceableError(Obstacle.CODEC)
    return AvcHeader.read(data) if codec == "h264" else HevcHeader.read(data)
