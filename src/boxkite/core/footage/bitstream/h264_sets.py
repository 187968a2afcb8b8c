"""The parameter sets of an H.264 stream (ITU-T H.264, 7.3.2.1, 7.3.2.2 and Annex E)."""

from __future__ import annotations

from msgspec import Struct

from boxkite.core.footage.bitstream.bits import BitReader, BitWriter
from boxkite.core.footage.bitstream.nal_units import escaped, unescaped
from boxkite.core.footage.bitstream.obstacles import NotSpliceableError, Obstacle
from boxkite.core.footage.bitstream.shared import Appearance, read_appearance

_WITH_CHROMA_FORMAT = frozenset({100, 110, 122, 244, 44, 83, 86, 118, 128, 138, 139, 134, 135})
_FRAME_BUFFER_MACROBLOCKS = {
    9: 396, 10: 396, 11: 900, 12: 2376, 13: 2376, 20: 2376, 21: 4752, 22: 8100, 30: 8100, 31: 18000, 32: 20480,
    40: 32768, 41: 32768, 42: 34816, 50: 110400, 51: 184320, 52: 184320, 60: 696320, 61: 696320, 62: 696320,
}  # fmt: skip
"""MaxDpbMbs by level_idc (table A-1)."""
MOST_FRAMES = 16
_FLAT_LISTS, _FLAT_LISTS_444 = (6, 2), (6, 6)


class SequenceSet(Struct, frozen=True):
    """A sequence parameter set."""

    unit: bytes
    """As it is stored."""
    number: int
    profile: int
    """profile_idc."""
    constraints: int
    """The byte of constraint_set flags."""
    level: int
    chroma_format: int
    planes_apart: bool
    depth_bits: tuple[int, int]
    """Of luma and chroma."""
    lossless_allowed: bool
    """qpprime_y_zero_transform_bypass_flag."""
    has_scaling_lists: bool
    frame_number_bits: int
    order_type: int
    order_bits: int
    most_references: int
    gaps_allowed: bool
    size_macroblocks: tuple[int, int]
    frames_only: bool
    crop: tuple[int, int, int, int]
    """Left, right, top, bottom, in crop units."""
    reorder_depth: int | None
    """max_num_reorder_frames; None without a bitstream restriction."""
    buffer_frames: int
    """max_dec_frame_buffering, else as many as the level holds (A.3.1, h)."""
    usage_at: int
    """The bit of vui_parameters_present_flag."""
    restriction_at: int
    """The bit of bitstream_restriction_flag; 0 without usability information."""

    @classmethod
    def read(cls, unit: bytes) -> SequenceSet:
        """Raises NotSpliceableError for what cannot be read."""
        bits = BitReader(unescaped(unit[1:]))
        profile, constraints, level, number = bits.bits(8), bits.bits(8), bits.bits(8), bits.unsigned()
        chroma_format, apart, depth, lossless, lists = 1, False, (8, 8), False, False
        if profile in _WITH_CHROMA_FORMAT:
            chroma_format = bits.unsigned()
            apart = chroma_format == 3 and bits.flag()
            depth = (8 + bits.unsigned(), 8 + bits.unsigned())
            lossless, lists = bits.flag(), bits.flag()
            if lists:
                for place in range(8 if chroma_format != 3 else 12):
                    if bits.flag():
                        _skip_list(bits, 16 if place < 6 else 64)
        frame_number_bits = bits.unsigned() + 4
        order_type = bits.unsigned()
        order_bits = bits.unsigned() + 4 if order_type == 0 else 0
        if order_type == 1:
            bits.flag(), bits.signed(), bits.signed()
            for _ in range(bits.unsigned()):
                bits.signed()
        references, gaps = bits.unsigned(), bits.flag()
        width, height, frames_only = bits.unsigned() + 1, bits.unsigned() + 1, bits.flag()
        if not frames_only:
            bits.flag()
        bits.flag()
        crop = (0, 0, 0, 0)
        if bits.flag():
            crop = (bits.unsigned(), bits.unsigned(), bits.unsigned(), bits.unsigned())
        usage_at = bits.place
        restriction_at, depth_of_order, buffered = 0, None, None
        if bits.flag():
            _skip_usage(bits)
            restriction_at = bits.place
            if bits.flag():
                bits.flag()
                for _ in range(4):
                    bits.unsigned()
                depth_of_order, buffered = bits.unsigned(), bits.unsigned()
        high = height if frames_only else 2 * height
        held = _FRAME_BUFFER_MACROBLOCKS.get(9 if level == 11 and constraints & 16 else level)
        if held is None or not 0 < width * high <= 1 << 20:
            raise NotSpliceableError(Obstacle.UNREADABLE)
        by_level = min(MOST_FRAMES, held // (width * high))
        return cls(
            unit, number, profile, constraints, level, chroma_format, apart, depth, lossless, lists,
            frame_number_bits, order_type, order_bits, references, gaps, (width, high), frames_only, crop,
            depth_of_order, max(by_level, references, 1) if buffered is None else buffered, usage_at, restriction_at,
        )  # fmt: skip

    @property
    def appearance(self) -> Appearance:
        """How its pictures are to be shown. Raises NotSpliceableError."""
        bits = BitReader(unescaped(self.unit[1:]))
        bits.place = self.usage_at
        return read_appearance(bits) if bits.flag() else Appearance()

    @property
    def size_px(self) -> tuple[int, int]:
        """Width and height of its pictures, of frames only, once they are cropped (7.4.2.1.1)."""
        across = 2 if self.chroma_format in (1, 2) and not self.planes_apart else 1
        down = 2 if self.chroma_format == 1 and not self.planes_apart else 1
        left, right, top, bottom = self.crop
        width, height = (16 * macroblocks for macroblocks in self.size_macroblocks)
        return width - across * (left + right), height - down * (top + bottom)

    def with_reorder_depth(self, depth: int) -> SequenceSet:
        """The same set with a bitstream restriction (E.1.1) that says by how many frames pictures are reordered."""
        bits = BitReader(unescaped(self.unit[1:]))
        written = BitWriter()
        written.bits(self.usage_at, bits.slice(0, self.usage_at))
        written.bits(1, 1)
        if self.restriction_at:
            kept = self.restriction_at - self.usage_at - 1
            written.bits(kept, bits.slice(self.usage_at + 1, self.restriction_at))
        else:
            written.bits(
                8, 0
            )  # no shape, overscan, signal, chroma place, timing, buffering (twice), structure
        written.bits(2, 3)  # there is a restriction; vectors may point beyond the picture
        for value in (0, 0, 16, 16, depth, max(depth, self.buffer_frames)):
            written.unsigned(value)
        return SequenceSet.read(self.unit[:1] + escaped(written.end()))


def _skip_list(bits: BitReader, size: int) -> None:
    """Read over a scaling list (7.3.2.1.1.1)."""
    last, following = 8, 8
    for _ in range(size):
        if following:
            following = (last + bits.signed()) % 256
        last = following or last


def _skip_usage(bits: BitReader) -> None:
    """Read over the video usability information up to the bitstream restriction (E.1.1)."""
    read_appearance(bits)
    if bits.flag():
        bits.bits(65)
    buffered = False
    for _ in range(2):
        if bits.flag():
            buffered = True
            count = bits.unsigned() + 1
            bits.bits(8)
            for _ in range(min(count, 32)):
                bits.unsigned(), bits.unsigned(), bits.flag()
            bits.bits(20)
    if buffered:
        bits.flag()
    bits.flag()


class PictureSet(Struct, frozen=True):
    """A picture parameter set."""

    unit: bytes
    number: int
    sequence_set: int
    """The number of the sequence set it goes with."""
    arithmetic: bool
    """entropy_coding_mode_flag: CABAC, not CAVLC."""
    tells_bottom_order: bool
    """bottom_field_pic_order_in_frame_present_flag."""
    slice_groups: int
    references: tuple[int, int]
    """By default in lists 0 and 1."""
    weighted: bool
    """Of P pictures."""
    weighted_both: int
    """Of B pictures: weighted_bipred_idc."""
    quantiser: int
    """That slices begin from: 26 + pic_init_qp_minus26."""
    deblocking_told: bool
    redundant_told: bool
    chroma_offset: int
    rest_at: int
    """The first bit after the two numbers."""
    extension_at: int
    """The first bit after redundant_pic_cnt_present_flag."""
    transform_8x8: bool

    @classmethod
    def read(cls, unit: bytes) -> PictureSet:
        """Raises NotSpliceableError for what cannot be read. Scaling lists at its end are passed over."""
        bits = BitReader(unescaped(unit[1:]))
        number, sequence_set = bits.unsigned(), bits.unsigned()
        rest_at = bits.place
        arithmetic, bottom, groups = bits.flag(), bits.flag(), bits.unsigned() + 1
        if groups > 1:
            raise NotSpliceableError(Obstacle.SLICES)
        references = (bits.unsigned() + 1, bits.unsigned() + 1)
        weighted, both = bits.flag(), bits.bits(2)
        quantiser, _, chroma_offset = 26 + bits.signed(), bits.signed(), bits.signed()
        deblocking, _, redundant = bits.flag(), bits.flag(), bits.flag()
        extension_at = bits.place
        transform = bits.flag() if extension_at < bits.stop_bit else False
        return cls(
            unit, number, sequence_set, arithmetic, bottom, groups, references, weighted, both, quantiser,
            deblocking, redundant, chroma_offset, rest_at, extension_at, transform,
        )  # fmt: skip

    def under(self, number: int, sequence: SequenceSet) -> PictureSet:
        """The same set under another number, for another sequence set; with flat lists where that one scales."""
        bits = BitReader(unescaped(self.unit[1:]))
        written = BitWriter()
        written.unsigned(number)
        written.unsigned(sequence.number)
        if not sequence.has_scaling_lists:
            written.bits(bits.stop_bit - self.rest_at, bits.slice(self.rest_at, bits.stop_bit))
            return PictureSet.read(self.unit[:1] + escaped(written.end()))
        second_offset = self.chroma_offset
        if self.extension_at < bits.stop_bit:
            bits.place = self.extension_at + 1
            if bits.flag():
                raise NotSpliceableError(Obstacle.ENCODER)
            second_offset = bits.signed()
        written.bits(self.extension_at - self.rest_at, bits.slice(self.rest_at, self.extension_at))
        written.bits(1, self.transform_8x8)
        written.bits(1, 1)
        small, large = _FLAT_LISTS_444 if sequence.chroma_format == 3 else _FLAT_LISTS
        for size, count in ((16, small), (64, large if self.transform_8x8 else 0)):
            for _ in range(count):
                written.bits(1, 1)
                written.signed(8)  # from 8, which a list begins with, to 16, which changes nothing
                written.bits(size - 1, (1 << (size - 1)) - 1)  # no further change: se(0) is one bit
        written.signed(second_offset)
        return PictureSet.read(self.unit[:1] + escaped(written.end()))
