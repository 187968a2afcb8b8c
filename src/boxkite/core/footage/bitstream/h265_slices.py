"""The headers of H.265 slices (ITU-T H.265, 7.3.6.1)."""

from __future__ import annotations

from collections.abc import Mapping

from msgspec import Struct

from boxkite.core.footage.bitstream.bits import BitReader
from boxkite.core.footage.bitstream.h265_sets import HEADER_BYTES, PictureSet, SequenceSet
from boxkite.core.footage.bitstream.nal_units import unescaped
from boxkite.core.footage.bitstream.obstacles import NotSpliceableError, Obstacle

LAST_SLICE, FIRST_IDR, LAST_IDR, FIRST_ENTRY, LAST_ENTRY = 31, 19, 20, 16, 23
"""nal_unit_type: coded pictures up to 31, those that decoding may begin at, IDR pictures (table 7-1)."""
_LEADING = frozenset({6, 7, 8, 9})
_FIRST_BYTES = 32
_LAST_UNUSED = 14
"""The highest of the even kinds that nothing of their layer is predicted from."""
_B, _P, _I = range(3)


def kind_of(unit: bytes) -> int:
    """nal_unit_type."""
    return unit[0] >> 1 & 63


def is_idr(unit: bytes) -> bool:
    """Whether a unit belongs to an IDR picture."""
    return FIRST_IDR <= kind_of(unit) <= LAST_IDR


class SliceHeader(Struct, frozen=True):
    """What the first slice of a picture says, up to its order."""

    is_idr: bool
    is_leading: bool
    is_reference: bool
    """Whether pictures of its own layer may be predicted from it."""
    layer: int
    """TemporalId."""
    drops_earlier: bool
    """no_output_of_prior_pics_flag."""
    picture_set: int
    kind: int
    """slice_type: 0 for B, 1 for P, 2 for I."""
    is_shown: bool
    """pic_output_flag."""
    order_low: int
    """slice_pic_order_cnt_lsb."""
    set_at: int
    """The bit of the number of its picture set."""
    kind_at: int
    """The bit of slice_type."""
    after_order_at: int
    """The bit after the order."""


def read_slice(unit: bytes, pictures: Mapping[int, PictureSet], sequence: SequenceSet) -> SliceHeader:
    """The beginning of a picture's first header. Raises NotSpliceableError for what cannot be read."""
    bits = BitReader(unescaped(unit[HEADER_BYTES : HEADER_BYTES + _FIRST_BYTES]))
    kind = kind_of(unit)
    if not bits.flag():
        raise NotSpliceableError(Obstacle.UNREADABLE)
    entry = FIRST_ENTRY <= kind <= LAST_ENTRY
    drops = entry and bits.flag()
    set_at = bits.place
    used = pictures.get(bits.unsigned())
    if used is None:
        raise NotSpliceableError(Obstacle.UNREADABLE)
    bits.bits(used.extra_bits)
    kind_at, slice_kind = bits.place, bits.unsigned()
    shown = bits.flag() if used.output_told else True
    order = 0 if is_idr(unit) else bits.bits(sequence.order_bits)
    return SliceHeader(
        is_idr(unit), kind in _LEADING, kind > _LAST_UNUSED or bool(kind & 1), (unit[1] & 7) - 1, drops, used.number,
        slice_kind, shown, order, set_at, kind_at, bits.place,
    )  # fmt: skip


class Rest(Struct, frozen=True):
    """The rest of the header of an encoder's slice, whose pictures are I and P pictures in one part."""

    references: tuple[int, int]
    """Where its set of short-term references begins and ends; both 0 for an IDR picture."""
    predicts_vectors_at: int
    """The bit of slice_temporal_mvp_enabled_flag, or of what follows its place."""
    after_samples_at: int
    """The bit after the flags of the sample adaptive offset, or of their place."""
    end_at: int
    """The bit after the header, before its alignment."""


def read_rest(unit: bytes, header: SliceHeader, used: PictureSet, sequence: SequenceSet) -> Rest:
    """Read on to the end of a header. Raises NotSpliceableError for what an encoder of edges does not write."""
    bits = BitReader(unescaped(unit[HEADER_BYTES:]))
    bits.place = header.after_order_at
    odd = used.in_parts or used.lists_told or used.extended_headers or used.weighted or used.extra_bits
    if odd or header.kind == _B or sequence.long_term or sequence.adapts_samples or sequence.reference_sets:
        raise NotSpliceableError(Obstacle.ENCODER)
    references, vectors = (0, 0), False
    predicts_at = bits.place
    if not header.is_idr:
        if bits.flag():
            raise NotSpliceableError(Obstacle.ENCODER)
        references = (bits.place, _end_of_references(bits))
        predicts_at = bits.place
        vectors = sequence.tools.predicts_vectors and bits.flag()
    after_samples = bits.place
    if header.kind == _P:
        active = bits.unsigned() + 1 if bits.flag() else used.references
        if used.cabac_told:
            bits.flag()
        if vectors and active > 1:
            bits.unsigned()
        bits.unsigned()
    bits.signed()
    if used.chroma_told:
        bits.signed(), bits.signed()
    off = used.deblocking_off
    if used.deblocking_told and bits.flag():
        off = bits.flag()
        if not off:
            bits.signed(), bits.signed()
    if used.across_slices and not off:
        bits.flag()
    return Rest(references, predicts_at, after_samples, bits.place)


def _end_of_references(bits: BitReader) -> int:
    """The bit after the only set of short-term references (7.3.7): pictures before and after, each with a flag."""
    for _ in range(bits.unsigned() + bits.unsigned()):
        bits.unsigned(), bits.flag()
    return bits.place
