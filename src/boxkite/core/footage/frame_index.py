"""The map from the frames of a source to its presentation times, measured once before anything is cut."""

from __future__ import annotations

import math
from fractions import Fraction

from msgspec import Struct

from boxkite.core.errors import FootageError
from boxkite.core.footage.cache import memory
from boxkite.core.footage.source import Source
from boxkite.core.notices.notice import Notice
from boxkite.core.timebase import FrameRate, Span, round_fraction

INDEXED_CONTAINERS = frozenset({"mov"})
"""Containers whose index lists every frame, so that no packet need be read to count them."""


PLAUSIBLE_HOLD_SECONDS = Fraction(3600)
"""For longer one frame rarely stands on purpose; a damaged time stamp makes it stand for years."""


def is_plausible(frames: int, rate: FrameRate) -> bool:
    """Whether a frame, or black, may stand for so many frames without anybody being asked."""
    return rate.seconds(frames) <= PLAUSIBLE_HOLD_SECONDS


class FrameIndex(Struct, frozen=True):
    """Where each frame of a source lies in its file's own time."""

    rate: FrameRate
    frame_count: int
    """Frames at `rate`; frame n is on screen at n ÷ rate after `first_pts`."""
    stored_count: int
    first_pts: int
    time_base: Fraction
    constant: bool
    """Every coded frame lies on that grid, one each. Where it is False (variable rate), a frame shows the last frame
    whose time has come, so frames may be repeated or passed over."""
    timestamped: bool = True
    """False where the file stores no presentation times and frames can only be counted."""
    by_decoding: bool = False
    """Whether the times of decoding are those of showing, as those of showing are not all different (Ogg)."""
    rotation_degrees: int = 0
    """0, 90, 180 or 270, how far a player turns the picture counter-clockwise."""
    warnings: tuple[Notice, ...] = ()
    longest_hold: int = 1
    """Frames for which one frame stands at most."""
    display_times: tuple[int, ...] = ()
    """The times of the frames in the order they are shown, in ticks, of a file whose packets carry the times of
    decoding at a variable rate; empty for all others."""

    @property
    def span(self) -> Span:
        """All the frames there are."""
        return Span(0, self.frame_count)

    def frame_at(self, pts: int) -> int:
        """The frame that begins nearest to a presentation time."""
        ticks = (pts - self.first_pts) * self.time_base.numerator * self.rate.fraction.numerator
        per_frame = self.time_base.denominator * self.rate.fraction.denominator
        return (2 * ticks + per_frame) // (2 * per_frame)  # once a frame: a Fraction would cost more

    def pts_of(self, frame: int) -> int:
        """The presentation time of a frame, in ticks of the file's time base."""
        return self.first_pts + round_fraction(frame / self.rate.fraction / self.time_base)


def measure_frames(source: Source) -> FrameIndex:
    """Find out how many frames a source really has and where they lie.

    Reads the container's index where it lists every frame, else every packet; decodes nothing.
    Raises FootageError when there is nothing or not one frame in it.
    """
    if not source.video:
        return _audio_index(source)
    if source.sequence:
        return _sequence_table(source)
    with memory() as known:
        table = known.recall("frames", source.path, FrameIndex)
        if table is None:
            from boxkite.core.footage.measuring import measure_file  # the codec library takes a while to load

            table = measure_file(source)
            known.keep("frames", source.path, table)
    return table


def _audio_index(source: Source) -> FrameIndex:
    """Frames to cut audio alone by: at the rate of its timecode, else 25 a second; the last may be part of one."""
    if not source.audio:
        raise FootageError("there is no picture in it, and no audio", path=source.path)
    rate = source.start_timecode.rate if source.start_timecode else FrameRate.parse("25")
    count = math.ceil(source.duration * rate.fraction)
    if count < 1:
        raise FootageError("there is no audio in it", path=source.path)
    return FrameIndex(rate, count, 0, 0, 1 / rate.fraction, constant=True)


def _sequence_table(source: Source) -> FrameIndex:
    assert source.video and source.sequence
    if source.sequence.missing:
        raise FootageError(
            f"frame {source.sequence.missing[0]} of the sequence is missing",
            path=source.sequence.folder / source.sequence.label,
            hint=f"{len(source.sequence.missing)} of its images are missing; restore them first",
        )
    rate, count = source.video.rate, source.video.frame_count
    return FrameIndex(rate, count, count, 0, 1 / rate.fraction, constant=True)
