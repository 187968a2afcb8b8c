"""Slices of one encoder under the sequence set of another (ITU-T H.264, 7.3.3 and 7.3.4)."""

from __future__ import annotations

from collections.abc import Mapping

from msgspec import Struct

from boxkite.core.footage.bitstream.bits import BitReader, BitWriter
from boxkite.core.footage.bitstream.h264_sets import PictureSet, SequenceSet
from boxkite.core.footage.bitstream.h264_slices import read_slice
from boxkite.core.footage.bitstream.nal_units import escaped, unescaped
from boxkite.core.footage.bitstream.obstacles import NotSpliceableError, Obstacle


class Encoded(Struct, frozen=True):
    """The sets of the encoder that made the edges, and the picture set they go by in the source's stream."""

    sequence: SequenceSet
    pictures: Mapping[int, PictureSet]
    target: SequenceSet
    """The source's."""
    target_number: int
    """The free number of the picture set."""


def rewritten(unit: bytes, encoded: Encoded, *, after_idr: int, idr_number: int) -> bytes:
    """A slice of the encoder's as the source's sequence set reads it.

    after_idr: pictures since the IDR picture before it, 0 for that one; the encoder shows them in that order. What
    follows the order count is kept bit by bit. Raises NotSpliceableError for slices that cannot be read differently.
    """
    header = read_slice(unit, encoded.pictures, encoded.sequence)
    if (
        header.modifies_lists
        or header.marking
        or header.drops_earlier
        or header.long_term
        or not header.is_reference
    ):
        raise NotSpliceableError(Obstacle.ENCODER)
    target, used = encoded.target, encoded.pictures[header.picture_set]
    payload = unescaped(unit[1:])
    bits, written = BitReader(payload), BitWriter()
    written.unsigned(bits.unsigned())
    written.unsigned(bits.unsigned())
    written.unsigned(encoded.target_number)
    written.bits(target.frame_number_bits, after_idr % (1 << target.frame_number_bits))
    if header.is_idr:
        written.unsigned(idr_number)
    if target.order_type == 0:
        written.bits(target.order_bits, 2 * after_idr % (1 << target.order_bits))
        if used.tells_bottom_order:
            written.signed(0)
    if used.arithmetic:
        written.bits(header.end_at - header.after_order_at, bits.slice(header.after_order_at, header.end_at))
        written.fill(1)
        return unit[:1] + escaped(written.whole() + payload[-(-header.end_at // 8) :])
    stop = bits.stop_bit
    written.bits(stop - header.after_order_at, bits.slice(header.after_order_at, stop))
    return unit[:1] + escaped(written.end())
