"""Where the frames and audio of a decode group come from: a source's file, or an edit rendered."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from av.video.frame import VideoFrame

from boxkite.core.footage.decoding import Damage, KeptDecoder, read_frames
from boxkite.core.plan.rows import Row
from boxkite.core.render.audio_reader import AudioReader
from boxkite.core.timebase import Span, round_fraction

if TYPE_CHECKING:
    from boxkite.core.render.edit_frames import EditAudio


def open_frames(
    rows: Sequence[Row], span: Span, threads: int, damage: Damage | None, kept: KeptDecoder | None = None
) -> Iterator[tuple[int, VideoFrame]]:
    """(frame number, frame) for every frame of a decode group. kept: see read_frames."""
    footage = rows[0].shot.footage
    if footage.composition:
        from boxkite.core.render.edit_frames import EditFrames  # and NumPy with it, as below

        return EditFrames(footage, threads, damage).read(span)
    return read_frames(
        footage.source,
        footage.frame_index,
        span,
        threads=threads,
        damage=damage,
        hardware=rows[0].decode_with,
        kept=kept,
    )


def open_audio(
    row: Row, span: Span, tracks: tuple[int, ...], kept: KeptDecoder | None = None
) -> AudioReader | EditAudio:
    """The audio of a span of a row's shot. kept: as open_frames takes it."""
    if row.shot.footage.composition:
        from boxkite.core.render.edit_frames import EditAudio

        return EditAudio(row.shot.footage, span)
    source = kept.audio if kept else None
    return AudioReader(row.shot.footage, span, tracks, accept_damaged=row.accept_damaged, kept=source)


def frames_until(row: Row, frames: int) -> int:
    """Frames of a row at its own rate that begin before so many frames of its source are over."""
    return round_fraction(frames * row.rate.fraction / row.shot.footage.frame_index.rate.fraction, "up")
