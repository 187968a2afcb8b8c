"""Cutting at any frame: which frames of a shot are encoded, and which are copied between them."""

from __future__ import annotations

import numpy as np
from msgspec import Struct

from boxkite.core.footage.bitstream.obstacles import NotSpliceableError, Obstacle
from boxkite.core.footage.frame_index import FrameIndex
from boxkite.core.footage.keyframes import StoredFrames
from boxkite.core.footage.splice import Splice
from boxkite.core.timebase import Span


class Cut(Struct, frozen=True):
    """A shot by the places of its frames in the order of storing."""

    times: np.ndarray
    """When its frames are shown, in ticks of the source, in that order."""
    head: np.ndarray
    """Places of the frames encoded before the body, in the order they are shown."""
    body: tuple[int, int]
    """The first place of the body and the one after its last."""
    tail: np.ndarray
    """Places of the frames encoded after it, in the order they are shown."""
    head_from: int
    """The place to begin decoding the head at."""
    tail_from: int
    """The same for the tail; a place within the body."""

    @property
    def splice(self) -> Splice:
        """How many frames there are of each."""
        return Splice(len(self.head), self.body[1] - self.body[0], len(self.tail))


def cut(times: np.ndarray, starts: np.ndarray, begin: int, end: int) -> Cut:
    """The frames shown from begin up to, not including, end. Raises NotSpliceableError with the reason.

    times: when each frame is shown, in ticks, in the order of storing; starts: which a decoder can begin at.
    """
    wanted = (times >= begin) & (times < end)
    own = np.sort(times[wanted])
    if not len(own) or (np.diff(own) == 0).any():
        raise NotSpliceableError(Obstacle.TIMES)
    entries = np.flatnonzero(starts & wanted)
    if not len(entries):
        raise NotSpliceableError(Obstacle.NO_KEYFRAME)
    first = int(entries[np.argmin(times[entries])])
    after = times[first:]
    beyond = np.flatnonzero(after >= end)
    run = after[: beyond[0]] if len(beyond) else after
    ranks = np.searchsorted(own, run)
    if (ranks < ranks[0]).any():
        raise NotSpliceableError(Obstacle.LEADING)
    closed = np.flatnonzero(np.maximum.accumulate(ranks) - ranks[0] == np.arange(len(run)))
    count = int(closed[-1]) + 1
    by_time = np.flatnonzero(wanted)[np.argsort(times[wanted], kind="stable")]
    head = by_time[: ranks[0]]
    tail = by_time[ranks[0] + count :]
    if (head >= first).any():
        raise NotSpliceableError(Obstacle.LEADING)
    if (tail < first + count).any():
        raise NotSpliceableError(Obstacle.NO_DECODING_START)
    head_from = first
    if len(head):
        before = np.flatnonzero(starts[: int(head.min()) + 1])
        if not len(before):
            raise NotSpliceableError(Obstacle.NO_DECODING_START)
        head_from = int(before[-1])
    tail_from = int(np.flatnonzero(starts[: first + count])[-1])
    return Cut(own, head, (first, first + count), tail, head_from, tail_from)


def cut_shot(stored: StoredFrames, index: FrameIndex, wanted: Span) -> Cut:
    """The cut of a shot. Raises NotSpliceableError with the reason for which all of it has to be encoded."""
    if stored.obstacle:
        raise NotSpliceableError(Obstacle(stored.obstacle))
    if not index.constant:
        raise NotSpliceableError(Obstacle.RATE)
    if not index.timestamped:
        raise NotSpliceableError(Obstacle.TIMES)
    if index.by_decoding:
        raise NotSpliceableError(Obstacle.UNREADABLE)
    half = max(1, round(1 / index.rate.fraction / index.time_base / 2))
    found = cut(
        stored.times, stored.starts, index.pts_of(wanted.start) - half, index.pts_of(wanted.end) - half
    )
    if len(found.times) != wanted.length:
        raise NotSpliceableError(Obstacle.TIMES)
    return found
