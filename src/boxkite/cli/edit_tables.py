"""Timelines as tables and as JSON."""

from __future__ import annotations

from collections.abc import Sequence
from fractions import Fraction
from pathlib import Path
from typing import TYPE_CHECKING, Any

from msgspec.structs import asdict, replace

from boxkite.cli.screen import Screen
from boxkite.cli.tables import Column, counted, print_json, print_table
from boxkite.core.edit.edl.events import read_events
from boxkite.core.edit.edl.timelines import guessed_rate, stated_rate
from boxkite.core.edit.reading import read_edit
from boxkite.core.edit.timeline import ClipKind
from boxkite.core.notices.edit import RATE_GUESSED
from boxkite.core.notices.notice import notice_as_json
from boxkite.core.timebase import FrameRate, Timecode

if TYPE_CHECKING:
    from boxkite.core.edit.timeline import Clip, Edit, Timeline, Transition

_COLUMNS = [
    Column("event"),
    Column("track"),
    Column("clip", gives_way=True),
    Column("record in"),
    Column("frames", right=True),
    Column("source in", optional=True),
    Column("reel", optional=True, gives_way=True),
    Column("notes", gives_way=True),
]


def show_edits(paths: Sequence[Path], rate_text: str | None, *, as_json: bool) -> int:
    """Show the timelines of some files; rate_text: of edit decision lists."""
    rate = FrameRate.parse(rate_text) if rate_text else None
    edits = [_read(path, rate) for path in paths]
    if as_json:
        print_json(
            {
                "edits": [
                    {
                        "path": str(edit.path),
                        "kind": edit.kind,
                        "timelines": [_timeline_as_json(timeline) for timeline in edit.timelines],
                        "warnings": list(map(notice_as_json, edit.warnings)),
                    }
                    for edit in edits
                ]
            },
            "inspect",
        )
        return 0
    screen = Screen()
    for edit in edits:
        for timeline in edit.timelines:
            _show(screen, timeline)
        for warning in edit.warnings:
            screen.print(f"! {edit.path.name}: {warning.marked}", "yellow")
    return 0


def _read(path: Path, rate: FrameRate | None) -> Edit:
    """An edit; where neither a list nor its timecodes tell the rate, a guess that is reported."""
    if rate or path.suffix.lower() != ".edl":
        return read_edit(path, rate)
    lists, _ = read_events(path)
    if rate := stated_rate(lists):
        return read_edit(path, rate)
    guess = guessed_rate(lists)
    edit = read_edit(path, guess)
    return replace(edit, warnings=(RATE_GUESSED(rate=str(guess)), *edit.warnings))


def _show(screen: Screen, timeline: Timeline) -> None:
    clips = sum(len(track.clips) for track in timeline.picture_tracks)
    pictures, audio = len(timeline.picture_tracks), len(timeline.audio_tracks)
    tracks = f"{counted(pictures, 'picture track')}, {counted(audio, 'audio track')}"
    length = Timecode(timeline.length, timeline.rate, timeline.start.drop)
    title = f"{timeline.name}: {timeline.rate} fps from {timeline.start}, {length}; {tracks}"
    screen.print(f"{title}, {counted(clips, 'clip')}", "bold")
    rows = [
        [
            clip.event,
            track.name,
            clip.name,
            str(timeline.start + clip.record.start),
            str(clip.record.length),
            str(_source_in(clip)) if clip.kind is ClipKind.MEDIA else "",
            clip.media.reel,
            _what_else(clip, track.enabled),
        ]
        for track in timeline.tracks
        for clip in track.clips
    ]
    shown = [index for index in range(len(_COLUMNS)) if any(row[index] for row in rows)]
    print_table(
        screen, [_COLUMNS[index] for index in shown], [[row[index] for index in shown] for row in rows]
    )
    for marker in timeline.markers:
        screen.print(f"  marker {timeline.start + marker.start}  {marker.name}")
    screen.print()
    for nested in timeline.nested_timelines():
        _show(screen, nested)


def _source_in(clip: Clip) -> Timecode | int:
    rate = clip.source_rate
    return (
        Timecode(clip.source_start, rate, clip.source_drop and rate.can_drop) if rate else clip.source_start
    )


def _what_else(clip: Clip, track_enabled: bool) -> str:
    parts = [] if clip.kind.value == "media" else [clip.kind.value]
    if not clip.enabled or not track_enabled:
        parts.append("disabled")
    if clip.transition_in:
        parts.append(f"{clip.transition_in.kind} of {clip.transition_in.length}")
    if clip.speed != 1:
        parts.append(f"{float(clip.speed * 100):.4g} %")
    parts += clip.effects
    if clip.colour_decision:
        parts.append("CDL")
    if clip.circled:
        parts.append("circled")
    parts += clip.keywords
    parts += [f"marker {marker.name}" for marker in clip.markers]
    return ", ".join(parts)


def _timeline_as_json(timeline: Timeline) -> dict[str, Any]:
    return {
        "name": timeline.name,
        "rate": str(timeline.rate),
        "start": str(timeline.start),
        "start_known": timeline.start_known,
        "frames": timeline.length,
        "tracks": [
            {
                "name": track.name,
                "kind": track.kind.value,
                "enabled": track.enabled,
                "clips": [_clip_as_json(clip, timeline) for clip in track.clips],
            }
            for track in timeline.tracks
        ],
        "markers": [asdict(marker) for marker in timeline.markers],
    }


def _clip_as_json(clip: Clip, timeline: Timeline) -> dict[str, Any]:
    rate = clip.source_rate
    frames = abs(clip.record.length * clip.speed)
    if clip.source_frames is not None:
        frames = Fraction(clip.source_frames)
    elif rate and rate.nominal != timeline.rate.nominal:
        frames = frames * rate.fraction / timeline.rate.fraction
    source_in = _source_in(clip)
    return {
        "event": clip.event,
        "name": clip.name,
        "kind": clip.kind.value,
        "enabled": clip.enabled,
        "record_in": str(timeline.start + clip.record.start),
        "record_out": str(timeline.start + clip.record.end),
        "record_in_frame": clip.record.start,
        "record_out_frame": clip.record.end,
        "source_in": str(source_in),
        "source_out": str(source_in + round(frames)),
        "source_in_frame": clip.source_start,
        "reel": clip.media.reel,
        "media": clip.media.name,
        "media_path": clip.media.path,
        "speed": _number(clip.speed),
        "transition_in": _transition(clip.transition_in),
        "transition_out": _transition(clip.transition_out),
        "effects": list(clip.effects),
        "keywords": list(clip.keywords),
        "circled": clip.circled,
        "note": clip.note,
        "markers": [asdict(marker) for marker in clip.markers],
        "colour_decision": clip.colour_decision and asdict(clip.colour_decision),
        "metadata": dict(clip.metadata),
        "origin": clip.origin,
        "nested": clip.nested and _timeline_as_json(clip.nested),
    }


def _number(value: Fraction) -> float | int:
    return int(value) if value.denominator == 1 else float(value)


def _transition(transition: Transition | None) -> dict[str, Any] | None:
    return asdict(transition) if transition else None
