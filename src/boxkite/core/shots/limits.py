"""Making shots shorter, longer or fewer: a range over the whole timeline, handles, neighbours joined."""

from __future__ import annotations

from collections.abc import Sequence
from fractions import Fraction
from itertools import pairwise

from msgspec.structs import replace

from boxkite.core.job.handles import NO_HANDLES, Handles
from boxkite.core.notices.notice import Notice
from boxkite.core.notices.shots import (
    HANDLES_SHORTENED,
    JOINED_WITH,
    OUTSIDE_RANGE,
    OVERLAP,
    PARTLY_OUTSIDE,
    SHORT,
)
from boxkite.core.shots.shot import LeftOut, Shot
from boxkite.core.timebase import Span, round_fraction


def with_handles(shots: Sequence[Shot], handles: Handles) -> list[Shot]:
    """The shots with handles, shortened where the media ends, which their warnings then tell."""
    if handles == NO_HANDLES:
        return list(shots)
    return [_with_handles(shot, handles) for shot in shots]


def _with_handles(shot: Shot, handles: Handles) -> Shot:
    asked = handles.frames_at(shot.footage.frame_index.rate, shot.footage.frame_index.frame_count)
    if not asked or shot.problem:
        return shot
    whole = shot.footage.frame_index.span
    span = Span(shot.span.start - asked, shot.span.end + asked).clipped_to(whole)
    before, after = shot.span.start - span.start, span.end - shot.span.end
    warnings = list(shot.warnings)
    short = [
        f"{frames} at its {end}" for frames, end in ((before, "head"), (after, "tail")) if frames < asked
    ]
    if short and not handles.are_whole:
        warnings.append(HANDLES_SHORTENED(ends=short, asked=asked))
    return replace(shot, span=span, handle_in=before, handle_out=after, warnings=tuple(warnings))


def limited(shots: Sequence[Shot], record: Span, asked: str) -> tuple[list[Shot], list[LeftOut]]:
    """The shots as far as they lie within a range of their timeline; those that do not are left out."""
    kept, left_out = [], []
    for shot in shots:
        assert shot.edited
        own = shot.edited.record
        inside = own.clipped_to(record)
        if not inside.length:
            left_out.append(LeftOut(shot.clip_name, shot.origin, OUTSIDE_RANGE(range=asked)))
        elif inside == own:
            kept.append(shot)
        else:
            kept.append(_shortened(shot, inside, asked))
    return kept, left_out


def _shortened(shot: Shot, inside: Span, asked: str) -> Shot:
    assert shot.edited
    own = shot.edited.record
    scale = Fraction(shot.span.length, own.length) if own.length else Fraction(1)
    start = shot.span.start + round_fraction((inside.start - own.start) * scale)
    end = shot.span.end - round_fraction((own.end - inside.end) * scale)
    span = Span(start, max(end, start + 1)).clipped_to(shot.footage.frame_index.span)
    warning = PARTLY_OUTSIDE(frames=own.length - inside.length, of=own.length, range=asked)
    place = replace(shot.edited, record=inside)
    return replace(shot, span=span, edited=place, warnings=(*shot.warnings, warning))


def limited_in_source(shots: Sequence[Shot], limit: Span, asked: str) -> tuple[list[Shot], list[LeftOut]]:
    """The same for shots that come of no edit, by the frames of their source."""
    kept, left_out = [], []
    for shot in shots:
        span = shot.span.clipped_to(limit)
        if not span.length:
            left_out.append(LeftOut(shot.marker or shot.clip_name, shot.origin, OUTSIDE_RANGE(range=asked)))
        elif span == shot.span:
            kept.append(shot)
        else:
            length = shot.span.length
            warning = PARTLY_OUTSIDE(frames=length - span.length, of=length, range=asked)
            kept.append(replace(shot, span=span, warnings=(*shot.warnings, warning)))
    return kept, left_out


def joined(shots: Sequence[Shot]) -> list[Shot]:
    """Shots that touch in one source made into one, named after the first; others as they are."""
    ordered = list(shots)
    result = ordered[:1]
    for _, shot in pairwise(ordered):
        last = result[-1]
        touching = (last.footage.source.path, last.span.end) == (shot.footage.source.path, shot.span.start)
        if not touching or last.way != shot.way or last.problem or shot.problem:
            result.append(shot)
            continue
        place = last.edited
        if place and shot.edited:
            place = replace(
                place, record=Span(place.record.start, max(place.record.end, shot.edited.record.end))
            )
        result[-1] = replace(
            last,
            span=Span(last.span.start, shot.span.end),
            edited=place,
            keywords=tuple(dict.fromkeys([*last.keywords, *shot.keywords])),
            warnings=tuple(
                dict.fromkeys(
                    [*last.warnings, JOINED_WITH(name=shot.marker or shot.clip_name), *shot.warnings]
                )
            ),
        )
    return result


def remarked(shots: Sequence[Shot]) -> list[Shot]:
    """The shots with a warning on those that share frames with another of their source, or last under a second.

    Shots cut in different ways may share frames as they like, and so may the clips of an edit.
    """
    shared = _shared_frames(shots)
    found = []
    for index, shot in enumerate(shots):
        added = [shared[index]] if index in shared else []
        span, second = shot.span, shot.footage.frame_index.rate.fraction
        asked = span.end - span.start - shot.handle_in - shot.handle_out
        if (
            asked * second.denominator < second.numerator
        ):  # for every shot: comparing Fractions would cost more
            added.append(SHORT(frames=asked))
        found.append(replace(shot, warnings=(*shot.warnings, *added)) if added else shot)
    return found


def _shared_frames(shots: Sequence[Shot]) -> dict[int, Notice]:
    """By place: of a shot that begins before another of its source and way has ended."""
    by_source: dict[tuple[str, str], list[tuple[int, int, int]]] = {}
    for index, shot in enumerate(shots):
        if not shot.edited:
            own = _asked(shot)
            members = by_source.setdefault((shot.way, str(shot.footage.source.path)), [])
            members.append((own.start, index, own.end))
    found: dict[int, Notice] = {}
    for members in by_source.values():
        last, last_end = shots[members[0][1]], -1
        for start, index, end in sorted(members):
            if last_end > start:
                name = last.marker or last.clip_name
                found[index] = OVERLAP(frames=min(last_end, end) - start, name=name, origin=last.origin)
            if last_end < end:
                last, last_end = shots[index], end
    return found


def _asked(shot: Shot) -> Span:
    """The span without its handles."""
    if not (shot.handle_in or shot.handle_out):
        return shot.span
    return Span(shot.span.start + shot.handle_in, shot.span.end - shot.handle_out)
