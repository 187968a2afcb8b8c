"""Streams that are stored in another order than they are shown in, and files whose times do not tell that order.

Some programs write the time of decoding as the time of showing, and AVI has no other. Then the n-th frame out of the
decoder is shown at the n-th time, and how many there are is found by decoding all of them once.
"""

from __future__ import annotations

from collections.abc import Iterator

import av
from av.container import InputContainer
from av.packet import Packet
from av.video.frame import VideoFrame
from av.video.stream import VideoStream

_REORDERING_CODECS = frozenset(
    {"h264", "hevc", "vvc", "mpeg4", "mpeg1video", "mpeg2video", "vc1", "wmv3", "cavs"}
)
_ONE_THREAD = frozenset({"theora"})
"""Decoders whose threads read frames that others have not finished: a busy machine decoded 10 of 40 times otherwise."""
_TRIED_PACKETS = 48
"""More than the deepest reordering of H.264 and H.265 (16 frames), three times."""
_SMALLEST_FRAME_BYTES = 6
"""Of a packet of H.264 or H.265: a length of four bytes, a header, and something coded."""


def prepare_decoder(stream: VideoStream) -> None:
    """Set up a decoder, after its threads were chosen, so that it gives out every frame, and the same one each time.

    It waits for as many frames as the stream may reorder, where its header does not say how many: else the library
    guesses from what it has seen and drops frames that come later than guessed (H.264 without a bitstream restriction;
    ITU-T H.264, E.2.1: then as many as the buffer of the level holds).
    """
    if stream.codec_context.name in _ONE_THREAD:
        stream.codec_context.thread_count = 1
    if stream.codec_context.name == "h264":
        stream.codec_context.options = {**stream.codec_context.options, "strict": "1"}


def holds_frame(packet_bytes: int, codec: str) -> bool:
    """Whether a packet is large enough for a frame: some end with a marker alone, some repeat with an empty packet."""
    return packet_bytes >= (_SMALLEST_FRAME_BYTES if codec in ("h264", "hevc") else 1)


def is_empty_repeat(packet: Packet[VideoStream]) -> bool:
    """Whether a packet says that the frame before it stays; no packet but the last has neither bytes nor a time."""
    return not packet.size and (packet.pts is not None or packet.dts is not None)


def may_reorder(stream: VideoStream) -> bool:
    """Whether frames of a stream may be shown in another order than they are stored in."""
    return stream.codec_context.name in _REORDERING_CODECS and bool(stream.codec_context.has_b_frames)


def shows_out_of_order(container: InputContainer, stream: VideoStream) -> bool:
    """Whether the decoder gives out frames whose stored times go back. Decodes the beginning; seek before going on."""
    prepare_decoder(stream)
    latest: int | None = None
    for frame in _decoded(container, stream, _TRIED_PACKETS):
        if frame.pts is None:
            continue
        if latest is not None and frame.pts < latest:
            return True
        latest = frame.pts
    return False


def shows_without_times(container: InputContainer, stream: VideoStream) -> bool:
    """Whether the decoder gives out frames that have no time. Decodes the beginning; seek before going on."""
    prepare_decoder(stream)
    return any(frame.pts is None for frame in _decoded(container, stream, _TRIED_PACKETS))


def count_frames(container: InputContainer, stream: VideoStream) -> int:
    """How many frames the decoder gives out for a whole stream; what is damaged is passed over."""
    prepare_decoder(stream)
    stream.thread_type = "AUTO"
    return sum(1 for _ in _decoded(container, stream, None))


def display_order(container: InputContainer, stream: VideoStream) -> list[int]:
    """The stored times of all frames in the order the decoder gives them out."""
    prepare_decoder(stream)
    stream.thread_type = "AUTO"
    return [frame.pts for frame in _decoded(container, stream, None) if frame.pts is not None]


def _decoded(container: InputContainer, stream: VideoStream, packets: int | None) -> Iterator[VideoFrame]:
    for place, packet in enumerate(container.demux(stream)):
        if is_empty_repeat(packet):
            continue
        try:
            yield from packet.decode()
        except av.error.FFmpegError:
            continue
        if packets is not None and place >= packets:
            return
