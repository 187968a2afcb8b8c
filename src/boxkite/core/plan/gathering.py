"""From a job's words to its shots: sources found, marks read and laid on them, facts joined."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

from boxkite.core.edit.marks import Mark, MarkList
from boxkite.core.edit.reading import marks_from_chapters, read_marks
from boxkite.core.errors import FootageError, PlanError, RequestError
from boxkite.core.footage.find import find_sources
from boxkite.core.footage.frames import measure_frames
from boxkite.core.footage.source import Source, SourceKind
from boxkite.core.plan.job import By, Job
from boxkite.core.shots.cutting import assign_marks, cut_at_markers, cut_at_ranges, cut_whole
from boxkite.core.shots.facts import read_facts
from boxkite.core.shots.placing import counting_notice, half_rate_notice, make_reel, place_marks
from boxkite.core.shots.shot import Cut, Reel, Shot
from boxkite.core.timebase import Span

Progress = Callable[[str], None]


@dataclass(frozen=True)
class Gathered:
    """The shots of a job, at least one, and what is to be said about everything else."""

    by: By
    shots: tuple[Shot, ...]
    notices: tuple[str, ...]
    uncovered: tuple[tuple[Reel, Span], ...]


def gather_shots(job: Job, progress: Progress) -> Gathered:
    """Find the sources of a job, cut them as it says, and give each shot the facts of its source.

    progress is told what is being measured. Raises a RequestError when no shot comes of it.
    """
    sources, notices = _sources(job)
    marks = read_marks(job.marks) if job.marks else None
    by = job.by or _way_to_cut(marks)
    cut = _cut(job, by, sources, marks, progress)
    facts, fact_notices = read_facts(job.metadata, sources)
    shots = tuple(
        replace(shot, facts={**facts.get(shot.reel.source.path, {}), **shot.facts}) for shot in cut.shots
    )
    notices += [*cut.notices, *fact_notices]
    if not shots:
        raise _nothing_to_cut(by, notices)
    return Gathered(by, shots, tuple(notices), cut.uncovered)


def _sources(job: Job) -> tuple[list[Source], list[str]]:
    """The sources under the job's paths. A path named by itself must be one; what a folder holds may not be."""
    found = find_sources(job.paths, job.images_rate)
    named = {path for path in job.paths if not path.is_dir()}
    notices = []
    for item in found.unreadable:
        if item.path in named:
            raise FootageError(item.reason, path=item.path, hint=item.hint)
        notices.append(f"{item.path}: {item.reason}: left aside")
    with_picture = []
    for source in found.sources:
        if source.kind is SourceKind.STILL and source.path not in named:
            notices.append(
                f"{source.label}: a single image: left aside; name it by itself to make a file of it"
            )
        elif source.video:
            with_picture.append(source)
            notices += [f"{source.label}: {warning}" for warning in source.warnings]
        else:
            notices.append(f"{source.label}: there is no picture in it: left aside")
    if not with_picture:
        raise FootageError("there is no source with a picture here", path=job.paths[0] if job.paths else None)
    return with_picture, notices


def _way_to_cut(marks: MarkList | None) -> By:
    if marks is None:
        return "files"
    return (
        "ranges" if any(mark.is_range for mark in marks.marks) and marks.kind == "range table" else "markers"
    )


def _cut(job: Job, by: By, sources: Sequence[Source], marks: MarkList | None, progress: Progress) -> Cut:
    """The shots of all sources, by the way to cut that was chosen."""
    if by == "files":
        if marks:
            raise PlanError(
                "--by files cuts nothing, so it has no use for --marks", hint="leave one of them out"
            )
        lists: dict[int, tuple[MarkList, list[Mark]] | None] = dict.fromkeys(range(len(sources)))
        notices: list[str] = []
    elif marks:
        assigned, notices = assign_marks(marks, sources)
        notices = [*marks.warnings, *notices]
        lists = {index: (marks, chosen) for index, chosen in sorted(assigned.items())}
    elif by == "ranges":
        raise PlanError("--by ranges needs a table of ranges", hint="give it with --marks picks.csv")
    else:
        notices = []
        chapters = [marks_from_chapters(source) for source in sources]
        lists = {index: (found, list(found.marks)) for index, found in enumerate(chapters)}
    if job.start_timecode and len(lists) > 1:
        raise PlanError("--start-timecode is for one source; these are several")
    cuts = [Cut((), tuple(notices))]
    for index, listed in lists.items():
        reel = _reel(job, sources[index], progress)
        cuts.append(_cut_source(job, by, reel, *listed) if listed else cut_whole(reel))
    return Cut(
        tuple(shot for cut in cuts for shot in cut.shots),
        tuple(notice for cut in cuts for notice in cut.notices),
        tuple(gap for cut in cuts for gap in cut.uncovered),
    )


def _cut_source(job: Job, by: By, reel: Reel, marks: MarkList, chosen: list[Mark]) -> Cut:
    """The shots of one source at its marks. Raises PlanError when not one comes of them."""
    placed = place_marks(marks, chosen, reel, job.marks_rate)
    if by == "markers":
        cut = cut_at_markers(marks, placed, reel, job.closing_marker)
    else:
        cut = cut_at_ranges(marks, placed, reel)
    if not cut.shots:
        raise _all_outside(marks, reel, cut)
    notes = (counting_notice(marks, reel), half_rate_notice(marks, reel, job.marks_rate))
    return replace(cut, notices=(*(note for note in notes if note), *cut.notices))


def _reel(job: Job, source: Source, progress: Progress) -> Reel:
    progress(source.label)
    table = measure_frames(source)
    return make_reel(source, table, job.start_timecode)


def _all_outside(marks: MarkList, reel: Reel, cut: Cut) -> RequestError:
    reel_says = (
        f"{reel.source.label} runs from {reel.start} to {reel.timecode(reel.table.frame_count)}"
        if reel.has_timecode
        else f"{reel.source.label} has no timecode of its own, so it was taken to start at {reel.start}"
    )
    reason = cut.notices[0] if cut.notices else "it holds no mark that makes a shot"
    return PlanError(
        f"no shot comes of this list: {reason}",
        path=marks.path,
        hint=f"{reel_says}; say --start-timecode where the list counts from another",
    )


def _nothing_to_cut(by: By, notices: Sequence[str]) -> RequestError:
    reason = notices[0] if notices else "nothing was found"
    return PlanError(f"no shot comes of cutting by {by}: {reason}")
