"""The edges of a cut: decoded from where decoding can begin, and encoded to stand in the source's own stream."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from fractions import Fraction

import av
import numpy as np
import xxhash
from av.codec.context import Flags
from av.packet import Packet
from av.video.codeccontext import VideoCodecContext
from av.video.frame import VideoFrame
from av.video.plane import VideoPlane

from boxkite.core.footage.bitstream.h264_sets import PictureSet, SequenceSet
from boxkite.core.footage.bitstream.nal_units import AvcHeader, Framing
from boxkite.core.footage.bitstream.obstacles import NotSpliceableError, Obstacle
from boxkite.core.render.splice.rewriting import Encoded, is_slice, rewritten

_TICK = Fraction(1, 1000)
"""Of the encoder's own time; its frames are told by their order."""
_FINER_BY, _FINEST, _COARSEST = 8, 8, 16
"""By how much an edge is quantised finer than its source, and between which limits: it can hardly be told from it."""
_MOST_REFERENCES = 3
_PAIRS = ((0, 1), (2, 3))
"""Numbers for IDR pictures: the pair that a neighbour is not in."""
_FULL = 2
_BYTE, _BLOCKS = 8, 32
_MOST_DIFFERENCE = 3.0
"""Mean difference, in 8-bit steps, of the blocks of an encoded frame."""
_PROFILES = {66: "baseline", 77: "main"}
_PROFILE_BY_FORMAT = {(1, 8): "high", (1, 10): "high10", (2, 8): "high422", (2, 10): "high422", (3, 8): "high444",
                      (3, 10): "high444", (0, 8): "high", (0, 10): "high10"}  # fmt: skip


def decoder(header: AvcHeader, threads: int) -> VideoCodecContext:
    """A decoder for a stream's packets that gives out every frame."""
    context = av.CodecContext.create("h264", "r")
    assert isinstance(context, VideoCodecContext)
    context.extradata = header.written()
    context.options = {"strict": "1"}
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


def _without_colour(frame: VideoFrame) -> VideoFrame:
    """The lightness alone of a frame that the decoder gave grey planes for colour."""
    form = "gray" if frame.format.components[0].bits == 8 else f"gray{frame.format.components[0].bits}le"
    return frame.reformat(format=form, src_color_range=_FULL, dst_color_range=_FULL)


@dataclass
class Edge:
    """Encoded frames of one edge."""

    times: list[int] = field(default_factory=list)
    """When each is shown, in ticks of the source; stored in the same order."""
    packets: list[bytes] = field(default_factory=list)
    """As they stand in the source's stream."""
    fingerprints: list[int] = field(default_factory=list)
    """Of the frames as the encoder's own stream, decoded, shows them."""
    picture_set: PictureSet | None = None


@dataclass(frozen=True)
class Edging:
    """How an edge is encoded."""

    set_number: int
    """A free number for its picture set."""
    quantiser: int
    """Of the source."""
    threads: int


def encode_edge(
    frames: Iterable[tuple[int, VideoFrame]],
    source: AvcHeader,
    sequence: SequenceSet,
    how: Edging,
    neighbour: int,
) -> Edge:
    """Encode frames, given with their times, so that a decoder reads them under a source's sequence set.

    neighbour: the number of an IDR picture that may stand beside them. Raises NotSpliceableError where the encoder
    cannot, or what it makes differs.
    """
    edge, own = Edge(), _OwnStream()
    context: VideoCodecContext | None = None
    for number, (time, decoded_frame) in enumerate(frames):
        edge.times.append(time)
        frame = decoded_frame if sequence.chroma_format else _without_colour(decoded_frame)
        own.looks.append(_look(frame))
        frame.pts, frame.time_base = number, _TICK
        frame.pict_type = 0
        try:
            if context is None:
                context = _encoder(frame, sequence, how)
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
    header = AvcHeader.read(bytes(context.extradata or b""))
    encoder_sequence = SequenceSet.read(header.sequence_sets[0])
    _check_alike(encoder_sequence, sequence)
    sets = [PictureSet.read(unit) for unit in header.picture_sets]
    if len(sets) != 1 or len(own.packets) != len(edge.times):
        raise NotSpliceableError(Obstacle.ENCODER)
    edge.picture_set = sets[0].under(how.set_number, sequence)
    encoded = Encoded(encoder_sequence, {sets[0].number: sets[0]}, sequence, how.set_number)
    idr_number = next(pair[0] for pair in _PAIRS if neighbour not in pair)
    edge.packets = _in_the_source(own.packets, encoded, source, edge.picture_set, idr_number)
    edge.fingerprints = own.fingerprints(header, how.threads)
    return edge


class _OwnStream:
    """What the encoder wrote, before it is changed."""

    def __init__(self) -> None:
        self.packets: list[list[bytes]] = []
        self.looks: list[np.ndarray] = []

    def take(self, packet: bytes) -> None:
        units = [unit for unit in Framing(0).units(packet) if is_slice(unit)]
        if not units:
            raise NotSpliceableError(Obstacle.ENCODER)
        self.packets.append(units)

    def fingerprints(self, header: AvcHeader, threads: int) -> list[int]:
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


def _in_the_source(
    packets: list[list[bytes]], encoded: Encoded, source: AvcHeader, own_set: PictureSet, idr_number: int
) -> list[bytes]:
    """The encoder's pictures as packets of the source's stream; a byte stream gets all sets with the first."""
    found, after_idr = [], 0
    for place, units in enumerate(packets):
        is_idr = units[0][0] & 31 == 5
        if place and is_idr:
            idr_number ^= 1
        after_idr = 0 if is_idr else after_idr + 1
        slices = [rewritten(unit, encoded, after_idr=after_idr, idr_number=idr_number) for unit in units]
        if not place and not source.framing.length_bytes:
            slices = [*source.sequence_sets, *source.picture_sets, own_set.unit, *slices]
        found.append(source.framing.packed(slices))
    return found


def _encoder(frame: VideoFrame, sequence: SequenceSet, how: Edging) -> VideoCodecContext:
    context = av.CodecContext.create("libx264", "w")
    assert isinstance(context, VideoCodecContext)
    profile = _PROFILES.get(sequence.profile)
    if not profile:
        profile = _PROFILE_BY_FORMAT.get((sequence.chroma_format, sequence.depth_bits[0]))
    if profile is None:
        raise NotSpliceableError(Obstacle.PROFILE)
    context.width, context.height, context.pix_fmt = frame.width, frame.height, frame.format.name
    context.time_base, context.framerate = _TICK, 1 / _TICK
    context.flags |= Flags.global_header
    context.thread_count = how.threads
    intra_only = sequence.most_references == 0
    parameters = {
        "bframes": 0,
        "weightp": 0,
        "scenecut": 0,
        "keyint": 1 if intra_only else "infinite",
        "ref": max(1, min(_MOST_REFERENCES, sequence.most_references)),
        "cabac": 0,  # the decoders that check it, and players, are twice as fast with CAVLC
        "sliced-threads": 0,
        "aud": 0,
        "force-cfr": 1,
    }
    lossless = sequence.lossless_allowed
    quality = min(max(how.quantiser - _FINER_BY, _FINEST), _COARSEST)
    context.options = {
        "preset": "ultrafast",  # at so fine a quantiser a slower one gains nothing that could be seen
        "profile": "high444" if lossless else profile,
        **({"qp": "0"} if lossless else {"crf": str(quality)}),
        "x264-params": ":".join(f"{key}={value}" for key, value in parameters.items()),
    }
    return context


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
