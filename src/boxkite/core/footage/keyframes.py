"""Where a source can be cut without re-encoding: the order its frames are stored in, and its keyframes."""

from __future__ import annotations

from dataclasses import dataclass

import av
import numpy as np
from av.stream import Discard

from boxkite.core.errors import FootageError
from boxkite.core.files.document import with_arrays
from boxkite.core.footage.cache import memory
from boxkite.core.footage.frame_index import FrameIndex
from boxkite.core.footage.opening import open_source, video_stream
from boxkite.core.footage.source import Source
from boxkite.core.timebase import Span

with_arrays()


@dataclass(frozen=True)
class StoredFrames:
    """The coded frames of a source as they are stored: presentation times in ticks, and which are keyframes."""

    times: np.ndarray
    keys: np.ndarray

    def copied_span(self, table: FrameIndex, wanted: Span) -> Span | None:
        """The least span around the wanted one that can be copied; None where there is no keyframe to begin at.

        It begins at a keyframe, and ends where no picture shown before the end is stored after it.
        """
        found = self.places(table, wanted)
        if found is None:
            return None
        first, last = found
        start = table.frame_at(int(self.times[first]))
        rest = self.times[last + 1 :]
        end = table.frame_at(int(rest.min())) if len(rest) else table.frame_count
        return Span(start, min(end, table.frame_count))

    def places(self, table: FrameIndex, wanted: Span) -> tuple[int, int] | None:
        """The first and last stored frame of that span, by place in the order of storing."""
        half = max(1, round(1 / table.rate.fraction / table.time_base / 2))
        begin, end = table.pts_of(wanted.start) + half, table.pts_of(wanted.end) - half
        usable = np.flatnonzero(self.keys & (self.times < begin))
        if not len(usable):
            return None
        first = int(usable[np.argmax(self.times[usable])])
        shown = np.where(self.times[first:] >= self.times[first], self.times[first:], self.times[first])
        latest = np.maximum.accumulate(shown)
        after = np.append(np.minimum.accumulate(self.times[first:][::-1])[::-1][1:], np.iinfo(np.int64).max)
        closed = np.flatnonzero((latest < after) & (after > end))
        return first, first + int(closed[0])


def stored_frames(source: Source) -> StoredFrames:
    """Read every packet of a source's frame, once; decodes nothing. Raises FootageError."""
    with memory() as known:
        found = known.recall("pictures", source.path, StoredFrames)
        if found is None:
            found = _read(source)
            known.keep("pictures", source.path, found)
    return found


def _read(source: Source) -> StoredFrames:
    times, keys = [], []
    try:
        with open_source(source) as container:
            stream = video_stream(container)
            if stream is None:
                raise FootageError("there is no longer a picture in it", path=source.path)
            entries = stream.index_entries
            if (
                len(entries)
                and len(entries) == stream.frames
                and all(entry.is_keyframe and not entry.is_discard for entry in entries)
            ):  # keyframes alone are shown in the order they are stored, all as much later as the first
                first = next((packet for packet in container.demux(stream) if packet.size), None)
                if first is not None and first.pts is not None:
                    stored = np.array([entry.timestamp for entry in entries], dtype=np.int64)
                    return StoredFrames(stored + (first.pts - stored[0]), np.ones(len(stored), dtype=bool))
                container.seek(0)
            for other in container.streams:
                if other.index != stream.index:
                    other.discard = Discard.all
            for packet in container.demux(stream):
                if packet.size and packet.pts is not None:
                    times.append(packet.pts)
                    keys.append(packet.is_keyframe)
    except av.error.FFmpegError as error:
        raise FootageError("its packets cannot be read", path=source.path) from error
    return StoredFrames(np.array(times, dtype=np.int64), np.array(keys, dtype=bool))
