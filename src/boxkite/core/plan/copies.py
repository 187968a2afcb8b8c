"""Copies in a plan: by how much their ends move, those that are encoded to be exact, those that become one file."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from msgspec.structs import replace

from boxkite.core.errors import NoKeyframeError, PlanError, setting
from boxkite.core.footage.bitstream.obstacles import NotSpliceableError
from boxkite.core.footage.joining import check_joinable
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
    if not footage.frame_index.timestamped and len(stored.times) < footage.frame_index.stored_count:
        raise NoKeyframeError(
            "some of its frames are stored without a time, so it cannot be copied: a preset that encodes makes it"
        )
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
        if row.exact and not row.splice:
            raise PlanError(
                f"{setting('joined')}: {row.name} is encoded, as a copy would not be exact",
                hint=f"leave out that shot, or {setting('exact-cuts')}",
            )
        if row.is_copied or row.splice:
            outputs.setdefault((row.preset.name, row.folder, row.extension), []).append(row)
    if not outputs:
        raise PlanError(
            f"{setting('joined')}: nothing here is copied",
            hint="it goes with the preset copy",
        )
    kept = [row for row in rows if wanted == "also" or not (row.is_copied or row.splice)]
    for parts in outputs.values():
        check_joinable([part.shot.footage.source for part in parts])
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
                shot=replace(first.shot),
                splice=_together(parts),
            )
        )
    return [replace(row, number=number) for number, row in enumerate(kept, start=1)]


def _together(parts: Sequence[Row]) -> Splice | None:
    """How many frames of all parts are encoded and copied; None where each of them is copied whole."""
    if not any(part.splice for part in parts):
        return None
    each = [part.splice or Splice(0, part.frames, 0) for part in parts]
    return Splice(sum(one.head for one in each), sum(one.body for one in each), sum(one.tail for one in each))


def uncopied_extension(source: Source) -> str:
    """Why a source's container is not written by copying; empty where it is."""
    if extension_of_copy(source):
        return ""
    codecs = ", ".join(one.codec for one in (source.video, *source.audio) if one)
    return f"“{source.path.suffix}” files of {codecs} are not written by copying"
