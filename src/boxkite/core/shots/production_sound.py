"""The audio of a recorder in place of the camera's: the file whose timecode runs over the clip."""

from __future__ import annotations

from collections.abc import Sequence
from fractions import Fraction

from msgspec.structs import replace

from boxkite.core.footage.source import Source
from boxkite.core.notices.footage import NO_RECORDING, NO_TIMECODE_FOR_AUDIO, RECORDING, RECORDING_PARTLY
from boxkite.core.notices.notice import Notice
from boxkite.core.shots.shot import IndexedSource, ProductionSound

_DAY_SECONDS = 24 * 3600


def with_production_sound(
    footage: IndexedSource, recorded: Sequence[Source]
) -> tuple[IndexedSource, Notice | None]:
    """The footage with the audio of that recording which covers most of it, and a notice of it; else as it is."""
    if not recorded:
        return footage, None
    label = footage.source.label
    if not footage.has_timecode:
        return footage, NO_TIMECODE_FOR_AUDIO(source=label)
    length = footage.frame_index.rate.seconds(footage.frame_index.frame_count)
    covers = [
        (_covered(begins, length, source), begins, source) for source, begins in _offsets(footage, recorded)
    ]
    most, begins, source = max(covers, key=lambda one: one[0], default=(Fraction(0), Fraction(0), None))
    if source is None or most <= 0:
        return footage, NO_RECORDING(source=label)
    found = replace(footage, sound=ProductionSound(source, begins))
    if most < length:
        partly = RECORDING_PARTLY(
            source=label, recording=source.label, covered=float(most), seconds=float(length)
        )
        return found, partly
    return found, RECORDING(source=label, recording=source.label)


def start_seconds(source: Source) -> Fraction | None:
    """Seconds since midnight at which a recording begins: the time reference of its broadcast wave chunk
    (EBU Tech 3285), counted in samples, else its timecode.
    """
    reference = source.metadata.get("time_reference", "")
    if reference.isascii() and reference.isdigit() and source.audio:
        return Fraction(int(reference), source.audio[0].sample_rate_hz)
    start = source.start_timecode
    return start.frame / start.rate.fraction if start else None


def _offsets(footage: IndexedSource, recorded: Sequence[Source]) -> list[tuple[Source, Fraction]]:
    """Each recording with its moment at which the reel's first frame lies; over midnight too."""
    begins = footage.start.frame / footage.start.rate.fraction
    found = []
    for source in recorded:
        start = start_seconds(source)
        if start is None or not source.audio:
            continue
        offset = begins - start
        if offset < -_DAY_SECONDS / 2:
            offset += _DAY_SECONDS
        found.append((source, offset))
    return found


def _covered(begins: Fraction, length: Fraction, source: Source) -> Fraction:
    """Seconds of a reel that a recording runs over."""
    return min(begins + length, source.duration) - max(begins, Fraction(0))
