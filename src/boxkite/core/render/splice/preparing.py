"""A cut made ready: its edges encoded, the header of its file, and what decoding it again must show."""

from __future__ import annotations

from collections.abc import Container, Iterable, Iterator

import numpy as np
from av.video.frame import VideoFrame
from msgspec import Struct

from boxkite.core.footage.bitstream import h264_pictures, h265_pictures
from boxkite.core.footage.bitstream.nal_units import StreamHeader
from boxkite.core.footage.bitstream.obstacles import NotSpliceableError, Obstacle
from boxkite.core.footage.bitstream.pictures import CodedPicture, PictureReader
from boxkite.core.render.splice.coding import EdgeCoding
from boxkite.core.render.splice.edges import Edge, decoded, decoder, encode_edge, fingerprint
from boxkite.core.render.splice.h264 import H264Coding
from boxkite.core.render.splice.h265 import H265Coding
from boxkite.core.render.splice.source_pictures import SourcePictures

_BESIDE_JOIN = 6
"""Frames of the body beside each join that are decoded again and compared."""


class Prepared(Struct, frozen=True):
    """A cut whose edges are encoded."""

    pictures: SourcePictures
    coding: EdgeCoding
    header: StreamHeader
    """Of the file."""
    head: Edge
    tail: Edge
    after_head: dict[int, int]
    """Fingerprints of the frames of the body after the head, by the time they are shown, in ticks of the source."""
    before_tail: dict[int, int]
    """The same before the tail."""


def prepare(pictures: SourcePictures, threads: int) -> Prepared:
    """Encode the edges of a cut. Raises NotSpliceableError with the reason to encode all of the shot."""
    reader = pictures.reader()
    first = _entry(pictures, reader, pictures.cut.body[0])
    coding = coding_of(reader, first, pictures.stored.times)
    head, after_head = _head(pictures, first, coding, threads)
    tail, before_tail = _tail(pictures, reader, coding, threads)
    sets = {edge.picture_set for edge in (head, tail) if edge.picture_set}
    if len(sets) > 1:
        raise NotSpliceableError(Obstacle.ENCODER)
    return Prepared(
        pictures, coding, coding.header.with_picture_sets(sets), head, tail, after_head, before_tail
    )


def coding_of(reader: PictureReader, first: CodedPicture, times: np.ndarray) -> EdgeCoding:
    """How the edges of a stream are coded. first: the picture the body begins at; times: of all, as stored."""
    if isinstance(reader, h264_pictures.PictureReader) and isinstance(first, h264_pictures.CodedPicture):
        return H264Coding.of(reader, first, times)
    assert isinstance(reader, h265_pictures.PictureReader)
    return H265Coding.of(reader)


def _head(
    pictures: SourcePictures, first: CodedPicture, coding: EdgeCoding, threads: int
) -> tuple[Edge, dict[int, int]]:
    """The edge before the body, and the fingerprints of the frames after it."""
    cut = pictures.cut
    if not len(cut.head):
        return Edge(), {}
    wanted = pictures.times(cut.head)
    frames = _decoded(pictures, coding.header, (cut.head_from, cut.body[0] - 1), set(wanted), threads)
    edge = encode_edge(frames, coding.header, coding, first, threads)
    by_time = np.arange(*cut.body)[np.argsort(pictures.stored.times[slice(*cut.body)])][:_BESIDE_JOIN]
    beside = set(pictures.times(by_time))
    again = _decoded(pictures, coding.header, (cut.body[0], int(by_time.max())), beside, threads)
    return _with_times(edge, wanted), {time: fingerprint(frame) for time, frame in again}


def _tail(
    pictures: SourcePictures, reader: PictureReader, coding: EdgeCoding, threads: int
) -> tuple[Edge, dict[int, int]]:
    """The edge after the body, and the fingerprints of the frames before it."""
    cut = pictures.cut
    if not len(cut.tail):
        return Edge(), {}
    wanted = pictures.times(cut.tail)
    beside = set(sorted(pictures.times(np.arange(cut.tail_from, cut.body[1])))[-_BESIDE_JOIN:])
    found: dict[int, int] = {}

    def to_encode() -> Iterator[tuple[int, VideoFrame]]:
        places = (cut.tail_from, int(cut.tail.max()))
        for time, frame in _decoded(pictures, coding.header, places, beside | set(wanted), threads):
            if time in beside:
                found[time] = fingerprint(frame)
            else:
                yield time, frame

    entry = _entry(pictures, reader, cut.tail_from)
    edge = encode_edge(to_encode(), coding.header, coding, entry, threads)
    return _with_times(edge, wanted), found


def _entry(pictures: SourcePictures, reader: PictureReader, place: int) -> CodedPicture:
    (_, packet), *_ = pictures.packets(place, place)
    picture = reader.read(packet)
    if not picture.is_idr:
        raise NotSpliceableError(Obstacle.NO_KEYFRAME)
    return picture


def _decoded(
    pictures: SourcePictures, header: StreamHeader, places: tuple[int, int], wanted: set[int], threads: int
) -> Iterator[tuple[int, VideoFrame]]:
    """(time, frame) of the wanted pictures among those stored from one place to another."""
    packets = ((int(pictures.stored.times[place]), packet) for place, packet in pictures.packets(*places))
    needed = needed_for(wanted, packets, header)
    yield from (one for one in decoded(decoder(header, threads), needed) if one[0] in wanted)


def needed_for(
    wanted: Container[int], packets: Iterable[tuple[int, bytes]], header: StreamHeader
) -> Iterator[tuple[int, bytes]]:
    """Those of packets, given with their times, that wanted pictures are decoded from: no other leads to them."""
    for time, packet in packets:
        if time in wanted or header.is_needed(packet):
            yield time, packet


def _with_times(edge: Edge, wanted: list[int]) -> Edge:
    if edge.times != wanted:
        raise NotSpliceableError(Obstacle.UNREADABLE)
    return edge
