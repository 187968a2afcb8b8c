"""Where decoding can begin: which streams can be cut between keyframes, and which of their pictures are entries."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from av.packet import Packet

from boxkite.core.footage.bitstream.bits import BitReader
from boxkite.core.footage.bitstream.h264_pictures import PictureReader
from boxkite.core.footage.bitstream.h264_slices import IDR, SLICE
from boxkite.core.footage.bitstream.nal_units import START_CODE, AvcHeader, Framing
from boxkite.core.footage.bitstream.obstacles import NotSpliceableError, Obstacle

_SPLICED = frozenset({"h264"})
_COUNTING = frozenset({"avi", "ogg", "mpeg"})
_SEARCHED_BYTES = 65_536
"""At the beginning of a packet: sets and messages stand before the picture."""
_HEADER_BYTES = 16
_CODED_ALONE = (2, 4)
"""I and SI, of slice_type modulo 5 (table 7-6)."""


@dataclass(frozen=True)
class Entries:
    """How the entries of a stream are found."""

    obstacle: Obstacle | None = None
    """Why shots of it cannot be spliced, as far as its header tells; None where they can."""
    framing: Framing | None = None
    """Of its units; None where they cannot be looked at."""

    @classmethod
    def of(cls, context: Any, container: str) -> Entries:
        """context: PyAV's of the stream; container: as the codec library calls it."""
        if context.codec.canonical_name not in _SPLICED:
            return cls(Obstacle.CODEC)
        framing = None
        try:
            header = AvcHeader.read(bytes(context.extradata or b""))
            framing = header.framing
            PictureReader.of(header)
        except NotSpliceableError as error:
            return cls(error.obstacle, framing)
        return cls(Obstacle.COUNTED if container in _COUNTING else None, framing)

    def begins(self, packet: Packet[Any]) -> bool:
        """Whether a picture is an IDR picture (ITU-T H.264, table 7-1), not one that others reach back over."""
        unit = self._first_slice(packet)
        return not self.obstacle and unit is not None and unit[0] & 31 == IDR

    def is_whole(self, packet: Packet[Any]) -> bool:
        """Whether what a container calls a keyframe is coded by itself, not refreshed over the frames that follow."""
        unit = self._first_slice(packet)
        if unit is None:
            return True
        try:
            bits = BitReader(unit[1:])
            bits.unsigned()
            return bits.unsigned() % 5 in _CODED_ALONE
        except NotSpliceableError:
            return True  # the decoder may make something of it

    def _first_slice(self, packet: Packet[Any]) -> bytes | None:
        """The beginning of the first slice; None where it cannot be told."""
        if self.framing is None:
            return None
        data = bytes(memoryview(packet)[:_SEARCHED_BYTES])
        size = self.framing.length_bytes
        if not size:
            places = [found.end() for found in START_CODE.finditer(data)]
        else:
            places, place = [], size
            while place < len(data):
                places.append(place)
                place += int.from_bytes(data[place - size : place], "big") + size
        begun = (data[place : place + _HEADER_BYTES] for place in places if place < len(data))
        return next((unit for unit in begun if unit[0] & 31 in (SLICE, IDR)), None)
