"""Where decoding begins for a frame: packets from a keyframe that is shown no later than it."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import chain

import av
from av.container import InputContainer
from av.packet import Packet
from av.video.stream import VideoStream

from boxkite.core.footage.frame_index import FrameIndex
from boxkite.core.footage.opening import TIMED_BY_READING
from boxkite.core.footage.source import Source
from boxkite.core.footage.stream_start import show_note

LOOK_BACK_SECONDS = (0, 1, 4, 16, 64)
"""How far before the wanted frame to look for a keyframe that is shown no later than it."""
_MOST_HELD = 4_000
"""Packets from a keyframe on, while it is not known whether a later one will do."""


def seek_targets(source: Source, table: FrameIndex, frame: int) -> list[int]:
    """Times to seek to for a frame, nearest first; none where only reading from the start is safe."""
    if frame == 0 or not table.timestamped or table.display_times:
        return []
    if source.sequence:
        return [frame]  # images are found by their number
    wanted = table.pts_of(frame)
    targets = [wanted - round(seconds / table.time_base) for seconds in LOOK_BACK_SECONDS]
    return [target for target in targets if target > table.first_pts]


def packets_from(
    container: InputContainer, stream: VideoStream, table: FrameIndex, frame: int, target: int | None
) -> tuple[Iterator[Packet[VideoStream]], bool] | None:
    """Packets from the first keyframe after a seek, and whether that is the file's first.

    None where that keyframe is shown after the frame.
    """
    if target is None:
        return container.demux(stream), True
    if container.format.name == TIMED_BY_READING:
        return _packets_by_reading(container, stream, table, target)
    show_note(container, stream)
    try:
        container.seek(target, stream=stream)
    except av.error.FFmpegError:
        return None
    packets = container.demux(stream)
    # An empty packet may be marked as a keyframe, though it only repeats the frame before it.
    usable = (packet for packet in packets if packet.is_keyframe and packet.size and packet.pts is not None)
    key = next(usable, None)
    if key is None or key.pts is None or key.pts > table.pts_of(frame):
        return None
    return chain([key], packets), key.pts <= table.first_pts


def _packets_by_reading(
    container: InputContainer, stream: VideoStream, table: FrameIndex, target: int
) -> tuple[Iterator[Packet[VideoStream]], bool] | None:
    """The same without seeking: from the last keyframe that is shown no later than the time to seek to."""
    held: list[Packet[VideoStream]] = []
    packets = container.demux(stream)
    for packet in packets:
        if packet.is_keyframe and packet.size and packet.pts is not None and packet.pts <= target:
            held = [packet]
        elif held:
            held.append(packet)
        if (packet.dts is not None and packet.dts > target) or len(held) > _MOST_HELD:
            break
    if not held or held[0].pts is None:
        return None
    return chain(held, packets), held[0].pts <= table.first_pts
