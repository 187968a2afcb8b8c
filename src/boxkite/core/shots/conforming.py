"""Conforming the clips of an edit to footage: the finished program, the camera originals, or the edit itself."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from fractions import Fraction
from pathlib import Path

from msgspec.structs import replace

from boxkite.core.edit.timeline import Clip, ColourDecision, Timeline
from boxkite.core.errors import BoxkiteError, setting
from boxkite.core.footage.frame_index import FrameIndex
from boxkite.core.footage.source import AudioInfo, Source, SourceKind
from boxkite.core.notices.edit import (
    EFFECTS_NOT_MADE,
    FREEZE,
    HIDDEN,
    HIDDEN_IN_EDIT,
    OWN_RATE,
    OWN_SPEED,
    TITLES_NOT_MADE,
    TRANSITION_NOT_MADE,
    TRANSITION_SHOWN,
)
from boxkite.core.notices.notice import Kind, Notice
from boxkite.core.notices.shots import SHORTENED
from boxkite.core.shots.edit_clips import Wanted
from boxkite.core.shots.media import MediaFinder
from boxkite.core.shots.shot import Composition, EditPlace, IndexedSource, Shot
from boxkite.core.timebase import FrameRate, Span, Timecode, frames_per_day, round_fraction

IndexSource = Callable[[Source], IndexedSource]


def on_program(wanted: Sequence[Wanted], program: IndexedSource, way: str) -> list[Shot]:
    """Shots of the finished program, where each clip or timeline lies in it.

    Timelines are placed by their timecode; where program or edit has none, both begin together.
    """
    return [_on_program(one, program, way) for one in wanted]


def _on_program(wanted: Wanted, program: IndexedSource, way: str) -> Shot:
    asked = program_span(wanted.timeline, wanted.place.record, program)
    span = asked.clipped_to(program.frame_index.span)
    warnings = [*_transitions(wanted, TRANSITION_SHOWN), *_covered(wanted, HIDDEN)]
    problem = ""
    if not span.length:
        side = "before the first frame" if asked.start < 0 else "after the last frame"
        problem = f"it is {side} of {program.source.label}"
    elif span != asked:
        warnings.append(SHORTENED(frames=asked.length - span.length))
    return _shot(wanted, program, span, way, warnings, problem)


def program_span(timeline: Timeline, record: Span, program: IndexedSource) -> Span:
    """The frames of a program that show a span of its timeline."""
    rate, own = program.frame_index.rate, timeline.rate
    offset = 0
    if timeline.start_known and program.has_timecode:
        there = program.start.relabelled(own, drop=timeline.start.drop)
        offset = timeline.start.frame - there.frame
        day = frames_per_day(own, drop=timeline.start.drop)
        if offset < -day // 2:
            offset += day
    start, end = record.start + offset, record.end + offset
    if rate.nominal != own.nominal:
        scale = rate.fraction / own.fraction
        start, end = round_fraction(start * scale), round_fraction(end * scale)
    return Span(start, end)


def on_originals(
    wanted: Sequence[Wanted], finder: MediaFinder, footage_of: IndexSource, way: str
) -> list[Shot]:
    """Shots of the camera files. What cannot be made bears its problem; nothing is raised."""
    return [_on_originals(one, finder, footage_of, way) for one in wanted]


def _on_originals(wanted: Wanted, finder: MediaFinder, footage_of: IndexSource, way: str) -> Shot:
    clip = wanted.clip
    if clip is None:
        problem = (
            f"no camera file holds a timeline: {setting('picture')} edit renders it from its media; named beside it,"
            f" the finished program is cut"
        )
        return _shot(wanted, _no_footage(wanted), wanted.place.record, way, [], problem)
    found = finder.find(clip)
    if found.source is None:
        return _shot(wanted, _no_footage(wanted), wanted.place.record, way, [], found.problem)
    try:
        footage = footage_of(found.source)
    except BoxkiteError as error:
        return _shot(wanted, _no_footage(wanted), wanted.place.record, way, [], error.text)
    asked = source_span(wanted, clip, footage)
    span = asked.clipped_to(footage.frame_index.span)
    warnings = _not_as_in_the_edit(wanted, clip, footage)
    problem = ""
    if not span.length:
        problem = (
            f"“{clip.media.label}” uses frames {asked.start} to {asked.end} of {footage.source.path},"
            f" which has {footage.frame_index.frame_count}"
        )
    elif span != asked:
        warnings.append(SHORTENED(frames=asked.length - span.length))
    shot = _shot(wanted, footage, span, way, warnings, problem)
    grade = decision_as_metadata(clip.colour_decision)
    return replace(shot, metadata={**shot.metadata, **grade})


def decision_as_metadata(decision: ColourDecision | None) -> dict[str, str]:
    """A colour decision as tables and logs write it: ASC_SOP and ASC_SAT."""
    if decision is None:
        return {}
    triples = (
        " ".join(f"{value:g}" for value in one) for one in (decision.slope, decision.offset, decision.power)
    )
    return {"ASC_SOP": "".join(f"({triple})" for triple in triples), "ASC_SAT": f"{decision.saturation:g}"}


def _not_as_in_the_edit(wanted: Wanted, clip: Clip, footage: IndexedSource) -> list[Notice]:
    """All that the edit does to a clip and its camera file does not show."""
    found = [*_transitions(wanted, TRANSITION_NOT_MADE), *_speed(wanted.speed)]
    if wanted.effects:
        found.append(EFFECTS_NOT_MADE(names=list(dict.fromkeys(wanted.effects))))
    if wanted.titles:
        found.append(TITLES_NOT_MADE(names=list(wanted.titles)))
    found += _covered(wanted, HIDDEN_IN_EDIT)
    if footage.frame_index.rate != wanted.timeline.rate:
        found.append(OWN_RATE(rate=str(footage.frame_index.rate), edit_rate=str(wanted.timeline.rate)))
    return found


def source_span(wanted: Wanted, clip: Clip, footage: IndexedSource) -> Span:
    """The frames of the source that a clip uses: a frozen frame is one, a changed speed more or fewer."""
    rate, own = footage.frame_index.rate, wanted.timeline.rate
    if wanted.speed == 1 and not wanted.head and rate.nominal == own.nominal:
        start = _first_frame(clip, footage)
        return Span(start, start + wanted.place.record.length)
    scale = Fraction(1) if rate.nominal == own.nominal else rate.fraction / own.fraction
    speed = abs(wanted.speed)
    start = _first_frame(clip, footage) + round_fraction(wanted.head * speed * scale)
    if speed == 0:
        return Span(start, start + 1)
    return Span(start, start + max(1, round_fraction(wanted.place.record.length * speed * scale)))


def used_spans(timeline: Timeline, clip: Clip, footage: IndexedSource) -> tuple[Span, Span]:
    """The frames of its source that a clip shows, and those with the frames under its transitions."""
    place = EditPlace(timeline.name, "", clip.event, clip.record, timeline.start)
    shown = source_span(Wanted(timeline, place, clip.name, "", clip, Fraction(0), clip.speed), clip, footage)
    scale = abs(clip.speed) * footage.frame_index.rate.fraction / timeline.rate.fraction
    before = clip.transition_in.before if clip.transition_in else 0
    after = clip.transition_out.after if clip.transition_out else 0
    return shown, Span(
        shown.start - round_fraction(before * scale), shown.end + round_fraction(after * scale)
    )


def source_frames_of(
    timeline: Timeline, clip: Clip, footage: IndexedSource, record: Span, head: Fraction, speed: Fraction
) -> tuple[Fraction, Fraction]:
    """(the source's frame that the first frame of a record shows, source frames for each frame after it).

    head: frames of the record cut off the clip's start. A speed below 0 begins at the end of what it uses.
    """
    rate, own = footage.frame_index.rate, timeline.rate
    scale = Fraction(1) if rate.nominal == own.nominal else rate.fraction / own.fraction
    first, step = Fraction(_first_frame(clip, footage)), speed * scale
    if step < 0:
        return first + (record.length + head) * abs(step) - 1, step
    return first + head * step, step


def _first_frame(clip: Clip, footage: IndexedSource) -> int:
    """The frame of a source that a clip's first frame is, by timecode or from the file's first frame.

    Where the edit does not say which of the two it counts by, timecode goes first if it lies in the media.
    """
    rate = clip.source_rate or footage.frame_index.rate
    from_zero = clip.source_start - (clip.media.first or 0)
    same = rate.nominal == footage.frame_index.rate.nominal
    if not same:
        from_zero = round_fraction(from_zero * footage.frame_index.rate.fraction / rate.fraction)
    if clip.source_from_zero or not (footage.has_timecode or clip.source_from_zero is False):
        return from_zero
    start = (
        footage.start.relabelled(rate, drop=clip.source_drop and rate.can_drop)
        if clip.source_from_zero is False
        else None
    )
    by_timecode = clip.source_start - (start or _in_rate(footage.start, rate)).frame
    if not same:
        by_timecode = round_fraction(by_timecode * footage.frame_index.rate.fraction / rate.fraction)
    fits = 0 <= by_timecode < footage.frame_index.frame_count
    return by_timecode if fits or clip.source_from_zero is False else from_zero


def _in_rate(timecode: Timecode, rate: FrameRate) -> Timecode:
    return timecode.relabelled(rate, drop=timecode.drop and rate.can_drop)


def on_edit(
    wanted: Sequence[Wanted], timeline_footage: Callable[[Timeline], IndexedSource], way: str
) -> list[Shot]:
    """Shots of the timeline itself, as it will be rendered."""
    return [
        _shot(
            one,
            timeline_footage(one.timeline),
            one.place.record,
            way,
            _transitions(one, TRANSITION_SHOWN),
            "",
        )
        for one in wanted
    ]


def index_timeline(
    edit_path: Path, timeline: Timeline, model: IndexedSource, composition: Composition, audio: AudioInfo
) -> IndexedSource:
    """A timeline as something to be cut, with the picture size of the source it uses most, all its audio as one."""
    assert model.source.video
    length = timeline.length
    width, height = model.source.video.width_px, model.source.video.height_px
    aspect = model.source.video.sample_aspect
    if model.frame_index.rotation_degrees in (90, 270):
        width, height, aspect = height, width, 1 / aspect
    video = replace(
        model.source.video,
        rate=timeline.rate,
        frame_count=length,
        frame_count_exact=True,
        width_px=width,
        height_px=height,
        sample_aspect=aspect,
        rotation_degrees=0,
        field_order="progressive",
        has_alpha=False,
    )
    source = Source(
        path=edit_path,
        kind=SourceKind.TIMELINE,
        container="timeline",
        size_bytes=0,
        duration=timeline.rate.seconds(length),
        video=video,
        audio=(audio,) if composition.audio else (),
        start_timecode=timeline.start,
    )
    table = FrameIndex(timeline.rate, length, length, 0, 1 / timeline.rate.fraction, constant=True)
    return IndexedSource(source, table, timeline.start, timeline.start_known, composition=composition)


def _no_footage(wanted: Wanted) -> IndexedSource:
    """Stands for media that was not found, so that the shot can still be chosen or left out by its words."""
    rate, length = wanted.timeline.rate, wanted.place.record.end
    label = wanted.clip.media.label if wanted.clip else wanted.name
    source = Source(Path(label), SourceKind.VIDEO, "", 0, Fraction(0), None)
    table = FrameIndex(rate, length, length, 0, 1 / rate.fraction, constant=True)
    return IndexedSource(source, table, wanted.timeline.start, False)


def _shot(
    wanted: Wanted, footage: IndexedSource, span: Span, way: str, warnings: Sequence[Notice], problem: str
) -> Shot:
    clip = wanted.clip
    first_marker = clip.markers[0] if clip and clip.markers else None
    metadata = dict(clip.metadata) if clip else {}
    if clip and clip.media.tape:
        metadata.setdefault("reel", clip.media.tape)
    return Shot(
        footage=footage,
        span=span,
        marker=first_marker.name if first_marker else "",
        keywords=tuple(
            dict.fromkeys(
                [
                    *(clip.keywords if clip else ()),
                    *(word for marker in (clip.markers if clip else ()) for word in marker.keywords),
                ]
            )
        ),
        note=(clip.note if clip else "") or (first_marker.note if first_marker else ""),
        colour=first_marker.colour if first_marker else "",
        circled=bool(clip and (clip.circled or any(marker.circled for marker in clip.markers))),
        metadata=metadata,
        origin=wanted.origin,
        warnings=tuple(warnings),
        way=way,
        clip=wanted.name,
        edited=wanted.place,
        problem=problem,
    )


def _transitions(wanted: Wanted, kind: Kind) -> list[Notice]:
    """Its transitions: in a finished picture they show, in the originals they do not."""
    clip = wanted.clip
    if clip is None:
        return []
    found = []
    for transition, frames, end in (
        (clip.transition_in, clip.transition_in.after if clip.transition_in else 0, "first"),
        (clip.transition_out, clip.transition_out.before if clip.transition_out else 0, "last"),
    ):
        if transition and frames:
            found.append(kind(end=end, frames=frames, transition=transition.kind))
    return found


def _covered(wanted: Wanted, kind: Kind) -> list[Notice]:
    length = wanted.place.record.length
    return [kind(frames=span.length, of=length, clip=name) for span, name in wanted.covered]


def _speed(speed: Fraction) -> list[Notice]:
    if speed == 1:
        return []
    return [FREEZE()] if speed == 0 else [OWN_SPEED(percent=float(speed * 100))]
