"""From a job's words to its shots: sources found, marks read and laid on them, metadata joined, the wanted chosen."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from msgspec import Struct
from msgspec.structs import replace

from boxkite.core.edit.reading import is_edit, marks_from_chapters, read_marks
from boxkite.core.errors import FootageError, InaccessibleError, PlanError, RequestError, setting
from boxkite.core.files.walking import Unseen
from boxkite.core.footage.find import find_sources
from boxkite.core.footage.frame_index import is_plausible, measure_frames
from boxkite.core.footage.source import Source, SourceKind
from boxkite.core.job.allowed import WAYS_THROUGH_AN_EDIT, By
from boxkite.core.job.job import Job, Otherwise
from boxkite.core.marks.mark import Mark, MarkList
from boxkite.core.metadata.lookup import know
from boxkite.core.notices.footage import FILE_SKIPPED, IMAGE_SKIPPED, NO_PICTURE_SKIPPED
from boxkite.core.notices.notice import Notice
from boxkite.core.shots.choosing import Candidate, choose, fitting_all, unmet
from boxkite.core.shots.cutting import assign_marks, cut_at_markers, cut_at_ranges, cut_whole
from boxkite.core.shots.in_and_out import range_of_source, range_options
from boxkite.core.shots.kept_marks import KeptMarks, unused, used
from boxkite.core.shots.limits import joined, limited_in_source, remarked, with_handles
from boxkite.core.shots.placing import counting_notice, half_rate_notice, index_source, place_marks
from boxkite.core.shots.production_sound import with_production_sound
from boxkite.core.shots.shot import Cut, IndexedSource, LeftOut, Shot, joined_cuts
from boxkite.core.shots.source_metadata import with_metadata
from boxkite.core.shots.tokens import NamingContext, ShotValues, known_tokens
from boxkite.core.timebase import Span

if TYPE_CHECKING:
    from boxkite.core.shots.edit_cutting import EditCutter

Progress = Callable[[str], None]


class Gathered(Struct, frozen=True):
    """The shots of a job, at least one, with notices about everything else."""

    shots: tuple[Shot, ...]
    notices: tuple[Notice, ...]
    uncovered: tuple[tuple[IndexedSource, Span], ...]
    left_out: tuple[LeftOut, ...]
    otherwise: Mapping[int, Otherwise]
    """By place among them, how some are done otherwise."""
    unseen: tuple[Unseen, ...] = ()
    """Folders that could not be entered."""


def gather_shots(job: Job, progress: Progress, *, audio_only: bool = False) -> Gathered:
    """Find the sources of a job, cut them as it says, give each shot its metadata, keep those that were chosen.

    progress gets what is being read. audio_only: sources without a picture are wanted too.
    Raises a RequestError when no shot comes of it.
    """
    edits = [path for path in job.paths if is_edit(path)]
    footage = [path for path in job.paths if not is_edit(path)]
    unseen: list[Unseen] = []
    sources, notices = _sources(job, footage, audio_only, unseen) if footage else ([], [])
    marks = read_marks(job.marks) if job.marks else None
    ways = job.by or (_way_to_cut(marks, bool(edits)),)
    cutter = _Cutter(job, edits, sources, marks, progress)
    cut = joined_cuts(cutter.cut(way) for way in ways)
    of_shots = [shot.footage.source for shot in cut.shots if not shot.problem]
    all_sources = {source.path: source for source in [*sources, *of_shots]}
    known, metadata_notices = know(list(all_sources.values()), job.metadata, job.match_by)
    shots = with_metadata(cut.shots, known)
    notices += [*cutter.notices, *cut.notices, *metadata_notices]
    chosen, left_out = _chosen(job, shots)
    left_out = [*cut.left_out, *left_out]
    if problems := [shot.problem for shot in chosen if shot.problem]:
        from boxkite.core.shots.edit_cutting import missing_media

        raise missing_media(problems)
    if not chosen:
        raise _nothing_to_cut(ways, notices, left_out, _unmet(job, shots))
    whole = joined(chosen) if job.join else chosen
    otherwise = _otherwise(job, whole)
    handled = with_handles(whole, job.handles)
    for index, done in otherwise.items():
        if done.handles:
            handled[index] = with_handles([whole[index]], done.handles)[0]
    uncovered = () if left_out else cut.uncovered
    return Gathered(tuple(remarked(handled)), tuple(notices), uncovered, tuple(left_out), otherwise,
                    tuple(dict.fromkeys((*unseen, *cutter.unseen))))  # fmt: skip


def _otherwise(job: Job, shots: Sequence[Shot]) -> dict[int, Otherwise]:
    """By place: the first exception of the job that a shot fits."""
    if not job.exceptions:
        return {}
    values, known = ShotValues(shots, NamingContext(job.now, job.user)), known_tokens(shots)
    tests = [(one, fitting_all(one.only, known, "only")) for one in job.exceptions]
    found = {}
    for index, shot in enumerate(shots):
        candidate = Candidate(shot, index + 1, values.of(shot, index))
        fitting = next((one for one, fits in tests if fits(candidate)), None)
        if fitting:
            found[index] = fitting
    return found


def _sources(
    job: Job, paths: Sequence[Path], audio_only: bool, unseen: list[Unseen]
) -> tuple[list[Source], list[Notice]]:
    """The sources under the job's paths. A path that is named must be one; in a folder other files may lie."""
    found = find_sources(paths, job.images)
    named = {path for path in paths if not path.is_dir()}
    notices = []
    for item in found.unreadable:
        if item.path in named:
            raise FootageError(item.reason, path=item.path, hint=item.hint)
        notices.append(FILE_SKIPPED(reason=item.reason).of(str(item.path)))
    for blind in found.unseen:
        if blind.path in named:
            raise FootageError(blind.reason, path=blind.path)
    unseen += found.unseen
    with_picture = []
    for source in found.sources:
        if source.kind is SourceKind.STILL and source.path not in named:
            notices.append(IMAGE_SKIPPED().of(source.label))
        elif source.video or (audio_only and source.audio):
            with_picture.append(source)
            notices += [warning.of(source.label) for warning in source.warnings]
        else:
            notices.append(NO_PICTURE_SKIPPED().of(source.label))
    if not with_picture:
        if found.unreadable and not found.sources:
            raise FootageError(
                found.unreadable[0].reason, path=found.unreadable[0].path, hint=found.unreadable[0].hint
            )
        if unseen:
            raise FootageError(unseen[0].reason, path=unseen[0].path)
        raise FootageError(
            "there is no source with a frame here" if not audio_only else "there is no source here",
            path=paths[0] if paths else None,
        )
    return with_picture, notices


def _way_to_cut(marks: MarkList | None, has_edit: bool) -> By:
    if marks is None:
        return "cuts" if has_edit else "files"
    if marks.kind == "marker list":
        return "markers"
    return "ranges" if all(mark.is_range for mark in marks.marks) else "markers"


def _chosen(job: Job, shots: Sequence[Shot]) -> tuple[list[Shot], list[LeftOut]]:
    if not job.only and not job.without:
        return list(shots), []
    return choose(_candidates(job, shots), job.only, job.without, known_tokens(tuple(shots)))


def _candidates(job: Job, shots: Sequence[Shot]) -> list[Candidate]:
    values_of = ShotValues(shots, NamingContext(job.now, job.user)).of
    return [Candidate(shot, index + 1, values_of(shot, index)) for index, shot in enumerate(shots)]


def _unmet(job: Job, shots: Sequence[Shot]) -> str:
    """What there is instead, for the first choice that no shot meets; empty where each is met by some."""
    candidates, known = _candidates(job, shots), known_tokens(tuple(shots))
    return next((hint for choice in job.only if (hint := unmet(choice, candidates, known))), "")


class _Cutter:
    """The sources and edits of a job; each source is measured once."""

    def __init__(
        self,
        job: Job,
        edits: Sequence[Path],
        sources: list[Source],
        marks: MarkList | None,
        progress: Progress,
    ) -> None:
        self.job = job
        self.edits = edits
        self.sources = sources
        self.marks = marks
        self.progress = progress
        self.notices: list[Notice] = []
        self.unseen: list[Unseen] = []
        self._indexed: dict[Path, IndexedSource] = {}
        self._recordings: tuple[Source, ...] | None = None
        self._edit_cutter: EditCutter | None = None
        self._kept = KeptMarks(sources, edits)

    def cut(self, way: By) -> Cut:
        """The shots of all sources and edits, by one way to cut."""
        if way in WAYS_THROUGH_AN_EDIT:
            if not self.edits:
                raise PlanError(
                    f"{setting('by')} {way} needs a timeline",
                    hint="name it among the paths: .otio, .otioz, .otiod, .edl, .xml or .aaf",
                )
            if self._edit_cutter is None:
                from boxkite.core.shots.edit_cutting import (
                    EditCutter,  # many modules, of which footage needs none
                )

                self._edit_cutter = EditCutter(
                    self.job, self.edits, self.sources, self.footage_of, self.notices, self.unseen
                )
            self.notices += self._unused()
            return self._edit_cutter.cut(way)
        if not self.sources:
            raise PlanError(
                f"{setting('by')} {way} needs footage or a finished program, not only an edit",
                path=self.edits[0],
                hint=f"name the program too, or cut {setting('by')} cuts",
            )
        return self._cut_footage(way)

    def footage_of(self, source: Source) -> IndexedSource:
        """A source measured, with the timecode of its first frame."""
        if source.path not in self._indexed:
            self.progress(source.label)
            table = measure_frames(source)
            if not self.job.accept_gaps and not is_plausible(table.longest_hold, table.rate):
                raise FootageError(
                    f"one of its {table.stored_count} frames lasts"
                    f" {float(table.rate.seconds(table.longest_hold)) / 3600:.1f} hours",
                    path=source.path,
                    hint=f"its times are probably damaged; {setting('accept-gaps')} makes it all the same",
                )
            is_program = any(source is one for one in self.sources)
            footage = index_source(source, table, self.job.start_timecode if is_program else None)
            footage, notice = with_production_sound(footage, self._recorded())
            self.notices += [notice] if notice else []
            self._indexed[source.path] = footage
        return self._indexed[source.path]

    def _recorded(self) -> tuple[Source, ...]:
        """The files of a sound recorder that the job names; read once."""
        if self._recordings is None:
            found = find_sources(self.job.sound) if self.job.sound else None
            self._recordings = (
                tuple(one for one in found.sources if one.audio and not one.video) if found else ()
            )
            if self.job.sound and not self._recordings:
                raise PlanError(
                    f"{setting('sound')}: there is no recorded audio here", path=self.job.sound[0]
                )
        return self._recordings

    def _cut_footage(self, way: By) -> Cut:
        lists, notices = self._lists(way)
        if (self.job.start_timecode or range_options(self.job)) and len(lists) > 1:
            option = setting("start-timecode") if self.job.start_timecode else range_options(self.job)
            raise PlanError(f"{option} is for one source; these are several")
        cuts = [Cut((), tuple(notices))]
        failed: FootageError | None = None
        for index, listed in lists.items():
            try:
                footage = self.footage_of(self.sources[index])
            except FootageError as error:
                if self.sources[index].path in self.job.paths:
                    raise
                failed = error
                skipped = FILE_SKIPPED(reason=error.message)
                self.notices.append(skipped.of(str(self.sources[index].path)))
                if isinstance(error, InaccessibleError):
                    self.unseen.append(Unseen(self.sources[index].path, error.message))
                continue
            cuts.append(
                self._cut_source(way, footage, *listed)
                if listed
                else self._limited(cut_whole(footage), footage, {})
            )
        cut = joined_cuts(cuts)
        if failed and not cut.shots:
            raise failed
        return replace(cut, shots=tuple(replace(shot, way=way) for shot in cut.shots))

    def _lists(self, way: By) -> tuple[Mapping[int, tuple[MarkList, list[Mark]] | None], list[Notice]]:
        """Which marks each source is cut at, by its position; None for sources that stay whole."""
        marks = self.marks
        if way == "detected-cuts":
            return self._detected()
        if way == "files":
            if marks and not (self.job.by and len(self.job.by) > 1):
                raise PlanError(
                    f"{setting('by')} files cuts nothing, so it has no use for {setting('marks')}",
                    hint="leave one of them out",
                )
            return dict.fromkeys(range(len(self.sources))), self._unused()
        if marks is None and (beside := self._kept.by_source()):
            return beside, [used(beside.values())]
        if marks is None and self.edits and len(self.edits) == 1:
            marks = read_marks(self.edits[0])
        if marks:
            assigned, notices = assign_marks(marks, self.sources)
            return {index: (marks, chosen) for index, chosen in sorted(assigned.items())}, [
                *marks.warnings,
                *notices,
            ]
        if way == "ranges":
            raise PlanError(
                f"{setting('by')} ranges needs ranges",
                hint=f"give a table with {setting('marks')} picks.csv, or make them: boxkite mark add"
                f" PATH {setting('in')} … {setting('out')} …",
            )
        chapters = [marks_from_chapters(source) for source in self.sources]
        return {index: (found, list(found.marks)) for index, found in enumerate(chapters)}, []

    def _detected(self) -> tuple[dict[int, tuple[MarkList, list[Mark]]], list[Notice]]:
        """The cuts found in the frames of every source; where a table beside it keeps them, as that has them now."""
        from boxkite.core.marks.detection import changes_as_marks, is_detected, remembered_changes

        beside = {} if self.marks else self._kept.by_source()
        kept = {index: listed for index, listed in beside.items() if any(map(is_detected, listed[1]))}
        found = dict(kept)
        for index, source in enumerate(self.sources):
            if index not in kept:
                table = self.footage_of(source).frame_index
                self.progress(f"the cuts of {source.label}")
                marks = changes_as_marks(source, remembered_changes(source, table))
                found[index] = (marks, list(marks.marks))
        others = [listed for index, listed in beside.items() if index not in kept]
        notices = [used(kept.values())] if kept else []
        return dict(sorted(found.items())), notices + ([unused(others)] if others else [])

    def _unused(self) -> list[Notice]:
        """A notice of marks that are kept beside the sources, where no way to cut takes them."""
        takes_marks = {"markers", "ranges", "detected-cuts"} & set(self.job.by or ())
        return [] if self.marks or takes_marks else self._kept.unused()

    def _cut_source(self, way: By, footage: IndexedSource, marks: MarkList, chosen: list[Mark]) -> Cut:
        """The shots of one source at its marks. Raises PlanError when not one comes of them."""
        placed = place_marks(marks, chosen, footage, self.job.marks_rate)
        if way == "ranges":
            cut = cut_at_ranges(marks, placed, footage)
        else:
            cut = cut_at_markers(marks, placed, footage, self.job.closing_marker)
        if not cut.shots:
            raise _all_outside(marks, footage, cut)
        notes = (counting_notice(marks, footage), half_rate_notice(marks, footage, self.job.marks_rate))
        by_name: dict[str, list[Span]] = {}
        for one in placed:
            by_name.setdefault(one.mark.name, []).append(Span(one.start, one.end or one.start))
        cut = replace(cut, notices=(*(note for note in notes if note), *cut.notices))
        return self._limited(cut, footage, by_name)

    def _limited(self, cut: Cut, footage: IndexedSource, marks: Mapping[str, list[Span]]) -> Cut:
        range_text = range_options(self.job)
        if not range_text:
            return cut
        limit = range_of_source(self.job, footage, marks)
        kept, outside = limited_in_source(cut.shots, limit, range_text)
        return replace(cut, shots=tuple(kept), left_out=(*cut.left_out, *outside))


def _all_outside(marks: MarkList, footage: IndexedSource, cut: Cut) -> RequestError:
    reel_says = (
        f"{footage.source.label} runs from {footage.start} to {footage.timecode(footage.frame_index.frame_count)}"
        if footage.has_timecode
        else f"{footage.source.label} has no timecode, so it was taken to start at {footage.start}"
    )
    reason = cut.notices[0].marked if cut.notices else "it holds no mark that makes a shot"
    return PlanError(
        f"no shot comes of this list: {reason}",
        path=marks.path,
        hint=f"{reel_says}; say {setting('start-timecode')} where the list counts from another",
    )


def _nothing_to_cut(
    ways: Sequence[By], notices: Sequence[Notice], left_out: Sequence[LeftOut], hint: str
) -> RequestError:
    if left_out:
        reasons = ", ".join(dict.fromkeys(one.reason.marked for one in left_out))
        every = f"all {len(left_out)} shots are" if len(left_out) > 1 else "the only shot is"
        return PlanError(f"{every} left out: {reasons}", hint=hint)
    reason = notices[0].marked if notices else "nothing was found"
    return PlanError(f"no shot comes of cutting by {' and '.join(ways)}: {reason}")
