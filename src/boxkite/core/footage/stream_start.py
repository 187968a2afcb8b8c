"""What may stand at the beginning of a stream alone, and is needed wherever decoding begins.

* The header of a sequence (ISO/IEC 11172-2, 2.4.2.3; 13818-2, 6.2.2). The codec library keeps it for its own decoders.
* The note of an encoder. x264 before version 151 coded 4:4:4 pictures with 8x8 transforms otherwise than ITU-T H.264
  has it, and the codec library decodes them by the version in that note, once it has seen it.
"""

from __future__ import annotations

import contextlib
from typing import NamedTuple

import av
from av.container import InputContainer
from av.video.stream import VideoStream

from boxkite.core.footage.bitstream.nal_units import header_of
from boxkite.core.footage.bitstream.obstacles import NotSpliceableError

_SEQUENCES = ("mpeg1video", "mpeg2video")
_SEQUENCE_BEGINS = b"\x00\x00\x01\xb3"
_IN_PROFILE = "4:4:4"
"""In the name of each profile with such pictures (ITU-T H.264, A.2)."""
_MESSAGE = 6
"""A unit of supplemental enhancement information (ITU-T H.264, table 7-1)."""
_SAID = b"x264 - core "


class StreamStart(NamedTuple):
    """What goes before the first packet of a part of a stream."""

    content: bytes
    mark: bytes
    """Stands in a packet that has it already."""


def may_need_note(stream: VideoStream) -> bool:
    """Whether a stream may be decoded by what its encoder says of itself."""
    context = stream.codec_context
    return context.codec.canonical_name == "h264" and _IN_PROFILE in (context.profile or "")


def show_note(container: InputContainer, stream: VideoStream) -> None:
    """Let a decoder see the note of a source that was just opened, if there may be one; seek before going on."""
    if not may_need_note(stream):
        return
    with contextlib.suppress(av.error.FFmpegError):
        first = next((packet for packet in container.demux(stream) if packet.size), None)
        if first:
            first.decode()


def stream_start(container: InputContainer, stream: VideoStream) -> StreamStart | None:
    """What a part of a source has to begin with, where that was just opened; None where that is nothing."""
    context = stream.codec_context
    header = bytes(context.extradata or b"")
    if context.codec.canonical_name in _SEQUENCES and header.startswith(_SEQUENCE_BEGINS):
        return StreamStart(header, _SEQUENCE_BEGINS)
    if not may_need_note(stream):
        return None
    first = next((bytes(packet) for packet in container.demux(stream) if packet.size), b"")
    with contextlib.suppress(NotSpliceableError):
        framing = header_of("h264", header).framing
        notes = [unit for unit in framing.units(first) if unit[0] & 31 == _MESSAGE and _SAID in unit]
        return StreamStart(framing.packed(notes), _SAID) if notes else None
    return None
