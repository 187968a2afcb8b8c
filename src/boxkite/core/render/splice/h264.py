"""The edges of an H.264 stream."""

from __future__ import annotations

import itertools
from collections.abc import Sequence

import numpy as np
from av.video.codeccontext import VideoCodecContext
from av.video.frame import VideoFrame
from msgspec import Struct
from msgspec.structs import replace

from boxkite.core.footage.bitstream.h264_pictures import CodedPicture, PictureReader
from boxkite.core.footage.bitstream.h264_sets import PictureSet, SequenceSet
from boxkite.core.footage.bitstream.nal_units import AvcHeader, StreamHeader
from boxkite.core.footage.bitstream.obstacles import NotSpliceableError, Obstacle
from boxkite.core.render.splice.coding import MOST_REFERENCES, encoder_of
from boxkite.core.render.splice.h264_order import reorder_depth, shown_order
from boxkite.core.render.splice.h264_slices import Encoded, rewritten

_FINER_BY, _FINEST, _COARSEST = 8, 8, 16
"""By how much an edge is quantised finer than its source, and between which limits: it can hardly be told from it."""
_PAIRS = ((0, 1), (2, 3))
"""Numbers for IDR pictures: the pair that a neighbour is not in."""
_FULL = 2
_PROFILES = {66: "baseline", 77: "main"}
_PROFILE_BY_FORMAT = {(1, 8): "high", (1, 10): "high10", (2, 8): "high422", (2, 10): "high422", (3, 8): "high444",
                      (3, 10): "high444", (0, 8): "high", (0, 10): "high10"}  # fmt: skip


class H264Coding(Struct, frozen=True):
    """How edges are coded to stand in one H.264 stream."""

    header: AvcHeader
    sequence: SequenceSet
    depth: int
    set_number: int
    """A free number for the edges' picture set."""
    quantiser: int
    """Of the source."""

    @classmethod
    def of(cls, reader: PictureReader, first: CodedPicture, times: np.ndarray) -> H264Coding:
        """first: the picture the body begins at; times: when all pictures of the source are shown, as stored."""
        sequence, header, depth = reader.sequence, reader.header, reader.sequence.reorder_depth
        if depth is None:
            depth = reorder_depth(np.argsort(np.argsort(times, kind="stable")).tolist())
            if not first.has_sets:
                sequence = sequence.with_reorder_depth(depth)
                header = replace(header, sequence_sets=(sequence.unit,))
        return cls(header, sequence, depth, reader.free_number, first.header.quantiser)

    def to_encode(self, frame: VideoFrame) -> VideoFrame:
        """A decoded frame as the encoder takes it: without colour, where the stream has none and decoders add it."""
        if self.sequence.chroma_format:
            return frame
        bits = frame.format.components[0].bits
        form = "gray" if bits == self.sequence.depth_bits[0] == 8 else f"gray{bits}le"
        return frame.reformat(format=form, src_color_range=_FULL, dst_color_range=_FULL)

    def encoder(self, frame: VideoFrame, threads: int) -> VideoCodecContext:
        """An encoder for frames like this one. Raises NotSpliceableError where there is none."""
        sequence = self.sequence
        by_format = _PROFILE_BY_FORMAT.get((sequence.chroma_format, sequence.depth_bits[0]))
        profile = _PROFILES.get(sequence.profile, by_format)
        if profile is None:
            raise NotSpliceableError(Obstacle.PROFILE)
        parameters = {
            "bframes": 0,
            "weightp": 0,
            "scenecut": 0,
            "keyint": "infinite" if sequence.most_references else 1,
            "ref": max(1, min(MOST_REFERENCES, sequence.most_references)),
            "cabac": 0,  # the decoders that check it, and players, are twice as fast with CAVLC
            "sliced-threads": 0,
            "aud": 0,
            "force-cfr": 1,
        }
        lossless = sequence.lossless_allowed
        quality = min(max(self.quantiser - _FINER_BY, _FINEST), _COARSEST)
        options = {
            "preset": "ultrafast",  # at so fine a quantiser a slower one gains nothing that could be seen
            "profile": "high444" if lossless else profile,
            **({"qp": "0"} if lossless else {"crf": str(quality)}),
        }
        return encoder_of("libx264", frame, threads, options, ("x264-params", parameters))

    def placed(
        self, own: StreamHeader, packets: Sequence[Sequence[bytes]], neighbour: CodedPicture
    ) -> tuple[bytes, list[list[bytes]]]:
        """The picture set to add, and the slices of each picture under the stream's sequence set.

        Raises NotSpliceableError where they cannot be read so.
        """
        assert isinstance(own, AvcHeader)
        sequence = SequenceSet.read(own.sequence_sets[0])
        _check_alike(sequence, self.sequence)
        sets = [PictureSet.read(unit) for unit in own.picture_sets]
        if len(sets) != 1:
            raise NotSpliceableError(Obstacle.ENCODER)
        encoded = Encoded(sequence, {sets[0].number: sets[0]}, self.sequence, self.set_number)
        idr_number = next(pair[0] for pair in _PAIRS if neighbour.header.idr_number not in pair)
        found: list[list[bytes]] = []
        after_idr = 0
        for units in packets:
            if own.is_idr(units[0]):
                idr_number, after_idr = idr_number ^ bool(found), 0
            else:
                after_idr += 1
            found.append(
                [rewritten(unit, encoded, after_idr=after_idr, idr_number=idr_number) for unit in units]
            )
        return sets[0].under(self.set_number, self.sequence).unit, found

    def check_order(self, pictures: Sequence[CodedPicture], wanted: Sequence[int]) -> None:
        """Make sure that pictures, in the order of storing, are shown in that of the wanted places.

        Raises NotSpliceableError: also where neighbouring IDR pictures carry the same number.
        """
        for one, following in itertools.pairwise(pictures):
            if one.is_idr and following.is_idr and one.header.idr_number == following.header.idr_number:
                raise NotSpliceableError(Obstacle.NEIGHBOURS)
        if shown_order(pictures, self.sequence) != wanted:
            raise NotSpliceableError(Obstacle.ORDER)


def _check_alike(encoder: SequenceSet, source: SequenceSet) -> None:
    """Make sure that the encoder's slices mean the same under the source's set."""
    alike = (
        encoder.size_macroblocks == source.size_macroblocks
        and encoder.chroma_format == source.chroma_format
        and encoder.depth_bits == source.depth_bits
        and encoder.lossless_allowed == source.lossless_allowed
        and encoder.most_references <= max(1, source.most_references)
        and encoder.frames_only
        and not encoder.has_scaling_lists
    )
    if not alike:
        raise NotSpliceableError(Obstacle.ENCODER)
