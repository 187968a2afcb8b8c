"""The files an edit can point at, with the frames of their sources that each holds."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from msgspec import Struct
from msgspec.structs import replace

from boxkite.core.errors import RequestError
from boxkite.core.handover.described import Described
from boxkite.core.shots.shot import EditPlace, IndexedSource
from boxkite.core.timebase import FrameRate, Span, Timecode


class Target(Struct, frozen=True):
    """A finished file and what it was made from."""

    path: Path
    source: IndexedSource
    """The source whose frames it holds; the file itself where no batch on record made it."""
    span: Span
    """The frames of that source that it holds, handles included."""
    start: Timecode
    """Of its first frame."""
    rate: FrameRate
    place: EditPlace | None = None
    """Where its shot lies in the edit it was cut from."""
    handle_in: int = 0
    handle_out: int = 0
    """Frames of the span before and after what was asked for, those of copies that begin early included."""
    is_finished: bool = False
    """Whether it shows the edit, effects and speed included, rather than one source."""
    preset: str = ""
    first_image: Path | None = None
    """Of a folder of numbered images."""
    has_audio: bool = True

    @property
    def as_source(self) -> IndexedSource:
        """The file as a source of its own."""
        index = replace(self.source.frame_index, frame_count=self.span.length, rate=self.rate)
        return replace(self.source, start=self.start, has_timecode=True, frame_index=index)


def targets_of(files: Sequence[Described], preset: str = "") -> tuple[list[Target], tuple[str, ...]]:
    """The targets among finished files, of one preset; and the presets there are, in the order of their files.

    preset: which, empty for the first. Raises RequestError where there is none of it.
    """
    found = [_target(one) for one in files if one.is_made and _is_of_one_rate(one)]
    presets = tuple(dict.fromkeys(one.preset for one in found))
    wanted = preset or (presets[0] if presets else "")
    kept = [one for one in found if one.preset == wanted]
    if not kept:
        raise RequestError(
            f"there is no file of the preset “{preset}”" if preset else "there is no file an edit could point at",
            hint=f"there are: {', '.join(filter(None, presets))}" if preset else
            "files at another frame rate than their sources do not count",
        )  # fmt: skip
    return kept, presets


def _is_of_one_rate(one: Described) -> bool:
    """Files at another rate than their source do not have each of its frames; joined ones have several sources."""
    row = one.row
    return row is None or (row.rate == row.shot.footage.frame_index.rate and not row.parts)


def _target(one: Described) -> Target:
    row, shot = one.row, one.shot
    if row is None:
        return Target(one.file.path, shot.footage, shot.span, one.start, shot.footage.frame_index.rate)
    shot = row.shot
    images = sorted(one.file.path.iterdir()) if one.file.path.is_dir() else []
    return Target(
        one.file.path, shot.footage, row.span, row.start_timecode, row.rate, shot.edited,
        shot.handle_in + shot.span.start - row.span.start, shot.handle_out + row.span.end - shot.span.end,
        shot.footage.composition is not None, row.preset.name, images[0] if images else None,
        bool(row.audio_tracks) or row.is_copied,
    )  # fmt: skip
