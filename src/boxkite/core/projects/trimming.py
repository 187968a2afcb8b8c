"""Trimming a project: the parts of its sources that an edit uses become files, and the edit points at them."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path

from msgspec import Struct
from msgspec.structs import replace

from boxkite.core.edit.otio.writing import write_otio_edit
from boxkite.core.edit.timeline import Clip, ClipKind, Edit, Timeline, Track, TrackKind
from boxkite.core.errors import PlanError, setting
from boxkite.core.files.names import clean_value, safe_component
from boxkite.core.files.walking import Unseen
from boxkite.core.footage.frame_index import measure_frames
from boxkite.core.footage.source import Source
from boxkite.core.job.job import Job, Otherwise
from boxkite.core.notices.edit import AUDIO_CLIPS_KEPT, USED_TIMES
from boxkite.core.notices.notice import Notice
from boxkite.core.plan.planning import Outputs, plan_of_shots
from boxkite.core.plan.rows import Plan, Row
from boxkite.core.shots.conforming import used_spans
from boxkite.core.shots.edit_cutting import EditCutter, missing_media
from boxkite.core.shots.gathering import Gathered, Progress
from boxkite.core.shots.limits import with_handles
from boxkite.core.shots.placing import index_source
from boxkite.core.shots.shot import IndexedSource, Shot
from boxkite.core.timebase import Span

_SEVERAL_PARTS = "@clip_@in"
_SEPARATE_PARTS = "@clip_@(count:01:per clip)"


class Use(Struct, frozen=True):
    """A clip of the edit with the frames of its source that it shows, transitions at its ends included."""

    clip: Clip
    footage: IndexedSource
    first: int
    """The frame that its own first frame shows."""
    span: Span
    is_audio: bool


class Part(Struct, frozen=True):
    """A span of one source that becomes a file, and its uses."""

    shot: Shot
    uses: tuple[Use, ...]


class Trim(Struct, frozen=True):
    """A trim worked out."""

    edit: Edit
    plan: Plan
    parts: tuple[Part, ...]
    """In the order of the plan's shots."""
    source_bytes: int
    """Bytes of the used sources as they are."""


def plan_trim(job: Job, *, separate: bool, progress: Progress = lambda _: None) -> Trim:
    """Work out which parts of which sources an edit uses, and the files they become; nothing is written.

    job: its one path is the edit; media, handles, outputs and names as everywhere. separate: each use becomes a
    separate file, audio with its picture; else uses that touch or overlap, handles included, share one.
    Disabled clips and those of audio tracks count as uses. Raises a RequestError as make_plan does.
    """
    outputs = Outputs(job)
    if len(job.outputs) != 1:
        raise PlanError("a trimmed project has one output", hint=f"as {setting('to')} copy:trimmed")
    footages: dict[Path, IndexedSource] = {}

    def footage_of(source: Source) -> IndexedSource:
        if source.path not in footages:
            progress(source.label)
            footages[source.path] = index_source(source, measure_frames(source), None)
        return footages[source.path]

    notices: list[Notice] = []
    unseen: list[Unseen] = []
    cutter = EditCutter(
        dataclasses.replace(job, picture="originals"), job.paths, (), footage_of, notices, unseen
    )
    edit = cutter.edits[0]
    uses = _uses(edit, cutter, footage_of, notices)
    parts = [part for of_source in _by_source(uses) for part in _parts(of_source, job, separate=separate)]
    count: dict[Path, int] = {}
    for part in parts:
        path = part.shot.footage.source.path
        count[path] = count.get(path, 0) + 1
    otherwise = {
        index: Otherwise((), names=_SEPARATE_PARTS if separate else _SEVERAL_PARTS)
        for index, part in enumerate(parts)
        if job.names is None and count[part.shot.footage.source.path] > 1
    }
    gathered = Gathered(tuple(part.shot for part in parts), tuple(notices), (), (), otherwise, tuple(unseen))
    plan = plan_of_shots(job, gathered, outputs, progress)
    size = sum(
        footage.source.size_bytes for footage in {id(use.footage): use.footage for use in uses}.values()
    )
    return Trim(edit, plan, tuple(parts), size)


def _uses(
    edit: Edit, cutter: EditCutter, footage_of: Callable[[Source], IndexedSource], notices: list[Notice]
) -> list[Use]:
    found, missing, silent = [], [], 0
    finder = cutter.finder_of(edit)
    for timeline, track, clip in _media_clips(edit.timelines):
        source = finder.find(clip)
        if source.source is None:
            if track.kind is TrackKind.AUDIO:
                silent += 1
            else:
                missing.append(source.problem)
            continue
        found.append(_use(timeline, track, clip, footage_of(source.source)))
    if missing:
        raise missing_media(missing)
    if not found:
        raise PlanError("this edit uses no media", path=edit.path)
    if silent:
        notices.append(AUDIO_CLIPS_KEPT(count=silent))
    return found


def _media_clips(timelines: Sequence[Timeline]) -> Iterator[tuple[Timeline, Track, Clip]]:
    for timeline in timelines:
        for track in timeline.tracks:
            for clip in track.clips:
                if clip.nested:
                    yield from _media_clips([clip.nested])
                elif clip.kind is ClipKind.MEDIA:
                    yield timeline, track, clip


def _use(timeline: Timeline, track: Track, clip: Clip, footage: IndexedSource) -> Use:
    shown, whole = used_spans(timeline, clip, footage)
    span = whole.clipped_to(footage.frame_index.span)
    if not span.length:
        raise missing_media([f"“{clip.name}” uses frames {whole.start} to {whole.end} of {footage.source.path},"
                             f" which has {footage.frame_index.frame_count}"])  # fmt: skip
    return Use(clip, footage, shown.start, span, track.kind is TrackKind.AUDIO)


def _by_source(uses: Sequence[Use]) -> list[list[Use]]:
    found: dict[int, list[Use]] = {}
    for use in uses:
        found.setdefault(id(use.footage), []).append(use)
    return [sorted(own, key=lambda use: (use.span.start, use.span.end)) for own in found.values()]


def _parts(uses: Sequence[Use], job: Job, *, separate: bool) -> Iterator[Part]:
    """The spans of one source, from its uses in the order of their starts."""
    wide = [with_handles([Shot(use.footage, use.span)], job.handles)[0].span for use in uses]
    groups = _apart(uses, wide) if separate else _touching(wide)
    for members in groups:
        span = Span(min(wide[index].start for index in members), max(wide[index].end for index in members))
        yield _part([uses[index] for index in members], span, uses[0].footage)


def _touching(spans: Sequence[Span]) -> list[list[int]]:
    """Places of spans, in the order of their starts, that touch or overlap one after the other."""
    groups: list[list[int]] = []
    reached = -1
    for index, span in enumerate(spans):
        if not groups or span.start > reached:
            groups.append([])
        groups[-1].append(index)
        reached = max(reached, span.end)
    return groups


def _apart(uses: Sequence[Use], spans: Sequence[Span]) -> list[list[int]]:
    """A group for each clip of picture tracks; a clip of audio goes with the picture it overlaps most."""
    groups = {index: [index] for index, use in enumerate(uses) if not use.is_audio}
    for index, use in enumerate(uses):
        if use.is_audio:
            best = max(groups, key=lambda other: _shared(spans[index], spans[other]), default=index)
            if best == index or not _shared(spans[index], spans[best]):
                groups[index] = [index]
            else:
                groups[best].append(index)
    return [groups[index] for index in sorted(groups)]


def _shared(first: Span, second: Span) -> int:
    """How many frames two spans share."""
    return max(0, min(first.end, second.end) - max(first.start, second.start))


def _part(uses: Sequence[Use], span: Span, footage: IndexedSource) -> Part:
    names = list(dict.fromkeys(use.clip.name for use in uses))
    warnings = (USED_TIMES(count=len(uses), names=names),) if len(uses) > 1 else ()
    keywords = tuple(dict.fromkeys(word for use in uses for word in use.clip.keywords))
    shot = Shot(
        footage,
        span,
        marker=names[0],
        keywords=keywords,
        note="; ".join(names),
        origin=uses[0].clip.origin,
        warnings=warnings,
        way="files",
        handle_in=min(use.span.start for use in uses) - span.start,
        handle_out=span.end - max(use.span.end for use in uses),
    )
    return Part(shot, tuple(uses))


def trimmed_timelines(trim: Trim, folder: Path) -> list[Timeline]:
    """The timelines of the edit with the trimmed files in the place of their sources, seen from a folder.

    The media keep their timecode, so each clip shows the same frames as before.
    """
    rows = {id(row.shot): row for row in trim.plan.rows}
    by_clip: dict[int, tuple[Use, Row]] = {}
    for part in trim.parts:
        row = rows[id(part.shot)]
        for use in part.uses:
            by_clip[id(use.clip)] = (use, row)
    return [_trimmed(timeline, by_clip, folder) for timeline in trim.edit.timelines]


def _trimmed(timeline: Timeline, by_clip: dict[int, tuple[Use, Row]], folder: Path) -> Timeline:
    tracks = []
    for track in timeline.tracks:
        clips = []
        for clip in track.clips:
            if clip.nested:
                clips.append(replace(clip, nested=_trimmed(clip.nested, by_clip, folder)))
            elif id(clip) in by_clip:
                clips.append(_pointing_at(clip, *by_clip[id(clip)], folder))
            else:
                clips.append(clip)
        tracks.append(replace(track, clips=tuple(clips)))
    return replace(timeline, tracks=tuple(tracks))


def _pointing_at(clip: Clip, use: Use, row: Row, folder: Path) -> Clip:
    path = row.path
    written = path.relative_to(folder) if path.is_relative_to(folder) else path
    first = row.in_timecode.frame
    media = replace(
        clip.media,
        name=path.name,
        path=written.as_posix(),
        first=first,
        frames=row.span.length,
        rate=use.footage.frame_index.rate,
    )
    return replace(
        clip,
        media=media,
        source_start=first + use.first - row.span.start,
        source_rate=use.footage.frame_index.rate,
        source_from_zero=None,
        source_drop=row.in_timecode.drop,
    )


def edit_paths(trim: Trim) -> list[Path]:
    """Where the edits go: beside the files, one for each timeline. Raises PlanError where one exists already."""
    folder = trim.plan.rows[0].folder
    stem = trim.edit.path.stem
    names = [safe_component(clean_value(timeline.name)) for timeline in trim.edit.timelines]
    paths = [
        folder / (f"{stem}-trimmed.otio" if len(names) == 1 else f"{stem}-{name or number}-trimmed.otio")
        for number, name in enumerate(names, start=1)
    ]
    for path in paths:
        if path.exists():
            raise PlanError("this edit exists already; nothing is overwritten", path=path,
                            hint=f"choose another folder with {setting('to')}, or move it away")  # fmt: skip
    return paths


def write_trimmed_edits(trim: Trim, paths: Sequence[Path]) -> None:
    """Write the edits of a trim whose files are made. Raises MarksError, OSError."""
    for path, timeline in zip(paths, trimmed_timelines(trim, paths[0].parent), strict=True):
        write_otio_edit(path, timeline)
