"""A cut made ready: its edges encoded, the header of its file, and what decoding it again must show."""

from __future__ import annotations

from collections.abc import Container, Iterable, Iterator
from dataclasses import dataclass, replace

import numpy as np
from av.video.frame import VideoFrame

from boxkite.core.footage.bitstream.h264_pictures import CodedPicture, PictureReader
from boxkite.core.footage.bitstream.h264_sets import SequenceSet
from boxkite.core.footage.bitstream.h264_slices import is_reference
from boxkite.core.footage.bitstream.nal_units import AvcHeader, Framing
from boxkite.core.footage.bitstream.obstacles import NotSpliceableError, Obstacle
from boxkite.core.render.splice.edges import Edge, Edging, decoded, decoder, encode_edge, fingerprint
from boxkite.core.render.splice.output_order import reorder_depth
from boxkite.core.render.splice.source_pictures import SourcePictures

_BESIDE_JOIN = 6
"""Frames of the body beside each join that are decoded again and compared."""


@dataclass(frozen=True)
class Prepared:
    """A cut whose edges are encoded."""

    pictures: SourcePictures
    header: AvcHeader
    """Of the file."""
    sequence: SequenceSet
    """Its sequence set."""
    depth: int
    """By how many frames pictures are reordered at most."""
    head: Edge
    tail: Edge
    after_head: dict[int, int]
    """Fingerprints of the frames of the body behind the head, by the time they are shown, in ticks of the source."""
    before_tail: dict[int, int]
    """The same before the tail."""


def prepare(pictures: SourcePictures, threads: int) -> Prepared:
    """Encode the edges of a cut. Raises NotSpliceableError with the reason to encode all of the shot."""
    reader = pictures.reader()
    first = _entry(pictures, reader, pictures.cut.body[0])
    sequence, header, depth = reader.sequence, pictures.header, reader.sequence.reorder_depth
    if depth is None:
        depth = reorder_depth(np.argsort(np.argsort(pictures.stored.times, kind="stable")).tolist())
        if not first.has_sets:
            sequence = sequence.with_reorder_depth(depth)
            header = replace(header, sequence_sets=(sequence.unit,))
    edging = Edging(reader.free_number, first.header.quantiser, threads)
    head, after_head = _head(pictures, first, header, sequence, edging)
    tail, before_tail = _tail(pictures, reader, header, sequence, edging)
    sets = {edge.picture_set.unit for edge in (head, tail) if edge.picture_set}
    if len(sets) > 1:
        raise NotSpliceableError(Obstacle.ENCODER)
    header = replace(header, picture_sets=(*header.picture_sets, *sets))
    return Prepared(pictures, header, sequence, depth, head, tail, after_head, before_tail)


def _head(
    pictures: SourcePictures, first: CodedPicture, header: AvcHeader, sequence: SequenceSet, edging: Edging
) -> tuple[Edge, dict[int, int]]:
    """The edge before the body, and the fingerprints of the frames behind it."""
    cut = pictures.cut
    if not len(cut.head):
        return Edge(), {}
    wanted = pictures.times(cut.head)
    frames = _decoded(pictures, header, cut.head_from, cut.body[0] - 1, set(wanted), edging.threads)
    edge = encode_edge(frames, header, sequence, edging, first.header.idr_number)
    by_time = np.arange(*cut.body)[np.argsort(pictures.stored.times[slice(*cut.body)])][:_BESIDE_JOIN]
    beside = set(pictures.times(by_time))
    again = _decoded(pictures, header, cut.body[0], int(by_time.max()), beside, edging.threads)
    return _with_times(edge, wanted), {time: fingerprint(frame) for time, frame in again}


def _tail(
    pictures: SourcePictures, reader: PictureReader, header: AvcHeader, sequence: SequenceSet, edging: Edging
) -> tuple[Edge, dict[int, int]]:
    """The edge after the body, and the fingerprints of the frames before it."""
    cut = pictures.cut
    if not len(cut.tail):
        return Edge(), {}
    wanted = pictures.times(cut.tail)
    beside = set(sorted(pictures.times(np.arange(cut.tail_from, cut.body[1])))[-_BESIDE_JOIN:])
    found: dict[int, int] = {}

    def to_encode() -> Iterator[tuple[int, VideoFrame]]:
        both = beside | set(wanted)
        for time, frame in _decoded(
            pictures, header, cut.tail_from, int(cut.tail.max()), both, edging.threads
        ):
            if time in beside:
                found[time] = fingerprint(frame)
            else:
                yield time, frame

    entry = _entry(pictures, reader, cut.tail_from)
    edge = encode_edge(to_encode(), header, sequence, edging, entry.header.idr_number)
    return _with_times(edge, wanted), found


def _entry(pictures: SourcePictures, reader: PictureReader, place: int) -> CodedPicture:
    (_, packet), *_ = pictures.packets(place, place)
    picture = reader.read(packet)
    if not picture.header.is_idr:
        raise NotSpliceableError(Obstacle.NO_KEYFRAME)
    return picture


def _decoded(
    pictures: SourcePictures, header: AvcHeader, first: int, last: int, wanted: set[int], threads: int
) -> Iterator[tuple[int, VideoFrame]]:
    """(time, frame) of the wanted pictures among those stored from one place to another."""
    packets = ((int(pictures.stored.times[place]), packet) for place, packet in pictures.packets(first, last))
    needed = needed_for(wanted, packets, header.framing)
    yield from (one for one in decoded(decoder(header, threads), needed) if one[0] in wanted)


def needed_for(
    wanted: Container[int], packets: Iterable[tuple[int, bytes]], framing: Framing
) -> Iterator[tuple[int, bytes]]:
    """Those of packets, given with their times, that wanted pictures are decoded from: no other leads to them."""
    for time, packet in packets:
        if time in wanted or is_reference(framing.units(packet)):
            yield time, packet


def _with_times(edge: Edge, wanted: list[int]) -> Edge:
    if edge.times != wanted:
        raise NotSpliceableError(Obstacle.UNREADABLE)
    return edge
