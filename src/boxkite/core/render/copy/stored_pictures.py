"""The stored pictures of a planned piece, by the times of their packets, and the way to the first of them."""

from __future__ import annotations

from fractions import Fraction
from typing import Any

import av
import numpy as np
from av.container import InputContainer
from av.packet import Packet
from av.video.stream import VideoStream
from msgspec import Struct

from boxkite.core.errors import DamagedError
from boxkite.core.footage.keyframes import stored_frames
from boxkite.core.footage.measuring import distinct
from boxkite.core.footage.opening import TIMED_BY_READING
from boxkite.core.footage.seeking import LOOK_BACK_SECONDS
from boxkite.core.footage.stream_start import StreamStart, stream_start
from boxkite.core.plan.rows import Row
from boxkite.core.render.copy.checking import rewind


class StoredPictures(Struct):
    """The stored frames of a piece: the times of their packets, where they begin and end in the source's own time."""

    waiting: set[int]
    """The times of packets that are still to come."""
    first_time: int
    """Of the packet to seek to."""
    shown: int
    """Frames that no edit list hides."""
    begin: Fraction
    """The first frame that is shown, in seconds."""
    end: Fraction | None
    """None where the piece goes up to the source's end."""
    hidden_from: Fraction | None
    """Where the frames at its end begin that an edit list hides, in seconds after the first that is shown."""
    start: StreamStart | None
    """Goes before the first of them."""

    def take(self, packet: Packet[Any]) -> Packet[Any] | None:
        """The packet to write for one of the source, which is not waited for any longer; None where none is."""
        time = packet.pts if packet.pts is not None else packet.dts
        if time is None or time not in self.waiting:
            return None
        self.waiting.discard(time)
        start, self.start = self.start, None
        content = bytes(packet) if start else b""
        if start is None or start.mark in content:
            return packet
        first: Packet[Any] = Packet(start.content + content)
        first.pts, first.dts, first.duration = packet.pts, packet.dts, packet.duration
        first.is_keyframe = packet.is_keyframe
        if packet.time_base:
            first.time_base = packet.time_base
        return first

    @classmethod
    def of(cls, row: Row, incoming: InputContainer, stream: VideoStream) -> StoredPictures:
        """Those of a copied row, whose source was just opened. Raises DamagedError where they cannot be told."""
        base = stream.time_base or 1 / row.rate.fraction
        stored = stored_frames(row.shot.footage.source)
        places = stored.places(row.shot.footage.frame_index, row.span)
        if places is None:
            raise DamagedError("there is no keyframe to begin at")
        part = slice(places[0], places[1] + 1)
        wanted, hidden = stored.written[part], stored.hidden[part]
        if len(distinct(wanted)) < len(wanted):
            raise DamagedError("two of its frames carry the same time, so it cannot be copied")
        kept = wanted >= wanted[0]
        shown = wanted[kept & ~hidden]
        if not len(shown):
            raise DamagedError("an edit list hides all frames of it")
        rest = stored.written[places[1] + 1 :]
        first, last = int(shown.min()), int(shown.max())
        late, early = wanted[hidden & (wanted > last)], wanted[hidden & (wanted < first)]
        if len(late) + len(early) < np.count_nonzero(hidden):
            raise DamagedError("an edit list hides frames in the middle of it")
        return cls(
            {int(time) for time in wanted[kept]},
            int(wanted[0]),
            len(shown),
            first * base,
            int(rest.min()) * base if len(rest) else None,
            (int(late.min()) - first) * base if len(late) else None,
            stream_start(incoming, stream) if places[0] else None,
        )


def go_to_first(incoming: InputContainer, stream: VideoStream, first_time: int, *, was_read: bool) -> None:
    """Go to where no picture of a piece has been passed. was_read: whether the source may be beyond its beginning."""
    if first_time * (stream.time_base or 1) > 0:
        seek_before(incoming, stream, first_time)
    elif was_read:
        rewind(incoming)


def seek_before(incoming: InputContainer, stream: VideoStream, first_time: int) -> None:
    """The same for a time after the beginning; some containers seek by other times than they show."""
    for seconds in () if incoming.format.name == TIMED_BY_READING else LOOK_BACK_SECONDS:
        target = first_time - round(seconds / (stream.time_base or Fraction(1)))
        try:
            incoming.seek(target, stream=stream)
            is_before = _comes(incoming, stream, first_time)
            incoming.seek(target, stream=stream)
        except av.error.FFmpegError:
            continue
        if is_before:
            return
    rewind(incoming)


def _comes(incoming: InputContainer, stream: VideoStream, first_time: int) -> bool:
    """Whether the keyframe of a time is still to come; pictures that are shown before it may be stored after it."""
    for packet in incoming.demux(stream):
        time = packet.pts if packet.pts is not None else packet.dts
        if time == first_time:
            return packet.is_keyframe
        if packet.is_keyframe and packet.size and time is not None and time > first_time:
            return False
    return False
