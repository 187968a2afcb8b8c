"""Relinking keeps every frame: there and back, over edits of every shape."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path, PureWindowsPath

from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from boxkite.core.edit.otio.relinking import relinked_bytes
from boxkite.core.edit.otio.writing import write_otio_edit
from boxkite.core.edit.reading import read_edit
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
from boxkite.core.handover.relinking.matching import Relinker, clips_at
from boxkite.core.handover.relinking.targets import Target
from boxkite.core.shots.conforming import used_spans
from boxkite.core.shots.shot import IndexedSource
from boxkite.core.timebase import FrameRate, Span, Timecode
from tests.builders import indexed, make_source

RATES = [FrameRate.parse(text) for text in ("23.976", "25", "29.97", "50")]
SPEEDS = [Fraction(1), Fraction(1), Fraction(2), Fraction(-1), Fraction(0), Fraction(1, 2)]
HANDLE = 5


def owners(timeline: Timeline) -> list[tuple[Timeline, Clip]]:
    """The clips with media, each with the timeline it lies on."""
    found = []
    for track in timeline.tracks:
        for clip in track.clips:
            found += (
                owners(clip.nested)
                if clip.nested
                else [(timeline, clip)]
                if clip.kind is ClipKind.MEDIA
                else []
            )
    return found


def media_name(clip: Clip) -> str:
    return PureWindowsPath(clip.media.path or clip.media.name or clip.name).name or "nameless"


def all_of(edit: Edit) -> list[tuple[Timeline, Clip]]:
    return [one for timeline in edit.timelines for one in owners(timeline)]


def sources_of(edit: Edit, folder: Path) -> dict[str, IndexedSource]:
    """A made-up source for every medium of an edit, long enough for all its clips."""
    found: dict[str, IndexedSource] = {}
    for timeline, clip in all_of(edit):
        name = media_name(clip)
        rate = clip.source_rate or timeline.rate
        first = clip.media.first if clip.media.first is not None else max(0, clip.source_start - 500)
        before = found.get(name)
        if before is None or clip.source_start < before.start.frame:
            source = make_source(folder / name, reel=clip.media.reel)
            start = Timecode(min(first, clip.source_start), rate, clip.source_drop and rate.can_drop)
            footage = indexed(source)
            index = replace(footage.frame_index, rate=rate, frame_count=10**7)
            found[name] = replace(footage, start=start, has_timecode=True, frame_index=index)
    return found


def targets_for(edit: Edit, sources: dict[str, IndexedSource], folder: Path) -> list[Target]:
    """A file for every clip, with handles."""
    found = []
    for timeline, clip in all_of(edit):
        footage = sources[media_name(clip)]
        _, whole = used_spans(timeline, clip, footage)
        span = Span(max(0, whole.start - HANDLE), whole.end + HANDLE)
        rate = footage.frame_index.rate
        path = folder / f"shot{len(found)}.mov"
        found.append(Target(path, footage, span, footage.timecode(span.start), rate))
    return found


def source_frames(
    edit: Edit, by_path: dict[str, IndexedSource], targets: dict[str, Target]
) -> list[tuple[str, Span]]:
    """The frames of the sources that every clip shows, whatever it points at."""
    found = []
    for timeline, clip in all_of(edit):
        if target := targets.get(clip.media.path):
            shown, _ = used_spans(timeline, clip, target.as_source)
            first = target.span.start + shown.start
            found.append((str(target.source.source.path), Span(first, first + shown.length)))
        else:
            footage = by_path[clip.media.path]
            found.append((clip.media.path, used_spans(timeline, clip, footage)[0]))
    return found


def there_and_back(edit: Edit, folder: Path) -> int:
    """Relink to files and back through .otio; how many clips went both ways."""
    sources = sources_of(edit, folder)
    targets = targets_for(edit, sources, folder)
    by_path = {str(footage.source.path): footage for footage in sources.values()}
    there = Relinker(edit, targets, back=False).relinked()
    assert there.kept == ()
    written = folder / "there.otio"
    written.write_bytes(relinked_bytes(edit, there.timelines, there.pointings, ".otio"))
    again = read_edit(written)
    at_files = source_frames(again, by_path, {str(one.path): one for one in targets})
    assert [(clip.record, clip.markers) for _, clip in clips_at(again.timelines)] == [
        (clip.record, clip.markers) for _, clip in clips_at(edit.timelines)
    ]
    named = replace(edit, timelines=tuple(named_by(timeline, folder) for timeline in edit.timelines))
    assert at_files == source_frames(named, by_path, {})
    back = Relinker(again, targets, back=True).relinked()
    assert back.kept == ()
    written.write_bytes(relinked_bytes(again, back.timelines, back.pointings, ".otio"))
    home = read_edit(written)
    assert source_frames(home, by_path, {}) == at_files
    assert [(at, clip.record, clip.markers) for at, clip in clips_at(home.timelines)] == [
        (at, clip.record, clip.markers) for at, clip in clips_at(again.timelines)
    ]
    return len(at_files)


def named_by(timeline: Timeline, folder: Path) -> Timeline:
    """The same with media named by the paths of sources_of."""

    def named(clip: Clip) -> Clip:
        if clip.nested:
            return replace(clip, nested=named_by(clip.nested, folder))
        name = media_name(clip)
        return replace(clip, media=replace(clip.media, path=str(folder / name)))

    return replace(timeline, tracks=tuple(
        replace(track, clips=tuple(map(named, track.clips))) for track in timeline.tracks
    ))  # fmt: skip


@st.composite
def edits(draw: st.DrawFn) -> Timeline:
    rate = draw(st.sampled_from(RATES))

    def track(kind: TrackKind, name: str) -> Track:
        clips: list[Clip] = []
        reached = 0
        for number in range(draw(st.integers(1, 5))):
            reached += draw(st.sampled_from([0, 0, 7]))
            length = draw(st.integers(20, 60))
            start = 90_000 + draw(st.integers(0, 5000))
            media = MediaName(f"m{draw(st.integers(0, 2))}.mov", rate=rate)
            speed = draw(
                st.sampled_from(
                    [Fraction(1), Fraction(1), Fraction(2), Fraction(-1), Fraction(0), Fraction(1, 2)]
                )
            )
            touches = bool(clips) and clips[-1].record.end == reached and kind is TrackKind.PICTURE
            mixed = (
                Transition("dissolve", 4, draw(st.integers(0, 6)))
                if touches and draw(st.booleans())
                else None
            )
            if mixed:
                clips[-1] = replace(clips[-1], transition_out=mixed)
            marker = EditMarker("dip", reached + 3, note="n")
            clips.append(Clip(f"c{number}", ClipKind.MEDIA, Span(reached, reached + length), media, start, rate,
                              speed=speed, transition_in=mixed, markers=(marker,) if speed == 1 else ()))  # fmt: skip
            reached += length
        return Track(kind, name, tuple(clips))

    tracks = [track(TrackKind.PICTURE, f"V{number}") for number in range(1, draw(st.integers(1, 2)) + 1)]
    return Timeline("day", rate, Timecode(0, rate), (*tracks, track(TrackKind.AUDIO, "A1")))


@settings(max_examples=30, deadline=None)
@given(edits())
def test_every_clip_shows_the_same_frames_at_its_file_and_back_at_its_original(
    tmp_path_factory, timeline: Timeline
) -> None:
    folder = tmp_path_factory.mktemp("edit")
    write_otio_edit(folder / "day.otio", timeline)
    assert there_and_back(read_edit(folder / "day.otio"), folder) == sum(
        len(track.clips) for track in timeline.tracks
    )
