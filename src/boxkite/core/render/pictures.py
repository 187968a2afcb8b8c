"""Decoding exactly the frames of a span, whatever the keyframes."""

from __future__ import annotations

from collections.abc import Iterator

import av
from av.container import InputContainer
from av.packet import Packet
from av.video.frame import VideoFrame
from av.video.stream import VideoStream

from boxkite.core.errors import DamagedError
from boxkite.core.footage.frames import FrameTable
from boxkite.core.footage.opening import open_source, picture_stream
from boxkite.core.footage.source import Source
from boxkite.core.timebase import Span

_LOOK_BACK_SECONDS = (0, 1, 4, 16, 64)
"""How far before the wanted frame to look for a keyframe that is shown no later than it."""


def read_pictures(
    source: Source, table: FrameTable, span: Span, *, threads: int = 0
) -> Iterator[tuple[int, VideoFrame]]:
    """Yield (frame number, picture) for every frame of the span, once each and in order.

    On variable-rate sources the same picture may come for several numbers. threads: of the decoder, 0 for
    one a core. Raises DamagedError when a frame inside the span is missing or cannot be decoded whole.
    """
    with open_source(source) as container:
        stream = picture_stream(container)
        if stream is None:
            raise DamagedError("its picture has gone", path=source.path)
        stream.codec_context.thread_count = threads
        stream.thread_type = "AUTO"
        packets = _packets_from(container, stream, source, table, span.start)
        pictures = _decode(packets, table, span)
        yield from _fill_span(pictures, table, span)


def _packets_from(
    container: InputContainer, stream: VideoStream, source: Source, table: FrameTable, frame: int
) -> Iterator[Packet[VideoStream]]:
    """Packets from a keyframe shown at or before the frame; from the start of the file if none is found."""
    wanted = table.pts_of(frame)
    seekable = table.timestamped and frame > 0 and not source.sequence
    for seconds in _LOOK_BACK_SECONDS if seekable else ():
        target = wanted - round(seconds / table.time_base)
        if target <= table.first_pts:
            break
        try:
            container.seek(target, stream=stream)
        except av.error.FFmpegError:
            break
        packets = container.demux(stream)
        key = next((packet for packet in packets if packet.is_keyframe and packet.pts is not None), None)
        if key is not None and key.pts is not None and key.pts <= wanted:
            yield key
            yield from packets
            return
    with open_source(source) as fresh:
        again = picture_stream(fresh)
        assert again is not None
        again.codec_context.thread_count = stream.codec_context.thread_count
        again.thread_type = "AUTO"
        if source.sequence and frame > 0:
            # Images are found by number: ask for the first one wanted instead of reading up to it.
            fresh.seek(frame, stream=again)
        yield from fresh.demux(again)


def _decode(
    packets: Iterator[Packet[VideoStream]], table: FrameTable, span: Span
) -> Iterator[tuple[int, VideoFrame]]:
    """Decoded pictures with the frame at which each is shown; stops soon after the span."""
    counted = 0
    for packet in packets:
        try:
            frames = packet.decode()
        except av.error.FFmpegError as error:
            if isinstance(error, av.error.EOFError):
                return
            frame = table.frame_at(packet.pts) if packet.pts is not None else counted
            raise DamagedError(
                f"the picture is damaged near frame {max(frame, 0)} ({error.strerror})"
            ) from None
        for picture in frames:
            timed = table.timestamped and picture.pts is not None
            number = table.frame_at(picture.pts) if timed and picture.pts is not None else counted
            counted = number + 1
            if picture.is_corrupt and span.start <= number < span.end:
                raise DamagedError(f"the picture of frame {number} is damaged")
            yield number, picture
            if number >= span.end:
                return


def _fill_span(
    pictures: Iterator[tuple[int, VideoFrame]], table: FrameTable, span: Span
) -> Iterator[tuple[int, VideoFrame]]:
    """Every number of the span with its picture; on variable-rate sources the last one shown is held."""
    wanted = span.start
    held: VideoFrame | None = None
    for number, picture in pictures:
        if table.constant:
            if number < wanted:
                continue
            if number > wanted:
                raise DamagedError(f"frame {wanted} cannot be decoded: the next picture is frame {number}")
            yield wanted, picture
            wanted += 1
        else:
            while held is not None and wanted < min(number, span.end):
                yield wanted, held
                wanted += 1
            held = picture
        if wanted >= span.end:
            return
    while not table.constant and held is not None and wanted < span.end:
        yield wanted, held
        wanted += 1
    if wanted < span.end:
        raise DamagedError(f"the picture ends at frame {wanted}, {span.end - wanted} frames before it should")
