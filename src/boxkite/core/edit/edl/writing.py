"""Writing a timeline as an edit decision list (CMX 3600): one list of events over all its tracks."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from boxkite.core.edit.timeline import Clip, ClipKind, Timeline, Track
from boxkite.core.errors import MarksError
from boxkite.core.files.writing import create_file
from boxkite.core.timebase import Span, Timecode


def write_edl_edit(path: Path, timeline: Timeline) -> None:
    """Write a timeline as edl_bytes makes it. Raises MarksError, OSError."""
    create_file(path, edl_bytes(timeline, path))


def edl_bytes(timeline: Timeline, path: Path) -> bytes:
    """The enabled clips of a timeline, numbered in the order of time, titles as keys over what is below.

    Clips must count their source by timecode. path: for messages. Raises MarksError for a timeline nested in it.
    """
    lines = [
        f"TITLE: {timeline.name}",
        f"FCM: {'DROP FRAME' if timeline.start.drop else 'NON-DROP FRAME'}",
        "",
    ]
    listed = [
        (clip, track, index)
        for track in timeline.tracks
        if track.enabled
        for index, clip in enumerate(track.clips)
        if clip.enabled
    ]
    listed.sort(key=lambda one: (one[0].record.start, one[1].name[0] != "V", one[1].name))
    for number, (clip, track, index) in enumerate(listed, start=1):
        if clip.nested:
            raise MarksError(
                f"“{clip.name}” is a separate timeline, which such a list cannot hold",
                path=path,
                hint="write .otio",
            )
        lines += _event(timeline, number, clip, track, track.clips[index - 1] if index else None)
    lines += [
        f"* LOC: {timeline.start + marker.start} {marker.colour.upper():<7} {marker.name}"
        for marker in timeline.markers
    ]
    return ("\n".join(lines) + "\n").encode("utf-8", "surrogateescape")


def _event(timeline: Timeline, number: int, clip: Clip, track: Track, before: Clip | None) -> Iterator[str]:
    channel = "V" if track.name == "V1" else "A" if track.name == "A1" else track.name
    title = clip.kind is ClipKind.TITLE
    if title:
        channel = "V"  # a key fills the picture track it is laid over
    reel = {ClipKind.BLACK: "BL", ClipKind.TITLE: "AX"}.get(clip.kind, clip.media.reel or "AX")
    transition = clip.transition_in
    if transition and before:
        tail = _line(
            timeline,
            number,
            before,
            channel,
            before.media.reel or "AX",
            "C",
            Span(clip.record.start, clip.record.start),
        )
        yield tail
    word = f"D    {transition.length:03d}" if transition else "K    000" if title else "C"
    yield _line(timeline, number, clip, channel, reel, word, clip.record)
    if clip.speed != 1:
        rate = float(clip.speed * timeline.rate.nominal)
        source = clip.source_rate or timeline.rate
        yield f"M2   {reel:<8} {rate:05.1f}                {Timecode(clip.source_start, source, clip.source_drop)}"
    if transition and before:
        yield f"* FROM CLIP NAME: {before.media.name}"
    if title:
        yield f"* KEY CLIP NAME: {clip.name}"
    elif clip.kind is ClipKind.MEDIA:
        yield f"* {'TO' if transition else 'FROM'} CLIP NAME: {clip.media.name}"
        if clip.media.path:
            yield f"* SOURCE FILE: {clip.media.path}"


def _line(
    timeline: Timeline, number: int, clip: Clip, channel: str, reel: str, word: str, record: Span
) -> str:
    source_rate = clip.source_rate or timeline.rate
    length = record.length * clip.speed
    offset = (record.start - clip.record.start) * abs(clip.speed)
    source_in = Timecode(clip.source_start + round(offset), source_rate, clip.source_drop)
    source_out = source_in + round(abs(length))
    times = f"{source_in} {source_out} {timeline.start + record.start} {timeline.start + record.end}"
    return f"{number:03d}  {reel:<8} {channel:<5} {word:<8} {times}"
