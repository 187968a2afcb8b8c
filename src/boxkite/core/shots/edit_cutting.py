"""Cutting edits: which picture each timeline is cut from, and the shots that come of it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

from msgspec.structs import replace

from boxkite.core.edit.edl.events import read_events
from boxkite.core.edit.reading import read_edit
from boxkite.core.edit.timeline import Clip, ClipKind, Edit, Timeline, Track, TrackKind
from boxkite.core.errors import PlanError, setting
from boxkite.core.files.walking import Unseen
from boxkite.core.footage.find import find_sources
from boxkite.core.footage.frame_index import is_plausible
from boxkite.core.footage.source import Source
from boxkite.core.job.allowed import By, PictureFrom
from boxkite.core.job.job import Job
from boxkite.core.looks.look import Look
from boxkite.core.marks.mark_table import MarksBeside
from boxkite.core.notices.edit import BEGIN_TOGETHER, FREEZE, MARKERS_UNUSED, OWN_SPEED, RETIMED
from boxkite.core.notices.footage import MEDIA_UNREADABLE
from boxkite.core.notices.notice import Notice
from boxkite.core.shots.composing import AUDIO, TrackChoice, compose, longest_hold
from boxkite.core.shots.conforming import (
    decision_as_metadata,
    index_timeline,
    on_edit,
    on_originals,
    on_program,
    source_frames_of,
)
from boxkite.core.shots.edit_clips import Wanted, wanted_clips, wanted_timelines
from boxkite.core.shots.in_and_out import range_of_timeline, range_options
from boxkite.core.shots.limits import limited
from boxkite.core.shots.looks import LookFinder
from boxkite.core.shots.media import MediaFinder
from boxkite.core.shots.shot import (
    Composition,
    Cut,
    EditPlace,
    IndexedSource,
    Layer,
    LeftOut,
    Shot,
)
from boxkite.core.timebase import FrameRate, Span

MOST_LISTED = 40


class EditCutter:
    """The edits of a job with the footage they can be cut from."""

    def __init__(
        self,
        job: Job,
        paths: Sequence[Path],
        programs: Sequence[Source],
        footage_of: Callable[[Source], IndexedSource],
        notices: list[Notice],
        unseen: list[Unseen],
    ) -> None:
        """programs: the sources among the job's paths. unseen: folders that could not be entered.

        Raises PlanError where the finished program is wanted and missing, and what reading edits raises.
        """
        self.job = job
        self.paths = paths
        self.programs = programs
        self.footage_of = footage_of
        self.notices = notices
        self.unseen = unseen
        self.picture: PictureFrom = self.job.picture or ("program" if self.programs else "originals")
        if self.picture == "program" and not self.programs:
            raise PlanError(
                f"{setting('picture')} program needs the finished program beside the edit",
                path=self.paths[0],
                hint=f"name it too, as: boxkite plan {self.paths[0].name} program.mov; or use"
                f" {setting('picture')} originals",
            )
        self.media = [] if self.picture == "program" else self._media()
        list_rate = self._list_rate() if any(path.suffix.lower() == ".edl" for path in self.paths) else None
        self.edits = [read_edit(path, list_rate) for path in self.paths]
        for edit in self.edits:
            self.notices += [warning.of(edit.path.name) for warning in edit.warnings]
        self._timeline_footages: dict[int, IndexedSource] = {}
        self._finders = {
            edit.path: MediaFinder(edit.path, [*self.media, *self.programs], self.job.images)
            for edit in self.edits
        }

    def finder_of(self, edit: Edit) -> MediaFinder:
        """The finder of the media of one of the edits."""
        return self._finders[edit.path]

    def cut(self, way: By) -> Cut:
        """The shots of all timelines, as clips or as whole timelines, inside the job's range."""
        shots: list[Shot] = []
        left_out: list[LeftOut] = []
        for edit in self.edits:
            origin = edit.path.name
            if way == "timelines":
                wanted = wanted_timelines(edit.timelines, self.job.depth, origin)
                laid = _with_marks_of_whole(self._laid(edit, wanted, way), edit)
                shots += self._limited(edit, laid, left_out)
                continue
            for timeline in edit.timelines:
                wanted, others = wanted_clips(timeline, origin)
                if timeline.markers and "markers" not in self.job.by:
                    self.notices.append(MARKERS_UNUSED(count=len(timeline.markers)).of(origin))
                left_out += others
                shots += self._limited(edit, self._laid(edit, wanted, way), left_out)
        return Cut(tuple(shots), left_out=tuple(left_out))

    def _laid(self, edit: Edit, wanted: Sequence[Wanted], way: By) -> list[Shot]:
        if self.picture == "originals":
            found = on_originals(wanted, self._finders[edit.path], self.footage_of, way)
            if not self.job.retime:
                return found
            return [
                self._retimed(edit, one, shot) if one.speed != 1 and not shot.problem else shot
                for one, shot in zip(wanted, found, strict=True)
            ]
        if self.picture == "edit":
            return on_edit(wanted, lambda timeline: self._timeline_footage(edit, timeline), way)
        shots: list[Shot] = []
        for one in wanted:
            program = self.footage_of(self._program(one.timeline))
            if not (one.timeline.start_known and program.has_timecode):
                name = program.source.label if one.timeline.start_known else f"“{one.timeline.name}”"
                self._note_once(BEGIN_TOGETHER(name=name))
            shots += on_program([one], program, way)
        return shots

    def _note_once(self, notice: Notice) -> None:
        if notice not in self.notices:
            self.notices.append(notice)

    def _limited(self, edit: Edit, shots: list[Shot], left_out: list[LeftOut]) -> list[Shot]:
        range_text = range_options(self.job)
        if not range_text or not shots:
            return shots
        if len(self.edits) > 1 or len(edit.timelines) > 1:
            raise PlanError(f"{range_text}: a range is for one timeline; these are several")
        kept, outside = limited(shots, range_of_timeline(self.job, edit.timelines[0]), range_text)
        left_out += outside
        return kept

    def _program(self, timeline: Timeline) -> Source:
        if len(self.programs) == 1:
            return self.programs[0]
        named = [one for one in self.programs if one.clip_name.casefold() == timeline.name.casefold()]
        if len(named) == 1:
            return named[0]
        raise PlanError(
            f"which of {len(self.programs)} programs shows timeline “{timeline.name}”?",
            hint=f"name one program only, or call each as its timeline is called; camera originals go"
            f" to {setting('media')}",
        )

    def _media(self) -> list[Source]:
        found = find_sources(self.job.media, self.job.images)
        named = {path for path in self.job.media if not path.is_dir()}
        self.unseen += found.unseen
        for item in found.unreadable:
            if item.path in named or item.path in self.job.media:
                raise PlanError(f"{setting('media')}: {item.reason}", path=item.path, hint=item.hint)
        if found.unreadable:
            self.notices.append(MEDIA_UNREADABLE(count=len(found.unreadable)))
        return list(found.sources)

    def _list_rate(self) -> FrameRate | None:
        """The rate of edit decision lists: as given, of the program, or the one that all media share."""
        if self.job.marks_rate:
            return self.job.marks_rate
        if self.picture == "program":
            return self.footage_of(self.programs[0]).frame_index.rate
        sources = [*self.media, *self.programs] or self._named_media()
        rates = {source.video.rate for source in sources if source.video}
        return rates.pop() if len(rates) == 1 else None

    def _named_media(self) -> list[Source]:
        """The media that edit decision lists name by a path that is there."""
        found = []
        for path in self.paths:
            if path.suffix.lower() == ".edl":
                finder = MediaFinder(path, (), self.job.images)
                events = [event for one in read_events(path)[0] for event in one.events]
                names = dict.fromkeys(event.source_file for event in events if event.source_file)
                found += [source for name in names if (source := finder.at_path(name))]
        return found

    def _timeline_footage(self, edit: Edit, timeline: Timeline) -> IndexedSource:
        """The timeline as a source, worked out once; every medium it needs is looked for."""
        if id(timeline) not in self._timeline_footages:
            self._timeline_footages[id(timeline)] = self._measured(edit, timeline)
        return self._timeline_footages[id(timeline)]

    def _measured(self, edit: Edit, timeline: Timeline) -> IndexedSource:
        uses: dict[Path, tuple[int, Source]] = {}
        missing = []
        for clip in _media_clips(timeline):
            found = self._finders[edit.path].find(clip)
            if found.source is None:
                missing.append(found.problem)
            else:
                frames = uses.get(found.source.path, (0, found.source))[0] + clip.record.length
                uses[found.source.path] = (frames, found.source)
        if missing:
            raise missing_media(missing)
        if not uses:
            raise PlanError(f"timeline “{timeline.name}” shows no media", path=edit.path)
        model = self.footage_of(max(uses.values(), key=lambda use: use[0])[1])
        return self._composed(edit, timeline, model)

    def _composed(self, edit: Edit, timeline: Timeline, model: IndexedSource) -> IndexedSource:
        """The timeline as a reel that is put together when it is read; what cannot be rendered is in the notices."""
        looks = LookFinder()

        def footage_of_clip(clip: Clip) -> IndexedSource:
            found = self._finders[edit.path].find(clip)
            if found.source is None:
                raise missing_media([found.problem])
            return self.footage_of(found.source)

        def look_of_clip(clip: Clip, footage: IndexedSource) -> Look:
            metadata = {**clip.metadata, **decision_as_metadata(clip.colour_decision)}
            place = EditPlace(timeline.name, "", clip.event, clip.record, timeline.start)
            shot = Shot(
                footage,
                footage.frame_index.span,
                metadata=metadata,
                edited=place,
                origin=f"{edit.path.name}, {clip.origin}",
            )
            return looks.look_of(shot, None)[0]

        self._check_tracks(timeline)
        wished = TrackChoice(self.job.tracks)
        composition, notices = compose(timeline, edit.path.name, footage_of_clip, look_of_clip, wished)
        self._check_holds(edit, timeline, composition)
        self.notices += [one.of(f"{edit.path.name}, “{timeline.name}”") for one in notices]
        return index_timeline(edit.path, timeline, model, composition, AUDIO)

    def _check_holds(self, edit: Edit, timeline: Timeline, composition: Composition) -> None:
        """Make sure that no frame stands for longer than anybody would want it to. Raises PlanError."""
        layers = [layer for track in composition.tracks for layer in track]
        longest = max([_longest_gap(timeline), *map(longest_hold, layers)])
        if not self.job.accept_gaps and not is_plausible(longest, timeline.rate):
            raise PlanError(
                f"timeline “{timeline.name}” shows one frame, or nothing, for"
                f" {float(timeline.rate.seconds(longest)) / 3600:.1f} hours",
                path=edit.path,
                hint=f"a time in it is probably wrong; {setting('accept-gaps')} renders it all the same",
            )

    def _check_tracks(self, timeline: Timeline) -> None:
        known = [track.name for track in timeline.tracks]
        for name in self.job.tracks:
            if name.casefold() not in {one.casefold() for one in known}:
                raise PlanError(
                    f"{setting('tracks')}: “{timeline.name}” has no track {name}",
                    hint=f"it has {', '.join(known)}",
                )

    def _retimed(self, edit: Edit, wanted: Wanted, shot: Shot) -> Shot:
        """A shot of an original at the speed it has in the edit: as an edit of this one clip."""
        assert wanted.clip and shot.edited
        length = wanted.place.record.length
        clip = replace(wanted.clip, record=Span(0, length), transition_in=None, transition_out=None)
        track = Track(TrackKind.PICTURE, wanted.place.track or "V1", (clip,))
        start = wanted.place.record_in
        alone = Timeline(wanted.timeline.name, wanted.timeline.rate, start, (track,))
        first, step = source_frames_of(alone, clip, shot.footage, clip.record, wanted.head, wanted.speed)
        layer = Layer(clip.record, shot.footage, first, step)
        composition = Composition(((layer,),), ())
        self._check_holds(edit, alone, composition)
        footage = index_timeline(shot.footage.source.path, alone, shot.footage, composition, AUDIO)
        kept = [one for one in shot.warnings if not one.is_a(OWN_SPEED, FREEZE)]
        retimed = RETIMED(percent=float(wanted.speed * 100))
        return replace(shot, footage=footage, span=clip.record, warnings=(*kept, retimed))


def _with_marks_of_whole(shots: Sequence[Shot], edit: Edit) -> list[Shot]:
    """The shots, the first timeline's with the keywords and good take of marks beside it that cover all of it."""
    marks = MarksBeside().of(edit.path, (edit.path.name, edit.path.stem))
    if marks is None:
        return list(shots)
    timeline = edit.timelines[0]
    ends = (str(timeline.start), str(timeline.start + timeline.length))
    whole = [mark for mark in marks.marks if mark.end and (mark.start.text, mark.end.text) == ends]
    added = [word for mark in whole for word in mark.keywords]
    return [
        replace(
            shot,
            keywords=tuple(dict.fromkeys([*shot.keywords, *added])),
            circled=shot.circled or any(mark.circled for mark in whole),
        )
        if shot.edited and shot.edited.timeline == timeline.name
        else shot
        for shot in shots
    ]


def _media_clips(timeline: Timeline) -> list[Clip]:
    found = []
    for track in timeline.picture_tracks:
        for clip in track.clips:
            if clip.enabled and track.enabled and clip.kind is ClipKind.MEDIA:
                found.append(clip)
            elif clip.enabled and track.enabled and clip.nested:
                found += _media_clips(clip.nested)
    return found


def missing_media(problems: Sequence[str]) -> PlanError:
    """The refusal that lists everything missing or ambiguous at once."""
    differences = list(dict.fromkeys(problems))
    shown = differences[:MOST_LISTED]
    if len(differences) > len(shown):
        shown.append(f"and {len(differences) - len(shown)} more")
    return PlanError(
        "1 shot has no usable media" if len(problems) == 1 else f"{len(problems)} shots have no usable media",
        hint=f"say where the originals lie with {setting('media')}, leave shots out with"
        f" {setting('except')}, or name the finished program beside the edit, which is cut then",
        details=shown,
    )


def _longest_gap(timeline: Timeline) -> int:
    """Frames of a timeline in a row in which no picture track shows anything."""
    spans = sorted(clip.record for track in timeline.picture_tracks for clip in track.clips if clip.enabled)
    reached, longest = 0, 0
    for span in spans:
        longest = max(longest, span.start - reached)
        reached = max(reached, span.end)
    return longest
