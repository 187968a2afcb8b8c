"""The headers of H.264 slices (ITU-T H.264, 7.3.3)."""

from __future__ import annotations

from collections.abc import Mapping

from msgspec import Struct

from boxkite.core.footage.bitstream.bits import BitReader
from boxkite.core.footage.bitstream.h264_sets import PictureSet, SequenceSet
from boxkite.core.footage.bitstream.nal_units import unescaped
from boxkite.core.footage.bitstream.obstacles import NotSpliceableError, Obstacle

SLICE, IDR = 1, 5
_P, _B, _I, _SP, _SI = range(5)
_HEADER_BYTES = 48
"""Nearly every header is shorter; the others are read again from the whole."""


class SliceHeader(Struct, frozen=True):
    """What a slice says of its picture, and where in its bits."""

    is_idr: bool
    is_reference: bool
    first_macroblock: int
    kind: int
    """slice_type modulo 5."""
    picture_set: int
    frame_number: int
    idr_number: int
    order_low: int
    """pic_order_cnt_lsb."""
    drops_earlier: bool
    """no_output_of_prior_pics_flag."""
    marking: tuple[tuple[int, ...], ...] | None
    """Memory management operations with their numbers; None for the sliding window."""
    long_term: bool
    """Of an IDR picture."""
    modifies_lists: bool
    quantiser: int
    """SliceQPY: of its first macroblock."""
    after_order_at: int
    """The bit after the picture order count."""
    end_at: int
    """The bit after the header."""


def read_slice(unit: bytes, pictures: Mapping[int, PictureSet], sequence: SequenceSet) -> SliceHeader:
    """The header of a slice. Raises NotSpliceableError for what it cannot be read with."""
    try:
        return _read(unit, BitReader(unescaped(unit[1:_HEADER_BYTES])), pictures, sequence)
    except NotSpliceableError:
        return _read(unit, BitReader(unescaped(unit[1:])), pictures, sequence)


def _read(
    unit: bytes, bits: BitReader, pictures: Mapping[int, PictureSet], sequence: SequenceSet
) -> SliceHeader:
    is_idr, reference = unit[0] & 31 == IDR, bool(unit[0] & 0x60)
    first, kind, number = bits.unsigned(), bits.unsigned() % 5, bits.unsigned()
    used = pictures.get(number)
    if used is None or kind in (_SP, _SI):
        raise NotSpliceableError(Obstacle.UNREADABLE if used is None else Obstacle.SLICES)
    frame_number = bits.bits(sequence.frame_number_bits)
    idr_number = bits.unsigned() if is_idr else 0
    order = bits.bits(sequence.order_bits) if sequence.order_type == 0 else 0
    if sequence.order_type == 0 and used.tells_bottom_order and bits.signed() < 0:
        raise NotSpliceableError(Obstacle.ORDER)
    after_order = bits.place
    if used.redundant_told and bits.unsigned():
        raise NotSpliceableError(Obstacle.SLICES)
    if kind == _B:
        bits.flag()
    active = list(used.references)
    if kind != _I and bits.flag():
        active[0] = bits.unsigned() + 1
        if kind == _B:
            active[1] = bits.unsigned() + 1
    modified = _skip_modification(bits, (kind != _I) + (kind == _B))
    if (used.weighted and kind == _P) or (used.weighted_both == 1 and kind == _B):
        _skip_weights(bits, active[: 1 + (kind == _B)], sequence.chroma_format)
    drops, long_term, marking = _read_marking(bits, is_idr) if reference else (False, False, None)
    if used.arithmetic and kind != _I:
        bits.unsigned()
    quantiser = used.quantiser + bits.signed()
    if used.deblocking_told and bits.unsigned() != 1:
        bits.signed(), bits.signed()
    return SliceHeader(
        is_idr, reference, first, kind, number, frame_number, idr_number, order, drops, marking, long_term,
        modified, quantiser, after_order, bits.place,
    )  # fmt: skip


def _skip_modification(bits: BitReader, lists: int) -> bool:
    """Read over how so many lists of references are modified (7.3.3.1); whether any is."""
    modified = False
    for _ in range(lists):
        if bits.flag():
            modified = True
            while bits.unsigned() != 3:
                bits.unsigned()
    return modified


def _read_marking(bits: BitReader, is_idr: bool) -> tuple[bool, bool, tuple[tuple[int, ...], ...] | None]:
    """How a reference picture is kept (7.3.3.3): drops what waits, is long-term, operations."""
    if is_idr:
        return bits.flag(), bits.flag(), None
    return False, False, tuple(_operations(bits)) if bits.flag() else None


def _skip_weights(bits: BitReader, active: list[int], chroma_format: int) -> None:
    """Read over the table of prediction weights (7.3.3.2)."""
    bits.unsigned()
    if chroma_format:
        bits.unsigned()
    for count in active:
        for _ in range(min(count, 32)):
            for numbers in (2, 4) if chroma_format else (2,):
                if bits.flag():
                    for _ in range(numbers):
                        bits.signed()


def _operations(bits: BitReader) -> list[tuple[int, ...]]:
    """The memory management operations of a picture (7.3.3.3, table 7-9)."""
    found: list[tuple[int, ...]] = []
    while kind := bits.unsigned():
        found.append(
            (kind, *(bits.unsigned() for _ in range({1: 1, 2: 1, 3: 2, 4: 1, 5: 0, 6: 1}.get(kind, 0))))
        )
        if len(found) > 66:
            raise NotSpliceableError(Obstacle.UNREADABLE)
    return found
