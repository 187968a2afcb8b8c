"""The edges of a cut: decoded from where decoding can begin, and encoded to stand in the source's own stream."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

import av
import numpy as np
import xxhash
from av.packet import Packet
from av.video.codeccontext import VideoCodecContext
from av.video.frame import VideoFrame
from av.video.plane import VideoPlane
from msgspec import Struct, field

from boxkite.core.footage.bitstream.nal_units import Framing, StreamHeader, header_of
from boxkite.core.footage.bitstream.obstacles import NotSpliceableError, Obstacle
from boxkite.core.footage.bitstream.pictures import CodedPicture
from boxkite.core.render.splice.coding import TICK, EdgeCoding

_BYTE, _BLOCKS = 8, 32
_MOST_DIFFERENCE = 3.0
"""Mean difference, in 8-bit steps, of the blocks of an encoded frame."""


def decoder(header: StreamHeader, threads: int) -> VideoCodecContext:
    """A decoder for a stream's packets that gives out every frame."""
    context = av.CodecContext.create(header.codec, "r")
    assert isinstance(context, VideoCodecContext)
    context.extradata = header.written()
    context.options = {"strict": "1"} if header.codec == "h264" else {}
    context.thread_type, context.thread_count = "FRAME", threads
    return context


def decoded(
    context: VideoCodecContext, packets: Iterable[tuple[int, bytes]]
) -> Iterator[tuple[int, VideoFrame]]:
    """(time, frame) of packets given with their times, in the order they are shown. Raises NotSpliceableError."""
    try:
        for time, data in packets:
            packet = Packet(data)
            packet.pts = time
            yield from ((frame.pts or 0, frame) for frame in context.decode(packet))
        yield from ((frame.pts or 0, frame) for frame in context.decode(None))
    except av.error.FFmpegError as error:
        raise NotSpliceableError(Obstacle.UNREADABLE) from error


def fingerprint(frame: VideoFrame) -> int:
    """A checksum of the samples that are shown."""
    checksum = xxhash.xxh3_64()
    for plane in frame.planes:
        checksum.update(np.ascontiguousarray(_rows(frame, plane)).data)
    return checksum.intdigest()


def _rows(frame: VideoFrame, plane: VideoPlane) -> np.ndarray:
    """The bytes of a plane's shown samples, row by row."""
    sample_bytes = (frame.format.components[0].bits + 7) // 8
    rows = np.frombuffer(memoryview(plane), np.uint8).reshape(plane.height, plane.line_size)
    return rows[:, : plane.width * sample_bytes]


def _look(frame: VideoFrame) -> np.ndarray:
    """The mean lightness of blocks of a frame, from every eighth row, as 8-bit steps."""
    bits = frame.format.components[0].bits
    rows = _rows(frame, frame.planes[0])[::8]
    samples = (rows if bits == _BYTE else np.ascontiguousarray(rows).view(np.uint16)).astype(np.float32)
    width = samples.shape[1] // _BLOCKS or 1
    blocks: np.ndarray = samples[:, : width * _BLOCKS].reshape(len(samples), -1, width).mean(axis=2)
    return blocks / float(1 << (bits - _BYTE))


class Edge(Struct):
    """Encoded frames of one edge."""

    times: list[int] = field(default_factory=list)
    """When each is shown, in ticks of the source; stored in the same order."""
    packets: list[bytes] = field(default_factory=list)
    """As they stand in the source's stream."""
    fingerprints: list[int] = field(default_factory=list)
    """Of the frames as the encoder's own stream, decoded, shows them."""
    picture_set: bytes = b""
    """The unit that is added to the stream's header for them; empty without frames."""


def encode_edge(
    frames: Iterable[tuple[int, VideoFrame]],
    source: StreamHeader,
    coding: EdgeCoding,
    neighbour: CodedPicture,
    threads: int,
) -> Edge:
    """Encode frames, given with their times, so that a decoder reads them under a source's sequence set.

    neighbour: an IDR picture that may stand beside them. Raises NotSpliceableError where the encoder cannot, or what it
    makes differs.
    """
    edge, own = Edge(), _OwnStream(source)
    context: VideoCodecContext | None = None
    for number, (time, decoded_frame) in enumerate(frames):
        edge.times.append(time)
        frame = coding.to_encode(decoded_frame)
        own.looks.append(_look(frame))
        frame.pts, frame.time_base = number, TICK
        frame.pict_type = 0
        try:
            if context is None:
                context = coding.encoder(frame, threads)
                context.open(strict=False)
            for packet in context.encode(frame):
                own.take(bytes(packet))
        except (av.error.FFmpegError, ValueError) as error:
            raise NotSpliceableError(Obstacle.PROFILE) from error
    if context is None:
        return edge
    try:
        for packet in context.encode(None):
            own.take(bytes(packet))
    except av.error.FFmpegError as error:
        raise NotSpliceableError(Obstacle.ENCODER) from error
    if len(own.packets) != len(edge.times):
        raise NotSpliceableError(Obstacle.ENCODER)
    header = header_of(source.codec, bytes(context.extradata or b""))
    edge.picture_set, pictures = coding.placed(header, own.packets, neighbour)
    if not source.framing.length_bytes or neighbour.has_sets:  # decoders drop others where a set comes again
        pictures[0] = [*source.sets, edge.picture_set, *pictures[0]]
    edge.packets = [source.framing.packed(units) for units in pictures]
    edge.fingerprints = own.fingerprints(header, threads)
    return edge


class _OwnStream:
    """What the encoder wrote, before it is changed."""

    def __init__(self, like: StreamHeader) -> None:
        self._like = like
        self.packets: list[list[bytes]] = []
        self.looks: list[np.ndarray] = []

    def take(self, packet: bytes) -> None:
        units = [unit for unit in Framing(0).units(packet) if self._like.is_slice(unit)]
        if not units:
            raise NotSpliceableError(Obstacle.ENCODER)
        self.packets.append(units)

    def fingerprints(self, header: StreamHeader, threads: int) -> list[int]:
        """Of all frames decoded again, which must look as they did before they were encoded."""
        packets = ((number, header.framing.packed(units)) for number, units in enumerate(self.packets))
        found = []
        for number, (time, frame) in enumerate(decoded(decoder(header, threads), packets)):
            if time != number or float(np.abs(_look(frame) - self.looks[number]).mean()) > _MOST_DIFFERENCE:
                raise NotSpliceableError(Obstacle.ENCODER)
            found.append(fingerprint(frame))
        if len(found) != len(self.packets):
            raise NotSpliceableError(Obstacle.ENCODER)
        return found
