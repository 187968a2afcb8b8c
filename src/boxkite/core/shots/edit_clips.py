"""The clips and timelines of an edit that become shots; their footage is found later."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Iterator, Sequence
from fractions import Fraction

from msgspec import Struct
from msgspec.structs import replace

from boxkite.core.edit.timeline import Clip, ClipKind, Timeline, Track, TrackKind
from boxkite.core.footage.kinds import MEDIA_SUFFIXES
from boxkite.core.notices.notice import Notice
from boxkite.core.notices.shots import AUDIO, BLACK, DISABLED, TITLE
from boxkite.core.shots.shot import EditPlace, LeftOut
from boxkite.core.timebase import Span, round_fraction

_DEEPEST = 50


class Wanted(Struct, frozen=True):
    """A clip or a timeline to hand over. clip is None for a whole timeline."""

    timeline: Timeline
    place: EditPlace
    """Where it lies on `timeline`, the outermost one."""
    name: str
    origin: str
    clip: Clip | None = None
    head: Fraction = Fraction(0)
    """Frames of that timeline cut off its clip's start, where a nested timeline shows only part of it."""
    speed: Fraction = Fraction(1)
    """Of the clip, and of all it is nested in."""
    effects: tuple[str, ...] = ()
    covered: tuple[tuple[Span, str], ...] = ()
    titles: tuple[str, ...] = ()


class PlacedClip(Struct, frozen=True):
    """A clip laid on the outermost timeline."""

    clip: Clip
    track: str
    layer: tuple[int, ...]
    """The tracks it lies on, from the outermost in."""
    record: Span
    head: Fraction
    speed: Fraction
    effects: tuple[str, ...]
    titles: tuple[str, ...] = ()


def wanted_clips(timeline: Timeline, origin: str) -> tuple[list[Wanted], list[LeftOut]]:
    """Every enabled picture clip of a timeline and of those nested in it, in the order of time.

    Titles, generators, black, disabled clips and audio are what is left out.
    """
    left_out: list[LeftOut] = []
    flat = list(flattened(timeline, left_out, origin))
    flat.sort(key=lambda one: (one.record.start, one.layer))
    covers = _Covers(flat)
    wanted = [
        Wanted(
            timeline,
            EditPlace(timeline.name, one.track, one.clip.event, one.record, timeline.start),
            _plain_name(one.clip),
            f"{origin}, {one.clip.origin}",
            one.clip,
            one.head,
            one.speed,
            one.effects,
            covers.of(one),
            tuple(dict.fromkeys(one.titles)),
        )
        for one in flat
        if one.clip.kind is ClipKind.MEDIA
    ]
    return wanted, left_out


def wanted_timelines(timelines: Sequence[Timeline], depth: int, origin: str) -> list[Wanted]:
    """Each timeline as a whole, and those nested in it down to `depth` levels, each once, where it first shows."""
    found: dict[str, Wanted] = {}
    for timeline in timelines:
        whole = Span(0, timeline.length)
        found.setdefault(timeline.name, _whole(timeline, timeline, whole, origin, ()))
    for timeline in timelines:
        for inner, record, effects in _nested(timeline, Span(0, timeline.length), depth):
            found.setdefault(inner.name, _whole(timeline, inner, record, origin, effects))
    return [wanted for wanted in found.values() if wanted.place.record.length]


def _whole(
    outer: Timeline, timeline: Timeline, record: Span, origin: str, effects: tuple[str, ...]
) -> Wanted:
    place = EditPlace(timeline.name, "", "", record, outer.start)
    return Wanted(outer, place, timeline.name, f"{origin}, timeline “{timeline.name}”", effects=effects)


def _nested(timeline: Timeline, limit: Span, depth: int) -> Iterator[tuple[Timeline, Span, tuple[str, ...]]]:
    """(nested timeline, where it shows, effects on it) of each enabled one, at the rate of the outermost."""
    if depth < 1:
        return
    for track in timeline.picture_tracks:
        for clip in track.clips:
            if clip.nested and clip.enabled and track.enabled:
                yield clip.nested, clip.record.clipped_to(limit), clip.effects
                inner = _Laying(timeline, clip)
                for deeper, record, effects in _nested(clip.nested, Span(0, clip.nested.length), depth - 1):
                    span = inner.laid(record)[0]
                    if span.length:
                        yield deeper, span, effects


class _Laying:
    """From the frames of a nested timeline to those of the one it lies in."""

    def __init__(self, outer: Timeline, clip: Clip) -> None:
        assert clip.nested
        self.record = clip.record
        self.start = clip.source_start
        speed = clip.speed if clip.speed > 0 else Fraction(1)
        self.scale = outer.rate.fraction / clip.nested.rate.fraction / speed
        if outer.rate.nominal == clip.nested.rate.nominal:
            self.scale = 1 / speed

    def laid(self, inner: Span) -> tuple[Span, Fraction]:
        """(where an inner span shows, how many frames of it are cut off at its head)."""
        start = self.record.start + (inner.start - self.start) * self.scale
        end = self.record.start + (inner.end - self.start) * self.scale
        whole = Span(round_fraction(start), max(round_fraction(start), round_fraction(end)))
        shown = whole.clipped_to(self.record)
        return shown, Fraction(shown.start - whole.start)


def flattened(
    timeline: Timeline, left_out: list[LeftOut], origin: str, level: int = 0
) -> Iterator[PlacedClip]:
    """Every enabled picture clip of a timeline, those of nested ones laid on it; what is none goes to left_out."""
    pictures = timeline.picture_tracks
    for number, track in enumerate(pictures):
        above = _effects_above(pictures[number + 1 :])
        titles = _titles_above(pictures[number + 1 :])
        for clip in track.clips:
            reason = _reason_to_leave_out(clip, track)
            if reason:
                left_out.append(LeftOut(clip.name or clip.kind.value, f"{origin}, {clip.origin}", reason))
            if reason or clip.kind not in (ClipKind.MEDIA, ClipKind.TIMELINE):
                if not reason or reason.is_a(BLACK):
                    yield PlacedClip(clip, track.name, (number,), clip.record, Fraction(0), Fraction(1), ())
                continue
            effects = (*clip.effects, *track.effects, *timeline.effects)
            effects += tuple(name for span, name in above if _meet(span, clip.record))
            over = tuple(name for span, name in titles if _meet(span, clip.record))
            if clip.nested and level < _DEEPEST:
                for inner in _opened(
                    timeline, clip, number, track, effects, left_out, f"{origin}, “{clip.nested.name}”", level
                ):
                    yield replace(inner, titles=(*inner.titles, *over)) if over else inner
            elif clip.kind is ClipKind.MEDIA:
                yield PlacedClip(
                    clip, track.name, (number,), clip.record, Fraction(0), clip.speed, effects, over
                )
    for track in timeline.tracks:
        if track.kind is TrackKind.AUDIO:
            left_out += [LeftOut(clip.name, f"{origin}, {clip.origin}", AUDIO()) for clip in track.clips]


def _opened(
    timeline: Timeline,
    clip: Clip,
    number: int,
    track: Track,
    effects: tuple[str, ...],
    left_out: list[LeftOut],
    origin: str,
    level: int,
) -> Iterator[PlacedClip]:
    """The clips inside a nested timeline, as far as it shows them."""
    assert clip.nested
    laying = _Laying(timeline, clip)
    for inner in flattened(clip.nested, left_out, origin, level + 1):
        record, head = laying.laid(inner.record)
        if record.length:
            yield PlacedClip(
                inner.clip,
                track.name,
                (number, *inner.layer),
                record,
                head + inner.head,
                inner.speed * clip.speed,
                (*inner.effects, *effects),
                inner.titles,
            )


def _reason_to_leave_out(clip: Clip, track: Track) -> Notice | None:
    if not clip.enabled or not track.enabled:
        return DISABLED()
    if clip.kind is ClipKind.TITLE:
        return TITLE()
    return BLACK() if clip.kind is ClipKind.BLACK else None


def _effects_above(tracks: Sequence[Track]) -> list[tuple[Span, str]]:
    """Effects that tracks above lay over what is below them: clips that carry nothing but effects."""
    return [
        (clip.record, name)
        for track in tracks
        if track.enabled
        for clip in track.clips
        if clip.enabled and clip.kind is ClipKind.TITLE
        for name in clip.effects
    ]


def _titles_above(tracks: Sequence[Track]) -> list[tuple[Span, str]]:
    """Titles and other generators on tracks above that show something separate."""
    return [
        (clip.record, clip.name or clip.kind.value)
        for track in tracks
        if track.enabled
        for clip in track.clips
        if clip.enabled and clip.kind is ClipKind.TITLE and not clip.effects
    ]


def _meet(first: Span, second: Span) -> bool:
    return first.start < second.end and second.start < first.end


class _Covers:
    """Which clips lie over others, found by their tracks."""

    def __init__(self, flat: Sequence[PlacedClip]) -> None:
        self.by_layer: dict[tuple[int, ...], list[PlacedClip]] = {}
        for one in flat:
            self.by_layer.setdefault(one.layer, []).append(one)
        self.ends = {layer: [one.record.end for one in clips] for layer, clips in self.by_layer.items()}

    def of(self, below: PlacedClip) -> tuple[tuple[Span, str], ...]:
        """(frames that are hidden, by what) for one clip."""
        found = []
        for layer, clips in self.by_layer.items():
            if _is_over(layer, below.layer):
                first = bisect_left(self.ends[layer], below.record.start + 1)
                for one in clips[first:]:
                    if one.record.start >= below.record.end:
                        break
                    found.append((one.record.clipped_to(below.record), f"{one.clip.name} on {one.track}"))
        return tuple(sorted(found))


def _is_over(layer: tuple[int, ...], below: tuple[int, ...]) -> bool:
    """Whether one stack of tracks lies over another; a track never covers itself."""
    return layer != below and layer[: len(below)] != below and below[: len(layer)] != layer and layer > below


def _plain_name(clip: Clip) -> str:
    """The name of a clip without the extension of a media file."""
    name = clip.name or clip.media.label
    stem, dot, extension = name.rpartition(".")
    return stem if dot and stem and f".{extension.lower()}" in MEDIA_SUFFIXES else name
