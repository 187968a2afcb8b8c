"""From the objects of OpenTimelineIO to our model of an edit."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping
from fractions import Fraction
from pathlib import Path
from typing import Any
from urllib.parse import unquote, urlsplit

from msgspec.structs import replace

from boxkite.core.edit.otio.clip_values import colour_decision_of, states_drop, values_of
from boxkite.core.edit.timeline import (
    Clip,
    ClipKind,
    EditMarker,
    MediaName,
    Timeline,
    Track,
    TrackKind,
    Transition,
)
from boxkite.core.errors import BoxkiteError
from boxkite.core.marks.ranges import YES
from boxkite.core.notices.edit import (
    DECISION_SKIPPED,
    ITEM_SKIPPED,
    MARKER_WITHOUT_TIME,
    NOT_A_TIMELINE,
    SPEED_NOT_LINEAR,
    TIMELINE_RANGE_UNUSED,
    TIMELINE_START_UNUSABLE,
    TIMELINE_WITHOUT_RATE,
)
from boxkite.core.notices.notice import Notice
from boxkite.core.timebase import FrameRate, Span, Timecode, frames_to_timecode, round_fraction

_DEEPEST_NESTING = 20


class TimelineReader:
    """Turns the library's objects into our model; what cannot be kept is in the notices."""

    def __init__(self, path: Path, notices: list[Notice]) -> None:
        import opentimelineio as otio

        self.schema = otio.schema
        self.path = path
        self.notices = notices
        self._on_gaps: list[EditMarker] = []
        """Markers on what makes no clip, of the stack that is being read."""

    def all_of(self, found: Any, depth: int = 0) -> Iterator[Timeline]:
        """Every timeline in what was read; a collection may hold several."""
        schema = self.schema
        if isinstance(found, schema.Timeline):
            if timeline := self._timeline(found):
                yield timeline
        elif isinstance(found, schema.SerializableCollection) and depth < _DEEPEST_NESTING:
            for child in found:
                yield from self.all_of(child, depth + 1)
        elif isinstance(found, (schema.Stack, schema.Track)):
            rate = _first_rate(found) or FrameRate(Fraction(24))
            yield self._stack(found, found.name or self.path.stem, rate, Timecode(0, rate), 0)
        else:
            name = str(getattr(found, "name", ""))
            self.notices.append(NOT_A_TIMELINE(name=name, type=type(found).__name__))

    def _timeline(self, found: Any) -> Timeline | None:
        start_time = found.global_start_time
        rate = (_rate(start_time.rate) if start_time else None) or _first_rate(found.tracks)
        if rate is None:
            self.notices.append(TIMELINE_WITHOUT_RATE(name=found.name))
            return None
        try:
            drop = states_drop(found.metadata)
            start = _start_timecode(_frames(start_time, rate) if start_time else 0, rate, drop)
        except ValueError:
            start, start_time = Timecode(0, rate), None
            self.notices.append(TIMELINE_START_UNUSABLE(name=found.name))
        if found.tracks.source_range is not None:
            self.notices.append(TIMELINE_RANGE_UNUSED(name=found.name))
        timeline = self._stack(found.tracks, found.name or self.path.stem, rate, start, 0)
        return replace(timeline, start_known=start_time is not None)

    def _stack(self, stack: Any, name: str, rate: FrameRate, start: Timecode, depth: int) -> Timeline:
        """A stack of tracks as a timeline; a clip directly in a stack gets a separate track."""
        outer, self._on_gaps = self._on_gaps, []
        children = [stack] if isinstance(stack, self.schema.Track) else list(stack or ())
        tracks: dict[TrackKind, list[Track]] = {TrackKind.PICTURE: [], TrackKind.AUDIO: []}
        for child in children:
            kind = TrackKind.AUDIO if getattr(child, "kind", "") == "Audio" else TrackKind.PICTURE
            number = len(tracks[kind]) + 1
            track_name = f"{'V' if kind is TrackKind.PICTURE else 'A'}{number}"
            inner = child if isinstance(child, self.schema.Track) else [child]
            tracks[kind].append(self._track(inner, kind, track_name, rate, depth))
        markers = [self._marker(one, rate, Fraction(0), Fraction(1)) for one in getattr(stack, "markers", ())]
        effects = tuple(_effect_name(effect) for effect in getattr(stack, "effects", ()))
        both = tuple(tracks[TrackKind.PICTURE] + tracks[TrackKind.AUDIO])
        markers += [
            self._marker(one, rate, Fraction(0), Fraction(1))
            for child in children
            if isinstance(child, self.schema.Track)
            for one in child.markers
        ]
        markers += self._on_gaps
        self._on_gaps = outer
        ordered = sorted((marker for marker in markers if marker), key=lambda marker: marker.start)
        return Timeline(name, rate, start, both, tuple(ordered), effects=effects)

    def _track(self, track: Any, kind: TrackKind, name: str, rate: FrameRate, depth: int) -> Track:
        schema = self.schema
        clips: list[Clip] = []
        waiting: Transition | None = None
        reached = Fraction(0)
        for number, item in enumerate(track, start=1):
            where = f"track {name}, item {number}"
            try:
                if isinstance(item, schema.Transition):
                    waiting = Transition(
                        (item.name or item.transition_type or "transition").replace("_", " ").lower(),
                        max(0, _frames(item.in_offset, rate)),
                        max(0, _frames(item.out_offset, rate)),
                    )
                    if clips and _frame(reached, rate) == clips[-1].record.end:
                        clips[-1] = replace(clips[-1], transition_out=waiting)
                    continue
                length = _seconds(item.duration())
                if length < 0:
                    raise ValueError("its length is below zero")
                record = Span(_frame(reached, rate), _frame(reached + length, rate))
                reached += length
                if isinstance(item, schema.Gap) or not record.length:
                    self._keep_markers(item, record, rate)
                else:
                    clip = self._clip(item, record, rate, where, depth)
                    clips.append(replace(clip, transition_in=waiting))
            except (
                ValueError,
                OverflowError,
                AttributeError,
                BoxkiteError,
                RuntimeError,
                TypeError,
            ) as error:
                label = getattr(item, "name", "") or type(item).__name__
                self.notices.append(ITEM_SKIPPED(name=label, reason=one_line(error)).of(where))
            waiting = None
        enabled = bool(getattr(track, "enabled", True))
        effects = tuple(_effect_name(effect) for effect in getattr(track, "effects", ()))
        return Track(kind, name, tuple(clips), enabled, effects)

    def _keep_markers(self, item: Any, record: Span, rate: FrameRate) -> None:
        """Take the markers of a gap, or of an item of no length, as markers of the timeline."""
        begin = _seconds(item.source_range.start_time) if item.source_range else Fraction(0)
        for one in item.markers:
            if marker := self._marker(one, rate, begin, Fraction(1), record.start):
                self._on_gaps.append(marker)

    def _clip(self, item: Any, record: Span, rate: FrameRate, where: str, depth: int) -> Clip:
        schema = self.schema
        values = values_of(item)
        speed, effects = self._speed_and_effects(item, where)
        trimmed = (
            item.trimmed_range().start_time if item.source_range or isinstance(item, schema.Clip) else None
        )
        source_rate = (_rate(trimmed.rate) if trimmed else None) or rate
        source_start = _frames(trimmed, source_rate) if trimmed else 0
        start_seconds = _seconds(trimmed) if trimmed else Fraction(0)
        markers = tuple(
            marker
            for one in item.markers
            if (marker := self._marker(one, rate, start_seconds, speed or Fraction(1), record.start))
        )
        metadata = {key: values[key] for key in ("scene", "shot", "take", "camera") if key in values}
        common: dict[str, Any] = {
            "name": item.name or "",
            "record": record,
            "source_start": source_start,
            "source_rate": source_rate,
            "speed": speed,
            "enabled": bool(item.enabled) and values.get("enabled", "true").lower() != "false",
            "origin": where,
            "effects": effects,
            "markers": markers,
            "keywords": tuple(name.strip() for name in values.get("keywords", "").split(",") if name.strip()),
            "note": values.get("note", ""),
            "circled": values.get("circled", "").casefold() in YES,
            "metadata": metadata,
            "event": values.get("event", ""),
        }
        if isinstance(item, (schema.Stack, schema.Track)):
            if depth >= _DEEPEST_NESTING:
                raise ValueError("timelines are nested too deep")
            inner_rate = _first_rate(item) or rate
            nested = self._stack(item, item.name or "nested", inner_rate, Timecode(0, inner_rate), depth + 1)
            return Clip(kind=ClipKind.TIMELINE, nested=nested, **(common | {"source_from_zero": True}))
        reference = item.media_reference
        if isinstance(reference, schema.GeneratorReference):
            black = "black" in str(reference.generator_kind).lower()
            return Clip(kind=ClipKind.BLACK if black else ClipKind.TITLE, **common)
        media = self._media(item, reference, values)
        decision, is_right = colour_decision_of(item)
        if not is_right:
            self.notices.append(DECISION_SKIPPED().of(where))
        return Clip(kind=ClipKind.MEDIA, media=media, colour_decision=decision, **common)

    def _media(self, item: Any, reference: Any, values: Mapping[str, str]) -> MediaName:
        path = ""
        if isinstance(reference, self.schema.ImageSequenceReference):
            if reference.number_of_images_in_sequence():
                path = _path_of(reference.target_url_for_image_number(0))
        elif isinstance(reference, self.schema.ExternalReference):
            path = _path_of(reference.target_url or "")
        available = getattr(reference, "available_range", None)
        rate = _rate(available.start_time.rate) if available else None
        first = _frames(available.start_time, rate) if available and rate else None
        name = (getattr(reference, "name", "") or "") if not path else ""
        return MediaName(
            name or Path(path).name or item.name or "", path, values.get("reel", ""), first, rate
        )

    def _speed_and_effects(self, item: Any, where: str) -> tuple[Fraction, tuple[str, ...]]:
        speed, names = Fraction(1), []
        for effect in item.effects:
            if isinstance(effect, self.schema.FreezeFrame):
                speed = Fraction(0)
            elif isinstance(effect, self.schema.LinearTimeWarp):
                if not math.isfinite(effect.time_scalar):
                    raise ValueError("its speed is no number")
                speed *= Fraction(effect.time_scalar).limit_denominator(10_000)
            else:
                if isinstance(effect, self.schema.TimeEffect):
                    self.notices.append(SPEED_NOT_LINEAR().of(where))
                names.append(_effect_name(effect))
        return speed, tuple(names)

    def _marker(
        self, marker: Any, rate: FrameRate, zero: Fraction, speed: Fraction, record_start: int = 0
    ) -> EditMarker | None:
        """A marker in frames of the timeline; zero: the time in its clip's counting that record_start shows."""
        values = values_of(marker)
        try:
            time = marker.marked_range
            start = record_start + _frame((_seconds(time.start_time) - zero) / speed, rate)
            length = _frame(_seconds(time.duration) / abs(speed), rate)
        except (ValueError, OverflowError, TypeError, AttributeError):
            self.notices.append(MARKER_WITHOUT_TIME(name=str(marker.name)))
            return None
        note = getattr(marker, "comment", "") or values.get("note", "")
        return EditMarker(
            marker.name or "",
            start,
            start + length if length > 1 else None,
            (marker.color or "").lower(),
            note,
            tuple(name.strip() for name in values.get("keywords", "").split(",") if name.strip()),
            values.get("circled", "").casefold() in YES,
        )


def one_line(error: Exception) -> str:
    """The first line of what an error says."""
    text = str(error).strip().splitlines()
    return (text[0] if text else type(error).__name__)[:150]


def _rate(value: float) -> FrameRate | None:
    """A rate that a file gives as a decimal, as the exact fraction it stands for; None for nonsense."""
    if not math.isfinite(value) or not 0 < value <= 1000:
        return None
    try:
        return FrameRate.parse(f"{value:.3f}".rstrip("0").rstrip("."))
    except BoxkiteError:
        return FrameRate.near(Fraction(value).limit_denominator(1001))


def _seconds(time: Any) -> Fraction:
    """A time in seconds, exactly. Raises ValueError for a time that is none."""
    rate = _rate(time.rate)
    if not math.isfinite(time.value) or not math.isfinite(time.rate) or time.rate <= 0:
        raise ValueError(f"{time.value} at {time.rate} a second is no time")
    per_second = (
        rate.fraction if rate else Fraction(time.rate).limit_denominator(1001)
    )  # else audio, in samples
    return Fraction(time.value).limit_denominator(1_000_000) / per_second


def _frame(seconds: Fraction, rate: FrameRate) -> int:
    return round_fraction(seconds * rate.fraction)


def _frames(time: Any, rate: FrameRate) -> int:
    return _frame(_seconds(time), rate)


def _first_rate(composition: Any, depth: int = 0) -> FrameRate | None:
    """The rate of the first item that has one: its trim, its length or its media."""
    from opentimelineio.core import Composition

    for child in composition or ():
        rate = None
        if isinstance(child, Composition) and depth < _DEEPEST_NESTING:
            rate = _first_rate(child, depth + 1)
        trimmed = getattr(child, "source_range", None)
        available = getattr(getattr(child, "media_reference", None), "available_range", None)
        for known in (trimmed, available):
            if rate is None and known and known.duration.value > 0:  # an empty gap counts at 1 fps
                rate = _rate(known.duration.rate)
        if rate:
            return rate
    return None


def _start_timecode(frame: int, rate: FrameRate, drop: bool | None) -> Timecode:
    """The timecode of a first frame. drop: its counting, None where only whole minutes tell it."""
    if not rate.can_drop:
        return Timecode(frame, rate)
    if drop is not None or frame == 0:
        return Timecode(frame, rate, bool(drop))
    round_in = [drop for drop in (True, False) if frames_to_timecode(frame, rate, drop=drop)[6:8] == "00"]
    exact = [drop for drop in round_in if int(frames_to_timecode(frame, rate, drop=drop)[9:]) == 0]
    return Timecode(frame, rate, exact[0] if exact else True)


def _path_of(url: str) -> str:
    """The path a target URL means; what is no file URL stays as written."""
    if not url.lower().startswith("file:"):
        return url
    parts = urlsplit(url)
    host = "" if parts.netloc in ("", "localhost") else f"//{parts.netloc}"
    path = unquote(parts.path)
    if len(path) > 2 and path[0] == "/" and path[2] == ":":
        path = path[1:]
    return host + path


def _effect_name(effect: Any) -> str:
    return str(effect.name or effect.effect_name or type(effect).__name__)
