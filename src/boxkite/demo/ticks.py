"""The audio of drawn footage: a quiet hum, and a tick that begins on the first sample of every second's frame."""

from __future__ import annotations

import numpy as np

from boxkite.core.picture.stamp import Array
from boxkite.core.timebase import FrameRate, sample_at

_TICK_SECONDS = 0.006
_LOUD = 0.35


def tick_frames(frames: int, rate: FrameRate) -> list[int]:
    """The frames that tick: the first of every second, by timecode's count."""
    return list(range(0, frames, rate.nominal))


def draw_audio(frames: int, rate: FrameRate, sample_rate: int) -> Array:
    """One channel for so many frames: float64 samples in −1…1."""
    total = sample_at(frames, rate, sample_rate)
    time = np.arange(total) / sample_rate
    samples = 0.01 * np.sin(2 * np.pi * 110 * time)
    length = int(_TICK_SECONDS * sample_rate)
    shape = np.arange(length) / sample_rate
    tick = 0.8 * np.cos(2 * np.pi * 1000 * shape) * np.exp(-shape * 500)
    for frame in tick_frames(frames, rate):
        start = sample_at(frame, rate, sample_rate)
        end = min(total, start + length)
        samples[start:end] += tick[: end - start]
    return samples


def find_ticks(samples: Array, sample_rate: int) -> list[int]:
    """The samples at which ticks begin in one channel of float samples in −1…1."""
    loud = np.flatnonzero(np.abs(samples) > _LOUD)
    if not len(loud):
        return []
    begins = np.concatenate(([True], np.diff(loud) > sample_rate // 20))
    return [int(sample) for sample in loud[begins]]
