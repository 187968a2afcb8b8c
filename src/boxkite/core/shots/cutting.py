"""The ways to cut: at markers, at ranges, whole files."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Sequence

from boxkite.core.errors import MarksError
from boxkite.core.footage.source import Source
from boxkite.core.marks.mark import Mark, MarkList
from boxkite.core.notices.marks import (
    AFTER_MEDIA,
    BEFORE_MEDIA,
    CLOSING_MARKER_LATE,
    RANGE_WITHOUT_OUT,
    SAME_FRAME,
    UNSORTED,
    WITHOUT_SOURCE,
)
from boxkite.core.notices.notice import Notice
from boxkite.core.notices.shots import SHORTENED, UNNAMED_MARK
from boxkite.core.shots.placing import PlacedMark
from boxkite.core.shots.shot import Cut, IndexedSource, Shot
from boxkite.core.timebase import Span, uncovered


def assign_marks(marks: MarkList, sources: Sequence[Source]) -> tuple[dict[int, list[Mark]], list[Notice]]:
    """Which marks belong to which source, by the position of the source, and notices of those that found none.

    Raises MarksError, with the line, for a mark that names no source or fits several.
    """
    by_source: dict[int, list[Mark]] = {}
    by_name: dict[str, list[int]] = {"": list(range(len(sources)))}
    for index, source in enumerate(sources):
        for name in {source.path.name.casefold(), source.clip_name.casefold()} - {""}:
            by_name.setdefault(name, []).append(index)
    notices = []
    for mark in marks.marks:
        fitting = by_name.get(mark.source_name.casefold(), [])
        if len(fitting) > 1:
            problem = f"“{mark.source_name}” fits" if mark.source_name else "this mark could belong to"
            raise MarksError(
                f"{problem} {len(fitting)} sources",
                path=marks.path,
                line=mark.start.line,
                hint="name the source of each range in a column “source”, or give one program only",
            )
        if fitting:
            by_source.setdefault(fitting[0], []).append(mark)
        else:
            notices.append(WITHOUT_SOURCE(source=mark.source_name).of(_where(marks, mark)))
    return by_source, notices


def cut_at_markers(
    marks: MarkList, placed: Sequence[PlacedMark], footage: IndexedSource, closing_name: str
) -> Cut:
    """A shot from each marker to the next mark, or to the end of the media.

    A marker with a length ends there. A closing marker, known by its name whatever its case,
    ends the shot before it and makes none. Of several markers on one frame the first in the list makes the
    shot. What lies outside the media makes none. The notices report all of it.
    """
    notices: list[Notice] = []
    whole = footage.frame_index.span
    ordered = sorted(placed, key=lambda one: one.start)
    if [one.start for one in ordered] != [one.start for one in placed]:
        notices.append(UNSORTED().of(marks.path.name))
    starts = sorted({one.start for one in ordered})
    shots: list[Shot] = []
    first_on_frame: dict[int, PlacedMark] = {}
    for one in ordered:
        if _is_closing(one.mark, closing_name):
            if one.start > whole.end:
                late = CLOSING_MARKER_LATE(frames=one.start - whole.end)
                notices.append(late.of(_where(marks, one.mark)))
            continue
        if not whole.start <= one.start < whole.end:
            notices.append(_outside(marks, one, whole))
            continue
        if one.end is not None:
            shots.append(_shot(marks, one, footage, Span(one.start, one.end)))
            continue
        if one.start in first_on_frame:
            first = first_on_frame[one.start].mark
            same = SAME_FRAME(name=one.mark.name, first=first.name, first_origin=_where(marks, first))
            notices.append(same.of(_where(marks, one.mark)))
            continue
        first_on_frame[one.start] = one
        later = bisect_right(starts, one.start)
        end = starts[later] if later < len(starts) else whole.end
        shots.append(_shot(marks, one, footage, Span(one.start, min(end, whole.end))))
    return _finished(shots, notices, footage)


def cut_at_ranges(marks: MarkList, placed: Sequence[PlacedMark], footage: IndexedSource) -> Cut:
    """A shot for each range, shortened at the ends of the media; points make none."""
    notices: list[Notice] = []
    whole = footage.frame_index.span
    shots: list[Shot] = []
    for one in placed:
        if one.end is None:
            notices.append(RANGE_WITHOUT_OUT(name=one.mark.name).of(_where(marks, one.mark)))
        elif one.start >= whole.end or one.end <= whole.start:
            notices.append(_outside(marks, one, whole))
        else:
            shots.append(_shot(marks, one, footage, Span(one.start, one.end)))
    return _finished(shots, notices, footage)


def cut_whole(footage: IndexedSource) -> Cut:
    """One shot: the whole source."""
    return Cut((Shot(footage, footage.frame_index.span, origin=footage.source.label, way="files"),))


def _finished(shots: list[Shot], notices: list[Notice], footage: IndexedSource) -> Cut:
    gaps = uncovered(footage.frame_index.span, [shot.span for shot in shots])
    return Cut(tuple(shots), tuple(notices), tuple((footage, gap) for gap in gaps))


def _is_closing(mark: Mark, closing_name: str) -> bool:
    return bool(closing_name) and mark.name.strip().casefold() == closing_name.strip().casefold()


def _shot(marks: MarkList, placed: PlacedMark, footage: IndexedSource, wanted: Span) -> Shot:
    span = wanted.clipped_to(footage.frame_index.span)
    warnings = []
    if span != wanted:
        warnings.append(SHORTENED(frames=wanted.length - span.length))
    mark = placed.mark
    if not mark.name:
        warnings.append(UNNAMED_MARK())
    return Shot(
        footage=footage,
        span=span,
        marker=mark.name,
        keywords=mark.keywords,
        note=mark.note,
        colour=mark.colour,
        circled=mark.circled,
        metadata=mark.metadata,
        origin=_where(marks, mark),
        warnings=tuple(warnings),
    )


def _where(marks: MarkList, mark: Mark) -> str:
    if mark.start.line is None:
        return f"{marks.path.name}, {mark.start.text}"
    return f"{marks.path.name}:{mark.start.line}"


def _outside(marks: MarkList, placed: PlacedMark, whole: Span) -> Notice:
    kind = BEFORE_MEDIA if placed.start < whole.start else AFTER_MEDIA
    return kind(name=placed.mark.name, time=placed.mark.start.text).of(_where(marks, placed.mark))
