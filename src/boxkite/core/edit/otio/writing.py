"""Writing a timeline by OpenTimelineIO."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path
from typing import Any

from boxkite.core.edit.timeline import Clip, ClipKind, EditMarker, Timeline, Track, TrackKind
from boxkite.core.files.writing import create_file
from boxkite.core.timebase import FrameRate


def write_otio_edit(path: Path, timeline: Timeline) -> None:
    """Write a timeline with all it holds as .otio. Media paths are written as they are."""
    import opentimelineio as otio

    text = otio.adapters.write_to_string(objects_of(timeline), "otio_json")
    create_file(path, text.encode("utf-8", "surrogateescape"))


def objects_of(timeline: Timeline) -> Any:
    """A timeline as the library's object."""
    import opentimelineio as otio

    writer = _Writer(otio)
    written = otio.schema.Timeline(
        timeline.name, global_start_time=writer.time(timeline.start.frame, timeline.rate)
    )
    written.tracks = writer.stack(timeline)
    return written


class _Writer:
    """Our model as the library's objects."""

    def __init__(self, otio: Any) -> None:
        self.schema = otio.schema
        self.opentime = otio.opentime

    def time(self, frames: int, rate: FrameRate) -> Any:
        return self.opentime.RationalTime(frames, float(rate.fraction))

    def range(self, start: int, length: int, rate: FrameRate) -> Any:
        return self.opentime.TimeRange(self.time(start, rate), self.time(length, rate))

    def stack(self, timeline: Timeline) -> Any:
        stack = self.schema.Stack(timeline.name)
        for track in timeline.tracks:
            stack.append(self.track(track, timeline.rate))
        stack.markers.extend([self.marker(marker, 0, timeline.rate) for marker in timeline.markers])
        return stack

    def track(self, track: Track, rate: FrameRate) -> Any:
        kind = "Video" if track.kind is TrackKind.PICTURE else "Audio"
        written = self.schema.Track(track.name, kind=kind)
        written.enabled = track.enabled
        reached = 0
        for clip in track.clips:
            if clip.record.start > reached:
                written.append(self.schema.Gap(source_range=self.range(0, clip.record.start - reached, rate)))
            if clip.transition_in:
                transition = self.schema.Transition(
                    clip.transition_in.kind,
                    "SMPTE_Dissolve",
                    self.time(clip.transition_in.before, rate),
                    self.time(clip.transition_in.after, rate),
                )
                written.append(transition)
            written.append(self.item(clip, rate))
            reached = clip.record.end
        return written

    def item(self, clip: Clip, rate: FrameRate) -> Any:
        source_rate = clip.source_rate or rate
        length = round(clip.record.length * source_rate.fraction / rate.fraction)
        trimmed = self.range(clip.source_start, length, source_rate)
        if clip.nested:
            item = self.stack(clip.nested)
            item.source_range = trimmed
        else:
            item = self.schema.Clip(clip.name, self.reference(clip, source_rate), trimmed)
        item.enabled = clip.enabled
        if clip.speed == 0:
            item.effects.append(self.schema.FreezeFrame())
        elif clip.speed != Fraction(1):
            item.effects.append(self.schema.LinearTimeWarp(time_scalar=float(clip.speed)))
        item.effects.extend([self.schema.Effect(name, name) for name in clip.effects])
        item.markers.extend(
            [self.marker(one, clip.source_start - clip.record.start, rate) for one in clip.markers]
        )
        values = {
            "keywords": list(clip.keywords),
            "note": clip.note,
            "circled": clip.circled,
            "reel": clip.media.reel,
        }
        if any(values.values()):
            item.metadata["boxkite"] = {key: value for key, value in values.items() if value}
        return item

    def reference(self, clip: Clip, source_rate: FrameRate) -> Any:
        if clip.kind in (ClipKind.TITLE, ClipKind.BLACK):
            kind = "black" if clip.kind is ClipKind.BLACK else "title"
            whole = self.range(0, clip.record.length, source_rate)
            return self.schema.GeneratorReference(clip.name, kind, whole)
        if clip.media.path:
            reference = self.schema.ExternalReference(clip.media.path)
            if clip.media.first is not None:
                reference.available_range = self.range(
                    clip.media.first, clip.media.frames or clip.record.length, source_rate
                )
            return reference
        return self.schema.MissingReference(name=clip.media.name)

    def marker(self, marker: EditMarker, offset: int, rate: FrameRate) -> Any:
        length = (marker.end - marker.start) if marker.end is not None else 0
        written = self.schema.Marker(marker.name, self.range(marker.start + offset, length, rate))
        written.color = marker.colour.upper()
        written.comment = marker.note
        metadata = {"keywords": list(marker.keywords), "circled": "yes" if marker.circled else ""}
        written.metadata["boxkite"] = {key: value for key, value in metadata.items() if value}
        return written
