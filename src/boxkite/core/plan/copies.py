"""Copies in a plan: by how much their ends move, those that are encoded to be exact, those that become one file."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from boxkite.core.errors import FootageError, NoKeyframeError, PlanError, setting
from boxkite.core.footage.bitstream.obstacles import NotSpliceableError
from boxkite.core.footage.source import Source
from boxkite.core.footage.splice import Splice
from boxkite.core.notices.files import COPY_MOVES_ENDS
from boxkite.core.notices.notice import Notice
from boxkite.core.plan.rows import Row
from boxkite.core.presets.extensions import extension_of_copy
from boxkite.core.shots.shot import Shot
from boxkite.core.timebase import Span

if TYPE_CHECKING:
    from boxkite.core.footage.keyframes import StoredFrames


def copied_frames(shot: Shot, stored: StoredFrames) -> tuple[Span, tuple[Notice, ...]]:
    """The frames that a copy of a shot holds, and a notice where its ends move, as they are not keyframes.

    Raises NoKeyframeError.
    """
    footage, wanted = shot.footage, shot.span
    span = stored.copied_span(footage.frame_index, wanted)
    if span is None:
        raise NoKeyframeError(
            "no keyframe is before it, so it cannot be copied: a preset that encodes makes it"
        )
    moves = [
        f"{end} {frames} frame{'' if frames == 1 else 's'} {way}"
        for end, frames, way in (
            ("in moves", wanted.start - span.start, "back"),
            ("out moves", span.end - wanted.end, "forward"),
        )
        if frames
    ]
    if not moves:
        return span, ()
    return span, (COPY_MOVES_ENDS(moves=moves),)


def splice_of(shot: Shot, stored: StoredFrames) -> tuple[Splice | None, str]:
    """How many frames are encoded and copied to cut a shot exactly; None, and the reason, where all are encoded."""
    from boxkite.core.footage.cuts import cut_shot  # loads NumPy

    try:
        return cut_shot(stored, shot.footage.frame_index, shot.span).splice, ""
    except NotSpliceableError as error:
        return None, str(error.obstacle)


def joined_rows(rows: Sequence[Row], wanted: str) -> list[Row]:
    """The rows, with one that joins all copies of each output. wanted: "also", or "only" for that one alone.

    Raises PlanError where copies cannot be joined, with what differs.
    """
    outputs: dict[tuple[str, Path, str], list[Row]] = {}
    for row in rows:
        if row.is_copied:
            outputs.setdefault((row.preset.name, row.folder, row.extension), []).append(row)
    if not outputs:
        raise PlanError(
            f"{setting('joined')}: nothing here is copied",
            hint=f"it goes with the preset copy, without {setting('exact-cuts')}",
        )
    kept = [row for row in rows if wanted == "also" or not row.is_copied]
    for parts in outputs.values():
        _check_alike(parts)
        first = parts[0]
        name = f"{first.name}-joined"
        warnings = tuple(dict.fromkeys(one.of(part.name) for part in parts for one in part.warnings))
        kept.append(
            replace(
                first,
                name=name,
                plain_name=name,
                parts=tuple(parts),
                expected_bytes=sum(part.expected_bytes for part in parts),
                warnings=warnings,
                shot=first.shot.with_changes(),
            )
        )
    return [replace(row, number=number) for number, row in enumerate(kept, start=1)]


def _check_alike(parts: Sequence[Row]) -> None:
    first = parts[0].shot.footage.source
    wanted = _streams(first)
    for source in {part.shot.footage.source.path: part.shot.footage.source for part in parts}.values():
        for (what, one), (_, other) in zip(wanted, _streams(source), strict=False):
            if one != other:
                raise PlanError(
                    f"{first.label} and {source.label} cannot be joined: {what} differs ({one}, {other})",
                    hint="leave one of them out, or give a preset that encodes and join later",
                )


def _streams(source: Source) -> list[tuple[str, object]]:
    """The properties that streams must share to follow each other in one file, each with its name."""
    video = source.video
    assert video
    settings: list[tuple[str, object]] = [
        ("the codec", video.codec),
        ("the picture size", video.size),
        ("the pixel format", video.pixel_format),
        ("the rate", str(video.rate)),
        ("the number of audio tracks", len(source.audio)),
    ]
    for audio in source.audio:
        settings.append(("the audio", f"{audio.codec} {audio.sample_rate_hz} Hz {audio.shown_layout}"))
    from boxkite.core.footage.opening import open_source

    try:
        with open_source(source) as container:
            set_up = [
                bytes(stream.codec_context.extradata or b"")
                for stream in container.streams
                if stream.type in ("video", "audio") and stream.codec_context
            ]
    except FootageError as error:
        raise PlanError(error.message, path=error.path) from None
    return [*settings, ("the set-up of their encoders", [hash(one) for one in set_up])]


def uncopied_extension(source: Source) -> str:
    """Why a source's container is not written by copying; empty where it is."""
    if extension_of_copy(source):
        return ""
    codecs = ", ".join(one.codec for one in (source.video, *source.audio) if one)
    return f"“{source.path.suffix}” files of {codecs} are not written by copying"
