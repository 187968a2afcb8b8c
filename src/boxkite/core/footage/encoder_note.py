"""The note in which an encoder says its version: in the first packet of a stream alone, yet decoders need it.

x264 before version 151 coded 4:4:4 pictures with 8x8 transforms otherwise than ITU-T H.264 has it. The codec library
decodes them by that note, so it has to be shown to a decoder that begins elsewhere, and to be copied with any part.
"""

from __future__ import annotations

import contextlib

import av
from av.container import InputContainer
from av.video.stream import VideoStream

from boxkite.core.footage.bitstream.nal_units import header_of
from boxkite.core.footage.bitstream.obstacles import NotSpliceableError

_IN_PROFILE = "4:4:4"
"""In the name of each profile with such pictures (ITU-T H.264, A.2)."""
_MESSAGE = 6
"""A unit of supplemental enhancement information (ITU-T H.264, table 7-1)."""
_SAID = b"x264 - core "


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


def note_to_copy(container: InputContainer, stream: VideoStream) -> bytes:
    """The note of a source that was just opened, as it goes before a packet; empty where there is none."""
    if not may_need_note(stream):
        return b""
    first = next((bytes(packet) for packet in container.demux(stream) if packet.size), b"")
    with contextlib.suppress(NotSpliceableError):
        framing = header_of("h264", bytes(stream.codec_context.extradata or b"")).framing
        notes = [unit for unit in framing.units(first) if unit[0] & 31 == _MESSAGE and _SAID in unit]
        return framing.packed(notes)
    return b""
