"""From the events of an edit decision list to a timeline, once the rate is known."""

from __future__ import annotations

from collections.abc import Sequence
from fractions import Fraction
from pathlib import Path

from msgspec.structs import replace

from boxkite.core.edit.edl.events import read_events
from boxkite.core.edit.edl.model import Event, EventList, WrittenMarker
from boxkite.core.edit.timeline import (
    Clip,
    ClipKind,
    Edit,
    EditMarker,
    MediaName,
    Timeline,
    Track,
    TrackKind,
    Transition,
)
from boxkite.core.errors import BoxkiteError, MarksError, setting
from boxkite.core.marks.mark import WrittenTime
from boxkite.core.notices.edit import (
    EVENT_SKIPPED,
    EVENT_WITHOUT_LENGTH,
    EVENTS_OVERLAP,
    NAMED_MARKER_SKIPPED,
    SPEED_ASSUMED,
    TRANSITION_TOO_LONG,
)
from boxkite.core.notices.notice import Notice
from boxkite.core.timebase import FrameRate, Span, Timecode, frames_per_day, timecode_to_frames

_TRANSITION_NAMES = {"D": "dissolve", "W": "wipe", "K": "key"}
_BLACK_REELS = frozenset({"BL", "BLK", "BLACK"})
_AUXILIARY_REELS = frozenset({"AX", "AUX"})
_DROP_RATE = FrameRate.parse("29.97")
_LENGTH = len("00:00:00:00")


def read_edl_edit(path: Path, rate: FrameRate | None) -> Edit:
    """Read an edit decision list as timelines, one for each TITLE.

    rate: frames a second it counts at, which it does not say itself; None takes 29.97 where it counts
    drop-frame. Raises MarksError where the rate is needed, and for a list without one usable event.
    """
    lists, read = read_events(path)
    rate = rate or stated_rate(lists)
    if rate is None:
        raise MarksError(
            "an edit decision list does not say its rate",
            path=path,
            hint=f"say it with {setting('marks-rate')}, as {setting('marks-rate')} 25",
        )
    notices = list(read)
    timelines = [_timeline(found, rate, path, notices) for found in lists]
    usable = tuple(found for found in timelines if found.tracks)
    if not usable:
        raise MarksError(
            f"there is no usable event in this list: {notices[0] if notices else 'none fills a track'}",
            path=path,
        )
    return Edit(path, "edit decision list", usable, tuple(notices))


def guessed_rate(lists: Sequence[EventList]) -> FrameRate:
    """The slowest usual rate that has every frame number of a list: good enough to look at it, not to cut by."""
    times = [
        time for found in lists for event in found.events for time in (event.record_in, event.record_out)
    ]
    highest = max(int(time.text.rpartition(":")[2]) for time in times)
    return next(
        rate
        for rate in map(FrameRate.parse, ("24", "25", "30", "50", "60", "1000"))
        if highest < rate.nominal
    )


def stated_rate(lists: Sequence[EventList]) -> FrameRate | None:
    """The rate a list gives away: only 29.97 counts drop-frame in events of up to 30 frames a second."""
    times = [
        time for found in lists for event in found.events for time in (event.record_in, event.record_out)
    ]
    if not times or not all(time.drop for time in times):
        return None
    highest = max(int(time.text.rpartition(":")[2]) for time in times)
    return _DROP_RATE if highest < _DROP_RATE.nominal else FrameRate(_DROP_RATE.fraction * 2)


def _timeline(found: EventList, rate: FrameRate, path: Path, notices: list[Notice]) -> Timeline:
    counting = _Counting(rate, _record_drop(found) and rate.can_drop)
    placed = _records(found, counting, notices)
    start = min((record.start for _, record in placed), default=0)
    by_track: dict[str, list[Clip]] = {}
    for event, record in placed:
        span = Span(record.start - start, record.end - start)
        try:
            clip = _clip(event, span, counting, notices)
        except BoxkiteError as error:
            notices.append(EVENT_SKIPPED(event=event.number, reason=error.message).of(f"line {event.line}"))
            continue
        for name in _track_names(event):
            by_track.setdefault(name, []).append(clip)
    markers = _markers(found.markers, counting, start, notices)
    return Timeline(
        found.title or path.stem,
        rate,
        Timecode(start, rate, counting.record_drop),
        tuple(_tracks(by_track, notices)),
        markers,
    )


def _records(found: EventList, counting: _Counting, notices: list[Notice]) -> list[tuple[Event, Span]]:
    """The events that have a length, with where they lie on the tape; a tape may run over midnight."""
    day = frames_per_day(counting.rate, drop=counting.record_drop)
    times: list[tuple[Event, int, int]] = []
    for event in found.events:
        try:
            record_in, record_out = counting.record(event.record_in), counting.record(event.record_out)
            if record_out < record_in - day // 2:
                record_out += day
            if record_out > record_in:
                times.append((event, record_in, record_out))
            elif record_out < record_in or event.transition not in ("C", "KB"):
                notices.append(EVENT_WITHOUT_LENGTH(event=event.number).of(f"line {event.line}"))
        except BoxkiteError as error:
            notices.append(EVENT_SKIPPED(event=event.number, reason=error.message).of(f"line {event.line}"))
    latest = max((record_in for _, record_in, _ in times), default=0)
    return [
        (event, Span(record_in + late, record_out + late))
        for event, record_in, record_out in times
        for late in [day if latest - record_in > day // 2 else 0]
    ]


def _record_drop(found: EventList) -> bool:
    """Whether the finished tape counts drop-frame: one tape has one way, the first that is stated."""
    stated = [time.drop for event in found.events for time in (event.record_in,) if time.drop is not None]
    return bool(stated and stated[0]) if found.drop is None else found.drop


class _Counting:
    """Timecodes of a list to frames since midnight at its rate."""

    def __init__(self, rate: FrameRate, record_drop: bool) -> None:
        self.rate = rate
        self.record_drop = record_drop
        self._nominal = rate.nominal

    def record(self, time: WrittenTime) -> int:
        return self._frames(time.text, self.record_drop)

    def _frames(self, text: str, drop: bool) -> int:
        """timecode_to_frames, the usual form at once: there are many."""
        if not drop and len(text) == _LENGTH and text.replace(":", "").isdecimal():
            hours, minutes, seconds, frames = int(text[:2]), int(text[3:5]), int(text[6:8]), int(text[9:])
            if hours < 24 and minutes < 60 and seconds < 60 and frames < self._nominal:
                return ((hours * 60 + minutes) * 60 + seconds) * self._nominal + frames
        return timecode_to_frames(text, self.rate, drop=drop)[0]

    def source(self, event: Event, length: int) -> tuple[int, int, bool]:
        """(in, out, drop) of the media; where the stated counting does not give its length, the other is tried."""
        stated = bool(event.source_in.drop) and self.rate.can_drop
        choices = (stated, not stated) if self.rate.can_drop and not event.speed_fps else (stated,)
        found: list[tuple[int, int, bool]] = []
        problem: BoxkiteError | None = None
        for drop in choices:
            try:
                frames = [self._frames(time.text, drop) for time in (event.source_in, event.source_out)]
            except BoxkiteError as error:
                problem = problem or error
                continue
            found.append((frames[0], frames[1], drop))
        if not found:
            assert problem
            raise problem
        return next((one for one in found if one[1] - one[0] == length), found[0])


def _clip(event: Event, record: Span, counting: _Counting, notices: list[Notice]) -> Clip:
    source_in, source_out, drop = counting.source(event, record.length)
    kind = _kind(event)
    speed = (
        Fraction(1)
        if kind is ClipKind.BLACK
        else _speed(event, record, source_out - source_in, counting, notices)
    )
    transition = None
    if event.transition[0] in "DW" or (event.transition == "K" and event.transition_frames):
        name = event.effect or _TRANSITION_NAMES[event.transition[0]]
        code = f" {event.transition}" if event.transition[0] == "W" else ""
        if event.transition_frames > record.length:
            too_long = TRANSITION_TOO_LONG(
                event=event.number,
                transition=name,
                transition_frames=event.transition_frames,
                frames=record.length,
            )
            notices.append(too_long.of(f"line {event.line}"))
        transition = Transition(f"{name.lower()}{code}", 0, min(event.transition_frames, record.length))
    name = event.clip_name or event.source_file.replace("\\", "/").rpartition("/")[2] or event.reel
    auxiliary = event.reel.upper() in _AUXILIARY_REELS
    return Clip(
        name=name,
        kind=kind,
        record=record,
        media=MediaName(name, event.source_file, event.reel),
        source_start=source_in,
        source_rate=counting.rate,
        source_from_zero=None if auxiliary else False,
        source_drop=drop,
        source_frames=source_out - source_in,
        speed=speed,
        event=event.number,
        origin=f"line {event.line}",
        transition_in=transition,
        effects=(event.effect,) if event.effect and not transition else (),
        note="; ".join(event.comments),
        colour_decision=event.colour_decision,
    )


def _kind(event: Event) -> ClipKind:
    if event.reel.upper() in _BLACK_REELS:
        return ClipKind.BLACK
    if event.transition in ("K", "KO") and event.reel.upper() in _AUXILIARY_REELS and not event.source_file:
        return ClipKind.TITLE
    return ClipKind.MEDIA


def _speed(
    event: Event, record: Span, source_length: int, counting: _Counting, notices: list[Notice]
) -> Fraction:
    if event.speed_fps:
        stated = Fraction(event.speed_fps)
        for normal in (Fraction(counting.rate.nominal), counting.rate.fraction):
            if abs(abs(stated) - normal) <= Fraction(1, 20):
                return Fraction(1) if stated > 0 else Fraction(-1)
        return stated / counting.rate.nominal
    if source_length == record.length or not record.length:
        return Fraction(1)
    assumed = SPEED_ASSUMED(event=event.number, source_frames=source_length, frames=record.length)
    notices.append(assumed.of(f"line {event.line}"))
    return Fraction(source_length, record.length)


def _track_names(event: Event) -> list[str]:
    """The tracks an event fills; what is laid over others goes one picture track up."""
    over = event.transition in ("K", "KO")
    return [f"V{int(name[1:]) + 1}" if over and name[0] == "V" else name for name in event.channels]


def _tracks(by_track: dict[str, list[Clip]], notices: list[Notice]) -> list[Track]:
    tracks = []
    for name in sorted(by_track, key=lambda name: (name[0] != "V", int(name[1:]))):
        ordered = sorted(by_track[name], key=lambda clip: (clip.record.start, clip.record.end))
        clips: list[Clip] = []
        for clip in ordered:
            if clips and clip.record.start < clips[-1].record.end and name[0] == "V":
                over = clips[-1].record.end - clip.record.start
                overlap = EVENTS_OVERLAP(event=clip.event, frames=over, other=clips[-1].event, track=name)
                notices.append(overlap.of(clip.origin))
            clips.append(clip)
        kind = TrackKind.PICTURE if name[0] == "V" else TrackKind.AUDIO
        tracks.append(Track(kind, name, tuple(_with_outgoing(clips))))
    return tracks


def _with_outgoing(clips: list[Clip]) -> list[Clip]:
    """The clips with each transition known to the clip before it too, whose media run on beneath it."""
    found = list(clips)
    for index in range(1, len(clips)):
        transition = clips[index].transition_in
        if transition and clips[index - 1].record.end == clips[index].record.start:
            found[index - 1] = replace(found[index - 1], transition_out=transition)
    return found


def _markers(
    written: Sequence[WrittenMarker], counting: _Counting, start: int, notices: list[Notice]
) -> tuple[EditMarker, ...]:
    markers = []
    for marker in written:
        try:
            frame = counting.record(marker.time) - start
        except BoxkiteError as error:
            skipped = NAMED_MARKER_SKIPPED(name=marker.name, reason=error.message)
            notices.append(skipped.of(f"line {marker.time.line}"))
            continue
        end = frame + int(marker.length) if marker.length else None
        markers.append(EditMarker(marker.name, frame, end, marker.colour, marker.note))
    return tuple(markers)
