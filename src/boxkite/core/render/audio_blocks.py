"""Audio as arrays: several tracks held until all have the samples, made louder, given a named layout."""

from __future__ import annotations

from collections.abc import Iterator
from math import sqrt
from typing import Any

import av
import numpy as np
from av.audio.frame import AudioFrame

from boxkite.core.presets.codecs import is_unsaid


class TrackBuffer:
    """Holds the audio of several tracks until all of them have the samples."""

    def __init__(self, count: int) -> None:
        self._waiting: list[list[np.ndarray]] = [[] for _ in range(count)]

    def put(self, place: int, block: AudioFrame, kind: str) -> Iterator[tuple[list[Any], int]]:
        """Take the next audio of one track; give out (samples by channels of each track, sample rate)."""
        even = av.AudioResampler(format=kind, layout=block.layout.name, rate=block.sample_rate)
        self._waiting[place] += [interleaved(part) for part in even.resample(block)]
        ready = min(sum(len(part) for part in parts) for parts in self._waiting)
        if not ready:
            return
        columns = []
        for index, parts in enumerate(self._waiting):
            whole = np.concatenate(parts)
            columns.append(whole[:ready])
            self._waiting[index] = [whole[ready:]]
        yield columns, block.sample_rate


def mixed(tracks: list[Any], layout: str, rate_hz: int) -> AudioFrame:
    """Tracks of one layout at equal power: their sum, divided by the square root of their number."""
    return as_block(sum(tracks) / sqrt(len(tracks)), layout, rate_hz)


def side_by_side(tracks: list[Any], rate_hz: int) -> AudioFrame:
    """Tracks as the channels of one."""
    samples = np.concatenate(tracks, axis=1)
    return as_block(samples, f"{samples.shape[1]} channels", rate_hz)


def louder(block: AudioFrame, gain: float) -> AudioFrame:
    """Audio times a factor, in floating point."""
    even = av.AudioResampler(format="flt", layout=block.layout.name, rate=block.sample_rate)
    changed = [interleaved(part) * np.float32(gain) for part in even.resample(block)]
    return as_block(np.concatenate(changed), block.layout.name, block.sample_rate)


def named(block: AudioFrame, layout: str) -> AudioFrame:
    """Audio with only a number of channels, in a named layout.

    One or two channels are mono or stereo, as many as the layout has are those, others are mixed to both sides.
    """
    channels = len(block.layout.channels)
    wanted = layout if is_unsaid(layout) else {1: "mono", 2: "stereo"}.get(channels, layout)
    if is_unsaid(wanted):
        return block
    (packed,) = av.AudioResampler(format="flt", layout=block.layout.name, rate=block.sample_rate).resample(
        block
    )
    samples = interleaved(packed)
    if channels != len(av.AudioLayout(wanted).channels):
        both = samples.sum(axis=1, keepdims=True, dtype=np.float32) / np.float32(sqrt(channels))
        samples, wanted = np.repeat(both, 2, axis=1), "stereo"
    return as_block(samples, wanted, block.sample_rate)


def interleaved(block: AudioFrame) -> np.ndarray:
    """Samples by channels, of audio whose format is interleaved."""
    samples: np.ndarray = block.to_ndarray()
    return samples.reshape(-1, len(block.layout.channels))


def as_block(samples: np.ndarray, layout: str, rate_hz: int) -> AudioFrame:
    """A frame of audio from samples by channels, float32 or int32."""
    kind = "flt" if samples.dtype == np.float32 else "s32"
    frame = AudioFrame.from_ndarray(np.ascontiguousarray(samples.reshape(1, -1)), format=kind, layout=layout)
    frame.sample_rate = rate_hz
    return frame
