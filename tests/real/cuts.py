"""Frames anywhere in a clip: spans at random are read as the whole clip is."""

from __future__ import annotations

import random
from pathlib import Path

from boxkite.core.errors import BoxkiteError
from boxkite.core.footage.decoding import read_frames
from boxkite.core.footage.frame_index import measure_frames
from boxkite.core.footage.probe import read_source
from boxkite.core.timebase import Span
from tests.real.frames import MOST_FRAMES, MOST_PIXELS, digest_of

SPANS = 8


def try_cuts(clip: Path) -> str:
    """What is wrong with spans of a clip, at random but the same each time; empty if nothing, or if it is not tried."""
    try:
        source = read_source(clip)
        index = measure_frames(source)
        if not source.video or index.frame_count > MOST_FRAMES:
            return ""
        if index.frame_count * source.video.width_px * source.video.height_px > MOST_PIXELS:
            return ""
        whole = [digest_of(frame) for _, frame in read_frames(source, index, index.span, threads=1)]
    except BoxkiteError:
        return ""  # tried, and reported, as a file
    chance = random.Random(clip.name)
    for _ in range(SPANS):
        start = chance.randrange(index.frame_count)
        span = Span(start, min(index.frame_count, start + chance.randrange(1, 12)))
        try:
            found = [digest_of(frame) for _, frame in read_frames(source, index, span, threads=1)]
        except BoxkiteError as error:
            return f"frames {span.start} to {span.end}: {error.message}"
        if found != whole[span.start : span.end]:
            return f"frames {span.start} to {span.end} are not those of the whole clip"
    return ""
