"""The changes to the frames of a source for one file, as plain values."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from msgspec import Struct

from boxkite.core.looks.look import Look
from boxkite.core.plan.rows import LiveToken, PlannedBurnIn, Row
from boxkite.core.presets.coding import Video
from boxkite.core.presets.geometry import Geometry
from boxkite.core.presets.model import Scaling
from boxkite.core.presets.overlays import Watermark
from boxkite.core.timebase import FrameRate, round_fraction


def _no_text(frame: int) -> Mapping[LiveToken, str]:
    return {}


class FrameConversion(Struct, frozen=True):
    """The changes to each frame."""

    video: Video
    """How it is coded at last: codec, pixel format, scan."""
    geometry: Geometry
    rate: FrameRate
    """Frames a second of the file."""
    scaling: Scaling = "good"
    look: Look = ()
    is_interlaced: bool = False
    """Whether the source is."""
    burn_ins: tuple[PlannedBurnIn, ...] = ()
    watermarks: tuple[Watermark, ...] = ()
    live_text: Callable[[int], Mapping[LiveToken, str]] = _no_text
    """Texts of the burn-ins' live tokens on a frame of the file, counted from 0."""


def conversion_of(row: Row) -> FrameConversion:
    """The changes to the frames of a row that has a frame and is encoded."""
    assert row.preset.video and row.geometry
    source = row.shot.footage.source.video
    return FrameConversion(
        row.preset.video,
        row.geometry,
        row.rate,
        row.preset.scaling,
        row.look,
        bool(source and source.is_interlaced),
        row.burn_ins,
        row.preset.watermark,
        lambda number: _live_text(row, number),
    )


def _live_text(row: Row, number: int) -> dict[LiveToken, str]:
    shown = row.frame_shown(number)
    frame, place = row.span.start + shown, row.shot.edited
    record = None
    if place:
        rates = place.start.rate.fraction / row.shot.footage.frame_index.rate.fraction
        ahead = row.span.start - (row.shot.span.start + row.shot.handle_in) + shown
        record = place.record_in + round_fraction(ahead * rates, "down")
    return {
        LiveToken.TIMECODE: str(row.shot.footage.timecode(frame)),
        LiveToken.FRAME: str(frame),
        LiveToken.RECORD_TIMECODE: str(record or row.shot.footage.timecode(frame)),
        LiveToken.SHOT_FRAME: str(number + 1),
    }
