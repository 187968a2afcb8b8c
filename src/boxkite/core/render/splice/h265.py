"""The edges of an H.265 stream."""

from __future__ import annotations

from collections.abc import Sequence

from av.video.codeccontext import VideoCodecContext
from av.video.frame import VideoFrame
from msgspec import Struct

from boxkite.core.footage.bitstream.bits import BitReader, BitWriter
from boxkite.core.footage.bitstream.h265_pictures import (
    PICTURE_SET,
    SEQUENCE_SET,
    CodedPicture,
    PictureReader,
)
from boxkite.core.footage.bitstream.h265_sets import HEADER_BYTES, PictureSet, SequenceSet
from boxkite.core.footage.bitstream.h265_slices import read_rest, read_slice
from boxkite.core.footage.bitstream.nal_units import HevcHeader, StreamHeader, escaped, unescaped
from boxkite.core.footage.bitstream.obstacles import NotSpliceableError, Obstacle
from boxkite.core.render.splice.coding import MOST_REFERENCES, encoder_of

_QUALITY = "14"
"""The constant quality at which an encoded frame can hardly be told from its source."""
_GREY = 0


class H265Coding(Struct, frozen=True):
    """How edges are coded to stand in one H.265 stream."""

    header: HevcHeader
    sequence: SequenceSet
    depth: int
    set_number: int
    """A free number for the edges' picture set."""

    @classmethod
    def of(cls, reader: PictureReader) -> H265Coding:
        """How they are for a stream that is read from an IDR picture on."""
        return cls(reader.header, reader.sequence, reader.sequence.reorder_depth, reader.free_number)

    def to_encode(self, frame: VideoFrame) -> VideoFrame:
        """A decoded frame as the encoder takes it."""
        return frame

    def encoder(self, frame: VideoFrame, threads: int) -> VideoCodecContext:
        """An encoder for frames like this one, with the tools of the stream. Raises NotSpliceableError."""
        sequence, tools = self.sequence, self.sequence.tools
        least, above, least_transform, above_transform = tools.block_sizes
        inter, intra = tools.transform_depths
        references = min(MOST_REFERENCES, sequence.buffer_frames - 1)
        parameters = {
            "bframes": 0,
            "weightp": 0,
            "scenecut": 0,
            "keyint": -1 if references else 1,
            "open-gop": 0,
            "ref": max(1, references),
            "ctu": 1 << (least + above),
            "min-cu-size": 1 << least,
            "max-tu-size": 1 << (least_transform + above_transform),
            "tu-inter-depth": inter + 1,
            "tu-intra-depth": intra + 1,
            "rect": int(tools.unequal_parts),
            "amp": int(tools.unequal_parts),
            "strong-intra-smoothing": int(tools.smooths_intra),
            "temporal-mvp": int(tools.predicts_vectors),
            "sao": 0,
            "scaling-list": "off",
            "cutree": 0,
            "rc-lookahead": 0,
            "wpp": 0,
            "pmode": 0,
            "frame-threads": max(1, threads),
            "pools": "none",
            "aud": 0,
            "hrd": 0,
            "info": 0,
            "repeat-headers": 0,
            "annexb": 1,
            "log-level": "none",
        }
        options = {"preset": "ultrafast", "crf": _QUALITY}
        return encoder_of("libx265", frame, threads, options, ("x265-params", parameters))

    def placed(
        self, own: StreamHeader, packets: Sequence[Sequence[bytes]], neighbour: CodedPicture
    ) -> tuple[bytes, list[list[bytes]]]:
        """The picture set to add, and the slices of each picture under the stream's sequence set.

        Raises NotSpliceableError where they cannot be read so.
        """
        assert isinstance(own, HevcHeader)
        sequences = [SequenceSet.read(unit) for unit in own.of_kind(SEQUENCE_SET)]
        sets = [PictureSet.read(unit) for unit in own.of_kind(PICTURE_SET)]
        if len(sequences) != 1 or len(sets) != 1:
            raise NotSpliceableError(Obstacle.ENCODER)
        self._check_alike(sequences[0])
        found: list[list[bytes]] = []
        after_idr = 0
        for units in packets:
            after_idr = 0 if own.is_idr(units[0]) else after_idr + 1
            found.append([self._rewritten(unit, sequences[0], sets[0], after_idr) for unit in units])
        return sets[0].under(self.set_number, self.sequence).unit, found

    def check_order(self, pictures: Sequence[CodedPicture], wanted: Sequence[int]) -> None:
        """Make sure that pictures are shown in the order of the wanted places by the process of C.5.2.

        A picture is given out as soon as more wait than are reordered. Raises NotSpliceableError.
        """
        waiting: list[tuple[int, int]] = []
        shown: list[int] = []
        for place, picture in enumerate(pictures):
            if picture.is_idr:
                shown += [number for _, number in sorted(waiting)]
                waiting.clear()
            waiting.append((picture.order, place))
            while len(waiting) > self.depth:
                waiting.remove(first := min(waiting))
                shown.append(first[1])
        shown += [number for _, number in sorted(waiting)]
        if shown != list(wanted):
            raise NotSpliceableError(Obstacle.ORDER)

    def _check_alike(self, encoder: SequenceSet) -> None:
        """Make sure that the encoder's slices mean the same under the source's set."""
        if encoder.tools != self.sequence.tools:
            raise NotSpliceableError(Obstacle.TOOLS)
        if encoder.buffer_frames > self.sequence.buffer_frames or encoder.reorder_depth:
            raise NotSpliceableError(Obstacle.ENCODER)

    def _rewritten(self, unit: bytes, encoder: SequenceSet, used: PictureSet, after_idr: int) -> bytes:
        """A slice of the encoder's as the source's sequence set reads it (7.3.6.1)."""
        target = self.sequence
        header = read_slice(unit, {used.number: used}, encoder)
        rest = read_rest(unit, header, used, encoder)
        payload = unescaped(unit[HEADER_BYTES:])
        bits, written = BitReader(payload), BitWriter()
        written.bits(header.set_at, bits.slice(0, header.set_at))
        written.unsigned(self.set_number)
        written.unsigned(header.kind)
        if used.output_told:
            written.bits(1, 1)
        if not header.is_idr:
            written.bits(target.order_bits, after_idr % (1 << target.order_bits))
            written.bits(1, 0)
            if target.reference_sets:
                written.bits(1, 0)  # not told by another set
            start, end = rest.references
            written.bits(end - start, bits.slice(start, end))
            if target.long_term:
                if target.long_term_sets:
                    written.unsigned(0)
                written.unsigned(0)
            if target.tools.predicts_vectors:
                written.bits(1, bits.slice(rest.predicts_vectors_at, rest.predicts_vectors_at + 1))
        if target.adapts_samples:
            written.bits(2 if target.tools.chroma_format != _GREY else 1, 0)
        written.bits(rest.end_at - rest.after_samples_at, bits.slice(rest.after_samples_at, rest.end_at))
        written.bits(1, 1)
        data = rest.end_at // 8 + 1
        if bits.slice(rest.end_at, 8 * data) != 1 << (8 * data - rest.end_at - 1):
            raise NotSpliceableError(Obstacle.ENCODER)  # the header ends elsewhere
        return unit[:HEADER_BYTES] + escaped(written.whole() + payload[data:])
