"""The coded pictures of an H.264 stream: what their headers say, and in which order they are shown."""

from __future__ import annotations

from msgspec import Struct

from boxkite.core.footage.bitstream.h264_sets import PictureSet, SequenceSet
from boxkite.core.footage.bitstream.h264_slices import IDR, SLICE, SliceHeader, read_slice
from boxkite.core.footage.bitstream.nal_units import AvcHeader
from boxkite.core.footage.bitstream.obstacles import NotSpliceableError, Obstacle
from boxkite.core.footage.bitstream.shared import OrderCount, free_number

_SEQUENCE_SET, _PICTURE_SET, _SEQUENCE_EXTENSION = 7, 8, 13
_PARTITIONS, _LAYERS = frozenset({2, 3, 4}), frozenset({14, 15, 19, 20, 21})
_PROFILES = frozenset({66, 77, 100, 110, 122, 244})
_CLEARS_ALL = 5


class CodedPicture(Struct, frozen=True):
    """One picture as it is stored."""

    header: SliceHeader
    """Of its first slice."""
    order: int
    """Its picture order count, from the IDR picture before it (8.2.1)."""
    has_sets: bool
    """Whether parameter sets stand with it."""

    @property
    def is_idr(self) -> bool:
        """Whether decoding can begin at it, and all before it is shown before it."""
        return self.header.is_idr


class PictureReader(Struct):
    """Reads the packets of one stream in the order they are stored, from an IDR picture on."""

    header: AvcHeader
    sequence: SequenceSet
    picture_sets: dict[int, PictureSet]
    _count: OrderCount
    _frame_offset: int = 0
    _frame_number: int = 0
    _reference_number: int = 0
    _seen: bool = False

    @classmethod
    def of(cls, header: AvcHeader) -> PictureReader:
        """A reader for a stream with this header. Raises NotSpliceableError, with the reason why not."""
        sequences = {SequenceSet.read(unit) for unit in header.sequence_sets}
        if len(sequences) != 1:
            raise NotSpliceableError(Obstacle.SETS if sequences else Obstacle.UNREADABLE)
        (sequence,) = sequences
        check_sequence(sequence)
        sets = [PictureSet.read(unit) for unit in header.picture_sets]
        if any(one.sequence_set != sequence.number for one in sets):
            raise NotSpliceableError(Obstacle.SETS)
        by_number = {one.number: one for one in sets}
        if not sets or any(by_number[one.number].unit != one.unit for one in sets):
            raise NotSpliceableError(Obstacle.SETS if sets else Obstacle.UNREADABLE)
        return cls(header, sequence, by_number, OrderCount(sequence.order_bits))

    @property
    def free_number(self) -> int:
        """The lowest number that no picture set of the stream has. Raises NotSpliceableError if there is none."""
        return free_number(self.picture_sets, 256)

    def read(self, packet: bytes) -> CodedPicture:
        """The picture of a packet. Raises NotSpliceableError where the stream is not one to be spliced."""
        first: SliceHeader | None = None
        has_sets = False
        for unit in self.header.framing.units(packet):
            kind = unit[0] & 31
            if kind in (SLICE, IDR):
                if first is None:
                    first = read_slice(unit, self.picture_sets, self.sequence)
                elif first.is_idr != (kind == IDR):
                    raise NotSpliceableError(Obstacle.UNREADABLE)
            elif kind in (_SEQUENCE_SET, _PICTURE_SET):
                has_sets = True
                self._check_set(unit, kind)
            elif kind in _PARTITIONS or kind in _LAYERS or kind == _SEQUENCE_EXTENSION:
                raise NotSpliceableError(Obstacle.SLICES)
        if first is None:
            raise NotSpliceableError(Obstacle.UNREADABLE)
        if first.drops_earlier:
            raise NotSpliceableError(Obstacle.DROPS)
        return CodedPicture(first, self._order(first), has_sets)

    def _check_set(self, unit: bytes, kind: int) -> None:
        """Make sure that a set within the stream is the one of the header."""
        if kind == _SEQUENCE_SET:
            if SequenceSet.read(unit).unit != self.sequence.unit:
                raise NotSpliceableError(Obstacle.SETS)
            return
        known = self.picture_sets.get(PictureSet.read(unit).number)
        if known is None or known.unit != unit:
            raise NotSpliceableError(Obstacle.SETS)

    def _order(self, header: SliceHeader) -> int:
        """The picture order count (8.2.1.1 and 8.2.1.3), and the continuity of frame numbers (7.4.3)."""
        most = 1 << self.sequence.frame_number_bits
        if header.is_idr:
            self._frame_offset = 0
            self._count.restart()
            self._seen = True
        elif not self._seen:
            raise NotSpliceableError(Obstacle.NO_DECODING_START)
        else:
            if header.frame_number != (self._reference_number + 1) % most:
                raise NotSpliceableError(Obstacle.GAPS)
            if header.frame_number < self._frame_number:
                self._frame_offset += most
        self._frame_number = header.frame_number
        if header.is_reference:
            self._reference_number = header.frame_number
        if header.marking and any(one[0] == _CLEARS_ALL for one in header.marking):
            raise NotSpliceableError(Obstacle.DROPS)
        if self.sequence.order_type == 2:
            return 2 * (self._frame_offset + header.frame_number) - (not header.is_reference)
        return self._count.of(header.order_low, others_count_from_it=header.is_reference)


def check_sequence(sequence: SequenceSet) -> None:
    """Raise NotSpliceableError, with the reason, for a stream whose edges cannot be encoded to go with it."""
    left, _, top, _ = sequence.crop
    for is_so, obstacle in (
        (not sequence.frames_only, Obstacle.INTERLACED),
        (sequence.order_type == 1, Obstacle.ORDER),
        (sequence.planes_apart, Obstacle.PLANES),
        (sequence.profile not in _PROFILES, Obstacle.PROFILE),
        (sequence.depth_bits[0] != sequence.depth_bits[1], Obstacle.PROFILE),
        (bool(left or top), Obstacle.SIZE),
    ):
        if is_so:
            raise NotSpliceableError(obstacle)
