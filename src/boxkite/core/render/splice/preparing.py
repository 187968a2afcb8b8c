"""A cut made ready: its edges encoded, the header of its file, and what decoding it again must show."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np
from av.video.frame import VideoFrame

from boxkite.core.footage.bitstream.h264_pictures import CodedPicture, PictureReader
from boxkite.core.footage.bitstream.h264_sets import SequenceSet
from boxkite.core.footage.bitstream.nal_units import AvcHeader
from boxkite.core.footage.bitstream.obstacles import NotSpliceableError, Obstacle
from boxkite.core.render.splice.edges import Edge, Edging, decoded, decoder, encode_edge, fingerprint
from boxkite.core.render.splice.output_order import reorder_depth
from boxkite.core.render.splice.source_pictures import SourcePictures

AFTER_JOIN = 12
"""Frames of the body behind its first join that are decoded again and compared."""
_PAIRS = ((0, 1), (2, 3))
"""Numbers for IDR pictures of edges: the pair that a neighbour is not in."""


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
    fingerprints: dict[int, int]
    """Of the frames around the joins, by the time they are shown, in ticks of the source."""


def prepare(pictures: SourcePictures, threads: int) -> Prepared:
    """Encode the edges of a cut. Raises NotSpliceableError with the reason to encode all of the shot."""
    cut, header, reader = pictures.cut, pictures.header, pictures.reader()
    body_first, body_end = cut.body
    first = _first_of(pictures, reader, body_first)
    sequence = reader.sequence
    ranks = np.argsort(np.argsort(pictures.stored.times, kind="stable"))
    depth = sequence.reorder_depth
    if depth is None:
        depth = reorder_depth([int(rank) for rank in ranks])
        if not first.has_sets:
            sequence = sequence.with_reorder_depth(depth)
            header = replace(header, sequence_sets=(sequence.unit,))
    arithmetic = reader.picture_sets[first.header.picture_set].arithmetic
    number = reader.free_number
    joins: dict[int, int] = {}

    def encoded(frames: Iterator[tuple[int, VideoFrame]], neighbour: int) -> Edge:
        pair = next(one for one in _PAIRS if neighbour not in one)
        return encode_edge(frames, header, sequence, Edging(arithmetic, number, pair[0], threads))

    head = tail = Edge()
    if len(cut.head):
        wanted = set(pictures.times(cut.head))
        shown = _decoded(pictures, header, cut.head_from, body_first - 1, threads)
        head = encoded((one for one in shown if one[0] in wanted), first.header.idr_number)
        _check_times(head, pictures.times(cut.head))
        last = min(body_end - 1, body_first + AFTER_JOIN + depth)
        body = set(pictures.times(np.arange(body_first, last + 1)))
        for time, frame in _decoded(pictures, header, body_first, last, threads):
            if time in body:
                joins[time] = fingerprint(frame)
        known = sorted(joins)[:AFTER_JOIN]
        joins = {time: joins[time] for time in known}
    if len(cut.tail):
        wanted_tail = set(pictures.times(cut.tail))
        body = set(pictures.times(np.arange(cut.tail_from, body_end)))
        entry = _first_of(pictures, reader, cut.tail_from)

        def to_encode() -> Iterator[tuple[int, VideoFrame]]:
            last = int(cut.tail.max())
            for time, frame in _decoded(pictures, header, cut.tail_from, last, threads):
                if time in body:
                    joins[time] = fingerprint(frame)
                elif time in wanted_tail:
                    yield time, frame

        tail = encoded(to_encode(), entry.header.idr_number)
        _check_times(tail, pictures.times(cut.tail))
    for edge in (head, tail):
        joins.update(zip(edge.times, edge.fingerprints, strict=True))
    added = next((edge.picture_set for edge in (head, tail) if edge.picture_set), None)
    if added:
        header = replace(header, picture_sets=(*header.picture_sets, added.unit))
    if head.picture_set and tail.picture_set and head.picture_set != tail.picture_set:
        raise NotSpliceableError(Obstacle.ENCODER)
    return Prepared(pictures, header, sequence, depth, head, tail, joins)


def _first_of(pictures: SourcePictures, reader: PictureReader, place: int) -> CodedPicture:
    (_, packet), *_ = pictures.packets(place, place)
    picture = reader.read(packet)
    if not picture.header.is_idr:
        raise NotSpliceableError(Obstacle.NO_KEYFRAME)
    return picture


def _decoded(
    pictures: SourcePictures, header: AvcHeader, first: int, last: int, threads: int
) -> Iterator[tuple[int, VideoFrame]]:
    """(time, frame) of the pictures stored from one place to another."""
    times = pictures.stored.times
    packets = ((int(times[place]), packet) for place, packet in pictures.packets(first, last))
    yield from decoded(decoder(header, threads), packets)


def _check_times(edge: Edge, wanted: list[int]) -> None:
    if edge.times != wanted:
        raise NotSpliceableError(Obstacle.UNREADABLE)
