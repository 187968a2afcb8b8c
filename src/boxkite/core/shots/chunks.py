"""Which shots can be encoded in chunks, and where those begin."""

from __future__ import annotations

import math
from fractions import Fraction

from boxkite.core.footage.frame_index import FrameIndex
from boxkite.core.footage.source import VideoInfo
from boxkite.core.notices.files import NOT_IN_CHUNKS
from boxkite.core.notices.notice import Notice
from boxkite.core.presets.model import Preset
from boxkite.core.shots.shot import Shot
from boxkite.core.timebase import Span, round_fraction

_LEAST_SECONDS = 20
"""Of a shot that is divided."""
_SECONDS, _COUNT = (4, 10), 24
"""So many chunks, that workers end together, of about 4 to 10 seconds, that beginning costs little."""


def planned_chunks(preset: Preset, shot: Shot) -> tuple[tuple[Span, ...], tuple[Notice, ...]]:
    """The chunks of a shot, none where it is too short for two; a notice of why it is encoded in one piece."""
    video = shot.footage.source.video
    if not preset.video or not video:
        return (), ()
    chunks = _chunks_of(preset, shot.footage.frame_index, shot.span)
    obstacle = _obstacle(preset, video) if chunks else ""
    return (() if obstacle else chunks), ((NOT_IN_CHUNKS(reason=obstacle),) if obstacle else ())


def _obstacle(preset: Preset, video: VideoInfo) -> str:
    """Why shots are encoded in one piece by a preset; empty where chunks make the same file."""
    assert preset.video
    if preset.is_sequence:
        return "it becomes a folder of images"
    if preset.video.passes == 2:
        return "its preset takes two passes over all of it"
    if preset.video.bitrate_mbps is not None:
        return "its preset shares a bitrate out over all of it"
    if preset.video.hardware:
        return "its preset asks for a hardware encoder"
    if video.is_interlaced and preset.video.scan == "progressive":
        return "deinterlacing needs the frames before and after each"
    return ""


def _chunks_of(preset: Preset, index: FrameIndex, span: Span) -> tuple[Span, ...]:
    """The chunks of a span, of about the same length, each a whole number of keyframe intervals.

    They do not depend on who encodes them.
    """
    assert preset.video
    rate = preset.frame_rate or index.rate
    seconds = Fraction(str(preset.video.keyframe_seconds or 1))
    interval = max(1, round_fraction(seconds * rate.fraction))
    interval += interval % 2 if interval == 1 else 0
    lasts = index.rate.seconds(span.length)
    frames = lasts * rate.fraction
    least, most = _SECONDS
    wanted = min(max(lasts / _COUNT, Fraction(least)), Fraction(most)) * rate.fraction
    count = math.floor(frames / (max(1, round_fraction(wanted / interval)) * interval))
    if lasts < _LEAST_SECONDS or count < 2:
        return ()
    length = math.ceil(frames / count / interval) * interval
    scale = index.rate.fraction / rate.fraction
    starts = [
        span.start + round_fraction(number * length * scale)
        for number in range(count)
        if number * length < frames
    ]
    return tuple(Span(begin, end) for begin, end in zip(starts, [*starts[1:], span.end], strict=True))
