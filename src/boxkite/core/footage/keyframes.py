"""Where a source can be cut without re-encoding: the order its frames are stored in, and its keyframes."""

from __future__ import annotations

from fractions import Fraction
from math import ceil

import av
import numpy as np
from av.container import InputContainer
from av.stream import Discard
from av.video.stream import VideoStream
from msgspec import Struct

from boxkite.core.errors import FootageError
from boxkite.core.files.document import with_arrays
from boxkite.core.footage.bitstream.obstacles import Obstacle
from boxkite.core.footage.bitstream.starts import Entries
from boxkite.core.footage.cache import memory
from boxkite.core.footage.frame_index import FrameIndex
from boxkite.core.footage.kinds import BARE_STREAMS
from boxkite.core.footage.measuring import is_out_of_order, presentation_times, tells_no_order
from boxkite.core.footage.opening import open_source, video_stream
from boxkite.core.footage.reordering import display_order, holds_frame, may_reorder
from boxkite.core.footage.source import Source
from boxkite.core.timebase import Span

with_arrays()


class StoredFrames(Struct, frozen=True):
    """The coded frames of a source as they are stored."""

    times: np.ndarray
    """When each is shown, in ticks."""
    keys: np.ndarray
    """Which are keyframes."""
    hidden: np.ndarray
    """Which an edit list hides: others may need them to be decoded."""
    written: np.ndarray
    """The time that the packet carries; another one where a file stores the times of decoding."""
    starts: np.ndarray
    """Which a decoder can begin at, so that nothing stored later needs what was stored before it (IDR pictures)."""
    obstacle: str = ""
    """Why shots of it cannot be cut at other frames without encoding them whole; empty where they can."""

    def copied_span(self, table: FrameIndex, wanted: Span) -> Span | None:
        """The least span around the wanted one that can be copied; None where there is no keyframe to begin at.

        It begins at a keyframe, and ends where no picture shown before the end is stored after it.
        """
        found = self.places(table, wanted)
        if found is None:
            return None
        first, last = found
        shown = self.times[first : last + 1][~self.hidden[first : last + 1]]
        start = table.frame_at(int(max(self.times[first], shown.min(initial=np.iinfo(np.int64).max))))
        rest = self.times[last + 1 :][~self.hidden[last + 1 :]]
        end = table.frame_at(int(rest.min())) if len(rest) else table.frame_count
        return Span(start, min(end, table.frame_count))

    def copies_exactly(self, table: FrameIndex, wanted: Span) -> bool:
        """Whether a copy of a span holds just its frames."""
        return self.copied_span(table, wanted) == wanted

    def places(self, table: FrameIndex, wanted: Span) -> tuple[int, int] | None:
        """The first and last stored frame of that span, by place in the order of storing."""
        ticks, half = 1 / table.rate.fraction / table.time_base, Fraction(1, 2)
        begin, end = (
            table.first_pts + ceil(edge * ticks) for edge in (wanted.start + half, wanted.end - half)
        )  # what is stored from then on begins nearer to the next frame
        usable = np.flatnonzero(self.keys & (self.times < begin))
        if not len(usable):
            return None
        first = int(usable[np.argmax(self.times[usable])])
        shown = np.where(self.times[first:] >= self.times[first], self.times[first:], self.times[first])
        latest = np.maximum.accumulate(shown)
        after = np.append(np.minimum.accumulate(self.times[first:][::-1])[::-1][1:], np.iinfo(np.int64).max)
        closed = np.flatnonzero((latest < after) & (after >= end))
        return first, first + int(closed[0])


def stored_frames(source: Source) -> StoredFrames:
    """Read every packet of a source's frame, once; decodes nothing. Raises FootageError."""
    with memory() as known:
        found = known.recall("stored", source.path, StoredFrames)
        if found is None:
            found = _read(source)
            known.keep("stored", source.path, found)
    return found


def _read(source: Source) -> StoredFrames:
    packets: list[tuple[int, int | None, bool, bool, bool]] = []
    try:
        with open_source(source) as container:
            stream = video_stream(container)
            if stream is None:
                raise FootageError("there is no longer a picture in it", path=source.path)
            if found := _keyframes_alone(container, stream):
                return found
            for other in container.streams:
                if other.index != stream.index:
                    other.discard = Discard.all
            codec = stream.codec_context.name
            entries = Entries.of(stream.codec_context, source.container)
            packets = [
                (packet.pts, packet.dts, packet.is_keyframe and entries.is_whole(packet), packet.is_discard,
                 packet.is_keyframe and entries.begins(packet))
                for packet in container.demux(stream)
                if holds_frame(packet.size, codec) and packet.pts is not None
            ]  # fmt: skip
            times = [packet[:2] for packet in packets]
            is_avi = source.container == "avi" and may_reorder(stream)
            untold = is_avi or tells_no_order(stream, times)
            shown = presentation_times(stream, times)
            if source.container in BARE_STREAMS and source.video and stream.time_base:
                ticks = 1 / source.video.rate.fraction / stream.time_base
                shown = np.array([round(rank * ticks) for rank in np.argsort(np.argsort(shown)).tolist()])
    except av.error.FFmpegError as error:
        raise FootageError("its packets cannot be read", path=source.path) from error
    written = np.array([packet[0] for packet in packets], dtype=np.int64)
    keys, hidden, starts = (
        np.array([packet[place] for packet in packets], dtype=bool) for place in (2, 3, 4)
    )
    if not untold or not (is_avi or is_out_of_order(source)):
        obstacle = entries.obstacle or (Obstacle.HIDDEN if hidden.any() else None)
        return StoredFrames(shown, keys, hidden, written, starts, str(obstacle or ""))
    return _in_display_order(source, written, keys, hidden)


def _keyframes_alone(container: InputContainer, stream: VideoStream) -> StoredFrames | None:
    """Keyframes alone are shown in the order they are stored, all as much later as the first; None for others."""
    entries = stream.index_entries
    if not len(entries) or len(entries) != stream.frames:
        return None
    if not all(entry.is_keyframe and not entry.is_discard for entry in entries):
        return None
    first = next((packet for packet in container.demux(stream) if packet.size), None)
    if first is not None and first.pts is not None:
        stored = np.array([entry.timestamp for entry in entries], dtype=np.int64)
        stored += first.pts - stored[0]
        keys = np.ones(len(stored), dtype=bool)
        return StoredFrames(stored, keys, ~keys, stored, keys)
    container.seek(0)
    return None


def _in_display_order(
    source: Source, written: np.ndarray, keys: np.ndarray, hidden: np.ndarray
) -> StoredFrames:
    """The frames of a file that stores the times of decoding: the n-th shown is shown at the n-th time.

    A packet that the decoder makes nothing of is left out.
    """
    with open_source(source) as container:
        stream = video_stream(container)
        assert stream and source.video
        order = display_order(container, stream)
        base = stream.time_base or 1 / source.video.rate.fraction
    ranks = {time: rank for rank, time in enumerate(order)}
    used = np.array([int(time) in ranks for time in written], dtype=bool)
    written = written[used]
    in_order = np.sort(written)
    if source.container == "avi":  # of which the index of frames only counts
        frames = [round(rank / source.video.rate.fraction / base) for rank in range(len(order))]
        in_order = np.array(frames, dtype=np.int64)
    times = np.array([in_order[ranks[int(time)]] for time in written], dtype=np.int64)
    return StoredFrames(
        times, keys[used], hidden[used], written, np.zeros_like(used[used]), str(Obstacle.COUNTED)
    )
