"""Which finished file each clip of an edit points at, and at which of its frames it begins."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from pathlib import Path

from msgspec import Struct
from msgspec.structs import replace

from boxkite.core.edit.timeline import Clip, ClipKind, Edit, MediaName, Timeline, Track
from boxkite.core.footage.source import ImageSettings
from boxkite.core.handover.relinking.targets import Target
from boxkite.core.notices.handover import (
    RELINK_NO_FILE,
    RELINK_NO_ORIGINAL,
    RELINK_SHORT,
)
from boxkite.core.notices.notice import Notice
from boxkite.core.shots.conforming import used_spans
from boxkite.core.shots.media import MediaFinder
from boxkite.core.timebase import FrameRate


class Pointing(Struct, frozen=True):
    """The medium a clip is to point at, and the frame of it that the clip begins with."""

    path: Path
    first: int
    """Number of the first frame of the medium in its own counting, which is its timecode."""
    frames: int
    rate: FrameRate
    drop: bool
    start: int
    """The frame the clip begins with, in that counting."""
    is_finished: bool = False
    """Whether speed, effects and transitions are in the picture already."""
    first_image: Path | None = None
    reel: str = ""


class Relinked(Struct, frozen=True):
    """An edit worked out anew."""

    edit: Edit
    timelines: tuple[Timeline, ...]
    """With every clip that has a file pointing at it."""
    pointings: dict[tuple[int, ...], Pointing]
    """By the place of the clip: timeline, track, clip, and so on into nested ones."""
    kept: tuple[Notice, ...] = ()
    """Clips that keep their media, with the reason."""


class Relinker:
    """Finds the file of each clip."""

    def __init__(self, edit: Edit, targets: Sequence[Target], *, back: bool) -> None:
        """back: from the files to their sources, else from the sources to the files."""
        self._edit = edit
        self._targets = targets
        self._back = back
        sources = [one.source.source for one in targets if not one.is_finished]
        self._finder = MediaFinder(
            edit.path, list({one.path: one for one in sources}.values()), ImageSettings()
        )
        self._by_source: dict[Path, list[Target]] = {}
        self._by_path: dict[Path, Target] = {}
        self._by_name: dict[str, list[Target]] = {}
        self._by_place: dict[tuple[str, str, int, int], Target] = {}
        for one in targets:
            self._by_source.setdefault(one.source.source.path, []).append(one)
            self._by_path[one.path] = one
            if one.first_image:
                self._by_path[one.first_image] = one
            self._by_name.setdefault((one.first_image or one.path).name.casefold(), []).append(one)
            if one.place:
                at = one.place
                self._by_place[at.timeline, at.track, at.record.start, at.record.end] = one

    def relinked(self, only: Sequence[str] = ()) -> Relinked:
        """The edit anew. only: names of tracks, as V1; the others are left out."""
        pointings: dict[tuple[int, ...], Pointing] = {}
        kept: list[Notice] = []
        timelines = [
            self._timeline(timeline, (index,), only, pointings, kept)
            for index, timeline in enumerate(self._edit.timelines)
        ]
        return Relinked(self._edit, tuple(timelines), pointings, tuple(kept))

    def _timeline(
        self,
        timeline: Timeline,
        place: tuple[int, ...],
        only: Sequence[str],
        pointings: dict[tuple[int, ...], Pointing],
        kept: list[Notice],
    ) -> Timeline:
        tracks = []
        for number, track in enumerate(timeline.tracks):
            if only and track.name not in only:
                continue
            clips = []
            for index, clip in enumerate(track.clips):
                at = (*place, number, index)
                if clip.nested:
                    inner = self._timeline(clip.nested, at, (), pointings, kept)
                    clips.append(replace(clip, nested=inner))
                    continue
                found = self._pointing(timeline, track, clip) if clip.kind is ClipKind.MEDIA else None
                if isinstance(found, Pointing):
                    pointings[at] = found
                    clips.append(pointing_at(clip, found))
                    continue
                if found:
                    kept.append(found)
                clips.append(clip)
            tracks.append(replace(track, clips=tuple(clips)))
        return replace(timeline, tracks=tuple(tracks))

    def _pointing(self, timeline: Timeline, track: Track, clip: Clip) -> Pointing | Notice:
        if self._back:
            return self._to_source(timeline, clip)
        return self._to_file(timeline, track, clip)

    def _to_file(self, timeline: Timeline, track: Track, clip: Clip) -> Pointing | Notice:
        at_place = self._by_place.get((timeline.name, track.name, clip.record.start, clip.record.end))
        if clip.media.path and (target := self._file_of(clip)):  # it points at the file already
            return self._at(target, used_spans(timeline, clip, target.as_source)[0].start)
        source = self._finder.find(clip).source
        short = 0
        if source is not None:
            candidates = self._by_source.get(source.path, [])
            if at_place in candidates:  # the shot that was cut from this very clip goes first
                candidates = [at_place, *candidates] if at_place else candidates
            for one in candidates:
                shown, whole = used_spans(timeline, clip, one.source)
                whole = whole.clipped_to(one.source.frame_index.span)
                if whole.length and one.span.start <= whole.start and whole.end <= one.span.end:
                    return self._at(one, shown.start - one.span.start)
                missing = max(one.span.start - whole.start, whole.end - one.span.end)
                if missing < clip.record.length:
                    short = min(short or missing, missing)
        is_of_edit = at_place is not None and (
            at_place.is_finished or source is None or source.path != at_place.source.source.path
        )
        if at_place is not None and is_of_edit and at_place.rate == timeline.rate:
            return replace(self._at(at_place, at_place.handle_in), is_finished=True)
        label = f"{track.name} at {timeline.start + clip.record.start}"
        if short:
            return RELINK_SHORT(name=clip.name, frames=short).of(label)
        return RELINK_NO_FILE(name=clip.name).of(label)

    def _at(self, target: Target, frame: int) -> Pointing:
        first = target.start.frame
        return Pointing(
            target.first_image or target.path, first, target.span.length, target.rate, target.start.drop,
            first + frame, first_image=target.first_image, reel=target.source.source.reel,
        )  # fmt: skip

    def _to_source(self, timeline: Timeline, clip: Clip) -> Pointing | Notice:
        target = self._file_of(clip)
        label = f"at {timeline.start + clip.record.start}"
        if target is None or target.is_finished:
            return RELINK_NO_ORIGINAL(name=clip.name).of(label)
        source = target.source
        shown, _ = used_spans(timeline, clip, target.as_source)
        first = source.start.frame if source.has_timecode else 0
        return Pointing(
            source.source.path, first, source.frame_index.frame_count, source.frame_index.rate,
            source.start.drop and source.has_timecode, first + target.span.start + shown.start,
            reel=source.source.reel,
        )  # fmt: skip

    def _file_of(self, clip: Clip) -> Target | None:
        if clip.media.path:
            folder = self._edit.path if self._edit.path.is_dir() else self._edit.path.parent
            if found := self._by_path.get((folder / clip.media.path).absolute()):
                return found
        named = self._by_name.get(Path(clip.media.path or clip.media.name).name.casefold(), [])
        return named[0] if self._back and len(named) == 1 else None


def pointing_at(clip: Clip, to: Pointing) -> Clip:
    """A clip with other media."""
    media = MediaName(to.path.name, str(to.path), clip.media.reel or to.reel, to.first, to.rate, to.frames)
    changed = replace(
        clip, media=media, source_start=to.start, source_rate=to.rate, source_from_zero=None,
        source_drop=to.drop,
    )  # fmt: skip
    if to.is_finished:
        changed = replace(changed, speed=1, effects=(), transition_in=None, transition_out=None)
    return changed


def clips_at(timelines: Sequence[Timeline]) -> Iterator[tuple[tuple[int, ...], Clip]]:
    """Every clip with its place, nested timelines' too."""

    def inside(timeline: Timeline, place: tuple[int, ...]) -> Iterator[tuple[tuple[int, ...], Clip]]:
        for number, track in enumerate(timeline.tracks):
            for index, clip in enumerate(track.clips):
                at = (*place, number, index)
                yield at, clip
                if clip.nested:
                    yield from inside(clip.nested, at)

    for index, timeline in enumerate(timelines):
        yield from inside(timeline, (index,))
