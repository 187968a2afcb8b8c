"""The parameter sets of an H.265 stream (ITU-T H.265, 7.3.2.2, 7.3.2.3, 7.3.7 and Annex E)."""

from __future__ import annotations

from msgspec import Struct

from boxkite.core.footage.bitstream.bits import BitReader, BitWriter
from boxkite.core.footage.bitstream.nal_units import escaped, unescaped
from boxkite.core.footage.bitstream.obstacles import NotSpliceableError, Obstacle
from boxkite.core.footage.bitstream.shared import read_appearance

HEADER_BYTES = 2
"""Of a unit (7.3.1.2)."""
_MOST_SETS, _MOST_LONG = 64, 32


class Tools(Struct, frozen=True):
    """What the slices of a stream are coded with: what is the same for two sets, slices mean the same under both."""

    chroma_format: int
    planes_apart: bool
    size: tuple[int, int]
    """In luma samples, cropping not taken off."""
    depth_bits: tuple[int, int]
    block_sizes: tuple[int, int, int, int]
    """Least coding block, largest above it, least transform, largest above it, as logarithms."""
    transform_depths: tuple[int, int]
    """Inter and intra."""
    scaling_lists: bool
    unequal_parts: bool
    """amp_enabled_flag."""
    raw_blocks: bool
    """pcm_enabled_flag."""
    smooths_intra: bool
    """strong_intra_smoothing_enabled_flag."""
    predicts_vectors: bool
    """sps_temporal_mvp_enabled_flag."""
    extended: bool
    """Whether any extension of the standard is used."""


class SequenceSet(Struct, frozen=True):
    """A sequence parameter set."""

    unit: bytes
    """As it is stored."""
    number: int
    sub_layers: int
    tools: Tools
    crop: tuple[int, int, int, int]
    """Left, right, top, bottom, in crop units."""
    order_bits: int
    buffer_frames: int
    """sps_max_dec_pic_buffering of all sub-layers together."""
    reorder_depth: int
    """sps_max_num_reorder_pics."""
    adapts_samples: bool
    """sample_adaptive_offset_enabled_flag."""
    reference_sets: int
    """num_short_term_ref_pic_sets."""
    long_term: bool
    """long_term_ref_pics_present_flag."""
    long_term_sets: int

    @classmethod
    def read(cls, unit: bytes) -> SequenceSet:
        """Raises NotSpliceableError for what cannot be read."""
        bits = BitReader(unescaped(unit[HEADER_BYTES:]))
        bits.bits(4)
        sub_layers = bits.bits(3) + 1
        bits.flag()
        _skip_profile(bits, sub_layers)
        number, chroma_format = bits.unsigned(), bits.unsigned()
        apart = chroma_format == 3 and bits.flag()
        size = (bits.unsigned(), bits.unsigned())
        crop = (0, 0, 0, 0)
        if bits.flag():
            crop = (bits.unsigned(), bits.unsigned(), bits.unsigned(), bits.unsigned())
        depth = (8 + bits.unsigned(), 8 + bits.unsigned())
        order_bits = bits.unsigned() + 4
        every_layer, buffered, reordered = bits.flag(), 0, 0
        for _ in range(sub_layers if every_layer else 1):
            buffered, reordered, _ = bits.unsigned() + 1, bits.unsigned(), bits.unsigned()
        blocks = (bits.unsigned() + 3, bits.unsigned(), bits.unsigned() + 2, bits.unsigned())
        transforms = (bits.unsigned(), bits.unsigned())
        lists = bits.flag()
        if lists and bits.flag():
            raise NotSpliceableError(Obstacle.LISTS)
        unequal, adapts, raw = bits.flag(), bits.flag(), bits.flag()
        if raw:
            bits.bits(8), bits.unsigned(), bits.unsigned(), bits.flag()
        sets = bits.unsigned()
        _skip_reference_sets(bits, sets)
        long_term = bits.flag()
        long_sets = bits.unsigned() if long_term else 0
        bits.bits((order_bits + 1) * min(long_sets, _MOST_LONG))
        predicts, smooths = bits.flag(), bits.flag()
        if bits.flag():
            _skip_usage(bits, sub_layers)
        extended = bits.flag() and bits.bits(8) != 0
        tools = Tools(chroma_format, apart, size, depth, blocks, transforms, lists, unequal, raw, smooths, predicts,
                      extended)  # fmt: skip
        return cls(unit, number, sub_layers, tools, crop, order_bits, buffered, reordered, adapts, sets, long_term,
                   long_sets)  # fmt: skip


def _skip_profile(bits: BitReader, sub_layers: int) -> None:
    """Read over profile, tier and level (7.3.3)."""
    bits.bits(88)
    bits.bits(8)
    present = [(bits.flag(), bits.flag()) for _ in range(sub_layers - 1)]
    if sub_layers > 1:
        bits.bits(2 * (8 - (sub_layers - 1)))
    for profile, level in present:
        bits.bits(88 * profile + 8 * level)


def _skip_reference_sets(bits: BitReader, count: int) -> None:
    """Read over the sets of short-term references (7.3.7)."""
    if count > _MOST_SETS:
        raise NotSpliceableError(Obstacle.UNREADABLE)
    sizes: list[int] = []
    for place in range(count):
        if place and bits.flag():
            bits.flag(), bits.unsigned()
            size = 0
            for _ in range(sizes[-1] + 1):
                used = bits.flag()
                size += used or bits.flag()
        else:
            size = bits.unsigned() + bits.unsigned()
            if size > 2 * _MOST_LONG:
                raise NotSpliceableError(Obstacle.UNREADABLE)
            for _ in range(size):
                bits.unsigned(), bits.flag()
        sizes.append(size)


def _skip_usage(bits: BitReader, sub_layers: int) -> None:
    """Read over the video usability information (E.2.1)."""
    read_appearance(bits)
    if bits.bits(3) & 2:
        raise NotSpliceableError(Obstacle.INTERLACED)
    if bits.flag():
        for _ in range(4):
            bits.unsigned()
    if bits.flag():
        _skip_timing(bits, sub_layers)
    if bits.flag():
        bits.bits(3)
        for _ in range(5):
            bits.unsigned()


def _skip_timing(bits: BitReader, sub_layers: int) -> None:
    bits.bits(64)
    if bits.flag():
        bits.unsigned()
    if bits.flag():
        _skip_buffering(bits, sub_layers)


def _skip_buffering(bits: BitReader, sub_layers: int) -> None:
    """Read over the parameters of the hypothetical decoder (E.2.2)."""
    nal, vcl = bits.flag(), bits.flag()
    by_parts = False
    if nal or vcl:
        by_parts = bits.flag()
        if by_parts:
            bits.bits(19)
        bits.bits(8)
        if by_parts:
            bits.bits(4)
        bits.bits(15)
    for _ in range(sub_layers):
        fixed = bits.flag()
        within = True if fixed else bits.flag()
        low_delay, count = False, 1
        if within:
            bits.unsigned()
        else:
            low_delay = bits.flag()
        if not low_delay:
            count = bits.unsigned() + 1
        for _ in range((nal + vcl) * min(count, 32)):
            bits.unsigned(), bits.unsigned()
            if by_parts:
                bits.unsigned(), bits.unsigned()
            bits.flag()


class PictureSet(Struct, frozen=True):
    """A picture parameter set, as far as the headers of slices need it."""

    unit: bytes
    number: int
    sequence_set: int
    """The number of the sequence set it goes with."""
    dependent_slices: bool
    output_told: bool
    extra_bits: int
    cabac_told: bool
    references: int
    """By default in list 0."""
    chroma_told: bool
    """pps_slice_chroma_qp_offsets_present_flag."""
    weighted: bool
    in_parts: bool
    """Tiles or wavefronts: their entry points stand in headers."""
    across_slices: bool
    deblocking_told: bool
    deblocking_off: bool
    lists_told: bool
    extended_headers: bool
    rest_at: int
    """The first bit after the two numbers."""

    @classmethod
    def read(cls, unit: bytes) -> PictureSet:
        """Raises NotSpliceableError for what cannot be read."""
        bits = BitReader(unescaped(unit[HEADER_BYTES:]))
        number, sequence_set = bits.unsigned(), bits.unsigned()
        rest_at = bits.place
        dependent, output_told, extra = bits.flag(), bits.flag(), bits.bits(3)
        _, cabac_told = bits.flag(), bits.flag()
        references, _ = bits.unsigned() + 1, bits.unsigned()
        bits.signed(), bits.flag(), bits.flag()
        if bits.flag():
            bits.unsigned()
        bits.signed(), bits.signed()
        chroma_told, weighted, _, _ = bits.flag(), bits.flag(), bits.flag(), bits.flag()
        tiles, wavefronts = bits.flag(), bits.flag()
        if tiles:
            _skip_tiles(bits)
        across, told, off = bits.flag(), False, False
        if bits.flag():
            told, off = bits.flag(), bits.flag()
            if not off:
                bits.signed(), bits.signed()
        if bits.flag():
            raise NotSpliceableError(Obstacle.LISTS)
        lists_told, _, extended = bits.flag(), bits.unsigned(), bits.flag()
        return cls(unit, number, sequence_set, dependent, output_told, extra, cabac_told, references, chroma_told,
                   weighted, tiles or wavefronts, across, told, off, lists_told, extended, rest_at)  # fmt: skip

    def under(self, number: int, sequence: SequenceSet) -> PictureSet:
        """The same set under another number, for another sequence set."""
        bits = BitReader(unescaped(self.unit[HEADER_BYTES:]))
        written = BitWriter()
        written.unsigned(number)
        written.unsigned(sequence.number)
        written.bits(bits.stop_bit - self.rest_at, bits.slice(self.rest_at, bits.stop_bit))
        return PictureSet.read(self.unit[:HEADER_BYTES] + escaped(written.end()))


def _skip_tiles(bits: BitReader) -> None:
    columns, rows = bits.unsigned(), bits.unsigned()
    if columns > _MOST_SETS or rows > _MOST_SETS:
        raise NotSpliceableError(Obstacle.UNREADABLE)
    if not bits.flag():
        for _ in range(columns + rows):
            bits.unsigned()
    bits.flag()
