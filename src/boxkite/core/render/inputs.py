"""Where the pictures and sounds of a stretch come from: a source's file, or an edit put together."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from av.video.frame import VideoFrame

from boxkite.core.footage.decoding import Damage, read_pictures
from boxkite.core.plan.rows import Row
from boxkite.core.render.edit_frames import EditPictures, EditSounds
from boxkite.core.render.sounds import SoundReader
from boxkite.core.timebase import Span


def open_pictures(
    rows: Sequence[Row], stretch: Span, threads: int, damage: Damage | None
) -> Iterator[tuple[int, VideoFrame]]:
    """(frame number, picture) of every frame of a stretch that rows of one source share."""
    reel = rows[0].shot.reel
    if reel.composition:
        return EditPictures(reel, threads, damage).read(stretch)
    return read_pictures(
        reel.source, reel.table, stretch, threads=threads, damage=damage, hardware=rows[0].decode_with
    )


def open_sounds(row: Row, span: Span, tracks: tuple[int, ...]) -> SoundReader | EditSounds:
    """The sound of a span of a row's shot."""
    if row.shot.reel.composition:
        return EditSounds(row.shot.reel, span)
    return SoundReader(row.shot.reel, span, tracks, accept_damaged=row.accept_damaged)
