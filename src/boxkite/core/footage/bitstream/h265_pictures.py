"""The coded pictures of an H.265 stream: what their headers say, and in which order they are shown."""

from __future__ import annotations

from msgspec import Struct

from boxkite.core.footage.bitstream.h265_sets import HEADER_BYTES, PictureSet, SequenceSet
from boxkite.core.footage.bitstream.h265_slices import LAST_SLICE, SliceHeader, kind_of, read_slice
from boxkite.core.footage.bitstream.nal_units import HevcHeader
from boxkite.core.footage.bitstream.obstacles import NotSpliceableError, Obstacle
from boxkite.core.footage.bitstream.shared import OrderCount, free_number

VIDEO_SET, SEQUENCE_SET, PICTURE_SET = 32, 33, 34
_LEAST_TRANSFORM = 2
"""As a logarithm: the encoder divides blocks down to 4 x 4 samples."""
_FIRST_SLICE = 0x80
"""In the byte after a unit's header: first_slice_segment_in_pic_flag."""


class CodedPicture(Struct, frozen=True):
    """One picture as it is stored."""

    header: SliceHeader
    """Of its first slice."""
    order: int
    """Its picture order count, from the IDR picture before it (8.3.1)."""
    has_sets: bool
    """Whether parameter sets stand with it."""

    @property
    def is_idr(self) -> bool:
        """Whether decoding can begin at it, and all before it is shown before it."""
        return self.header.is_idr


class PictureReader(Struct):
    """Reads the packets of one stream in the order they are stored, from an IDR picture on."""

    header: HevcHeader
    sequence: SequenceSet
    picture_sets: dict[int, PictureSet]
    _count: OrderCount
    _seen: bool = False

    @classmethod
    def of(cls, header: HevcHeader) -> PictureReader:
        """A reader for a stream with this header. Raises NotSpliceableError, with the reason why not."""
        sequences = {SequenceSet.read(unit) for unit in header.of_kind(SEQUENCE_SET)}
        if len(sequences) != 1 or len(set(header.of_kind(VIDEO_SET))) != 1:
            raise NotSpliceableError(Obstacle.SETS if sequences else Obstacle.UNREADABLE)
        (sequence,) = sequences
        check_sequence(sequence)
        sets = [PictureSet.read(unit) for unit in header.of_kind(PICTURE_SET)]
        by_number = {one.number: one for one in sets}
        alike = all(
            one.sequence_set == sequence.number and by_number[one.number].unit == one.unit for one in sets
        )
        if not sets or not alike:
            raise NotSpliceableError(Obstacle.SETS if sets else Obstacle.UNREADABLE)
        return cls(header, sequence, by_number, OrderCount(sequence.order_bits))

    @property
    def free_number(self) -> int:
        """The lowest number that no picture set of the stream has. Raises NotSpliceableError if there is none."""
        return free_number(self.picture_sets, 64)

    def read(self, packet: bytes) -> CodedPicture:
        """The picture of a packet. Raises NotSpliceableError where the stream is not one to be spliced."""
        first: SliceHeader | None = None
        has_sets = False
        for unit in self.header.framing.units(packet):
            kind = kind_of(unit)
            if len(unit) <= HEADER_BYTES or unit[0] & 1 or unit[1] >> 3:
                raise NotSpliceableError(Obstacle.SLICES)  # of another layer
            if kind <= LAST_SLICE:
                if unit[HEADER_BYTES] & _FIRST_SLICE:
                    if first is not None:
                        raise NotSpliceableError(Obstacle.UNREADABLE)
                    first = read_slice(unit, self.picture_sets, self.sequence)
            elif kind in (VIDEO_SET, SEQUENCE_SET, PICTURE_SET):
                has_sets = True
                if unit not in self.header.of_kind(kind):
                    raise NotSpliceableError(Obstacle.SETS)
        if first is None:
            raise NotSpliceableError(Obstacle.UNREADABLE)
        if first.drops_earlier or not first.is_shown:
            raise NotSpliceableError(Obstacle.DROPS)
        return CodedPicture(first, self._order(first), has_sets)

    def _order(self, header: SliceHeader) -> int:
        """The picture order count (8.3.1)."""
        if header.is_idr:
            self._count.restart()
            self._seen = True
            return 0
        if not self._seen:
            raise NotSpliceableError(Obstacle.NO_DECODING_START)
        counts = header.layer == 0 and not header.is_leading and header.is_reference
        return self._count.of(header.order_low, others_count_from_it=counts)


def check_sequence(sequence: SequenceSet) -> None:
    """Raise NotSpliceableError, with the reason, for a stream whose edges cannot be encoded to go with it."""
    left, _, top, _ = sequence.crop
    tools = sequence.tools
    for is_so, obstacle in (
        (tools.planes_apart, Obstacle.PLANES),
        (tools.scaling_lists, Obstacle.LISTS),
        (tools.raw_blocks or tools.extended, Obstacle.PROFILE),
        (tools.depth_bits[0] != tools.depth_bits[1], Obstacle.PROFILE),
        (tools.block_sizes[2] != _LEAST_TRANSFORM, Obstacle.PROFILE),
        (bool(left or top), Obstacle.SIZE),
    ):
        if is_so:
            raise NotSpliceableError(obstacle)
