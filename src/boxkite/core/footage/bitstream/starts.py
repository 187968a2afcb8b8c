"""Where decoding can begin: which streams can be cut between keyframes, and which of their pictures are entries."""

from __future__ import annotations

from typing import Any

from av.packet import Packet
from msgspec import Struct

from boxkite.core.footage.bitstream.bits import BitReader
from boxkite.core.footage.bitstream.nal_units import START_CODE, AvcHeader, StreamHeader, header_of
from boxkite.core.footage.bitstream.obstacles import NotSpliceableError, Obstacle
from boxkite.core.footage.bitstream.pictures import reader_of

_COUNTING = frozenset({"avi", "ogg", "mpeg"})
_SEARCHED_BYTES = 65_536
"""At the beginning of a packet: sets and messages stand before the picture."""
_HEADER_BYTES = 16
_CODED_ALONE = (2, 4)
"""I and SI, of slice_type modulo 5 (table 7-6)."""


class Entries(Struct, frozen=True):
    """How the entries of a stream are found."""

    obstacle: Obstacle | None = None
    """Why shots of it cannot be spliced, as far as its header tells; None where they can."""
    header: StreamHeader | None = None
    """None where its units cannot be looked at."""

    @classmethod
    def of(cls, context: Any, container: str) -> Entries:
        """context: PyAV's of the stream; container: as the codec library calls it."""
        header = None
        try:
            header = header_of(context.codec.canonical_name, bytes(context.extradata or b""))
            reader_of(header)
        except NotSpliceableError as error:
            return cls(error.obstacle, header)
        return cls(Obstacle.COUNTED if container in _COUNTING else None, header)

    def begins(self, packet: Packet[Any]) -> bool:
        """Whether a picture is an IDR picture, not one that others reach back over."""
        unit = self._first_slice(packet)
        return not self.obstacle and unit is not None and self.header is not None and self.header.is_idr(unit)

    def is_whole(self, packet: Packet[Any]) -> bool:
        """Whether what a container calls a keyframe is coded by itself, not refreshed over the frames that follow."""
        unit = self._first_slice(packet)
        if unit is None or not isinstance(self.header, AvcHeader):
            return True
        try:
            bits = BitReader(unit[1:])
            bits.unsigned()
            return bits.unsigned() % 5 in _CODED_ALONE
        except NotSpliceableError:
            return True  # the decoder may make something of it

    def _first_slice(self, packet: Packet[Any]) -> bytes | None:
        """The beginning of the first slice; None where it cannot be told."""
        if self.header is None:
            return None
        data = bytes(memoryview(packet)[:_SEARCHED_BYTES])
        size = self.header.framing.length_bytes
        if not size:
            places = [found.end() for found in START_CODE.finditer(data)]
        else:
            places, place = [], size
            while place < len(data):
                places.append(place)
                place += int.from_bytes(data[place - size : place], "big") + size
        begun = (data[place : place + _HEADER_BYTES] for place in places if place < len(data))
        return next((unit for unit in begun if self.header.is_slice(unit)), None)
