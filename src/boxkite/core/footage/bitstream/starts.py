"""Where decoding can begin: which streams can be cut between keyframes, and which of their pictures are entries."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Any

from av.packet import Packet

from boxkite.core.footage.bitstream.h264_pictures import PictureReader
from boxkite.core.footage.bitstream.h264_slices import IDR, SLICE
from boxkite.core.footage.bitstream.nal_units import AvcHeader
from boxkite.core.footage.bitstream.obstacles import NotSpliceableError, Obstacle

_SPLICED = frozenset({"h264"})
_COUNTING = frozenset({"avi", "ogg", "mpeg"})
_SEARCHED_BYTES = 65_536
"""At the beginning of a packet: sets and messages stand before the picture."""
_UNIT_AFTER_CODE = re.compile(rb"\x00\x00\x01([\x00-\xff])")


@dataclass(frozen=True)
class Entries:
    """How the entries of a stream are found."""

    obstacle: Obstacle | None = None
    """Why shots of it cannot be spliced, as far as its header tells; None where they can."""
    length_bytes: int = 0

    @classmethod
    def of(cls, context: Any, container: str) -> Entries:
        """context: PyAV's of the stream; container: as the codec library calls it."""
        if context.codec.canonical_name not in _SPLICED:
            return cls(Obstacle.CODEC)
        if container in _COUNTING:
            return cls(Obstacle.COUNTED)
        try:
            reader = PictureReader.of(AvcHeader.read(bytes(context.extradata or b"")))
        except NotSpliceableError as error:
            return cls(error.obstacle)
        return cls(None, reader.header.framing.length_bytes)

    def begins(self, packet: Packet[Any]) -> bool:
        """Whether a picture is an IDR picture (ITU-T H.264, table 7-1), not one that others reach back over."""
        if self.obstacle:
            return False
        data = bytes(memoryview(packet)[:_SEARCHED_BYTES])
        return next((kind == IDR for kind in self._kinds(data) if kind in (SLICE, IDR)), False)

    def _kinds(self, data: bytes) -> list[int]:
        """The kinds of the units whose first byte is in the data."""
        if not self.length_bytes:
            return [found[1][0] & 31 for found in _UNIT_AFTER_CODE.finditer(data)]
        kinds, place = [], self.length_bytes
        while place < len(data):
            kinds.append(data[place] & 31)
            length = int.from_bytes(data[place - self.length_bytes : place], "big")
            place += length + self.length_bytes
        return kinds
