"""How loud audio is from moment to moment: enough to see that it is silent, or early or late, in little memory."""

from __future__ import annotations

import numpy as np
from av.audio.frame import AudioFrame

BINS_A_SECOND = 400
_FULL_SCALE = {"u1": 128.0, "i2": 2.0**15, "i4": 2.0**31, "i8": 2.0**63, "f4": 1.0, "f8": 1.0}
_QUIET = 1e-7
"""Mean square of audio taken for silent: -70 dB below full scale."""
_AUDIBLE = 1e-5
_MOST_LAG_SECONDS = 2
_CORRELATED_SECONDS = 600
_LEAST_CORRELATION = 0.6
"""Of audio that varies; a steady tone tells nothing."""
_LEAST_GAIN = 0.1
"""The correlation at the lag found must be better by this than at none."""


class Envelope:
    """The mean square of a track in each 1/400 s, all channels together; 6 bytes a bin."""

    def __init__(self, rate_hz: int) -> None:
        self._rate = rate_hz
        self._sums = np.zeros(BINS_A_SECOND * 60, np.float32)
        self._counts = np.zeros(len(self._sums), np.uint16)
        self._bins = 0
        self._reached = 0
        self._waiting: list[np.ndarray] = []
        self._waiting_samples = 0

    def add(self, block: AudioFrame) -> None:
        """Take the next audio."""
        samples = block.to_ndarray()
        if not block.format.is_planar:
            samples = samples.reshape(-1, len(block.layout.channels)).T
        if self._waiting and not _are_of_one_kind(self._waiting[0], samples):  # as from another source
            self._count_in()
        self._waiting.append(samples)
        self._waiting_samples += samples.shape[1]
        if (
            self._waiting_samples >= self._rate
        ):  # small blocks one by one would cost more than what is in them
            self._count_in()

    def _count_in(self) -> None:
        """Put what waits into its bins."""
        if not self._waiting:
            return
        samples = np.concatenate(self._waiting, axis=1)
        scale = _FULL_SCALE[samples.dtype.str[1:]]
        values = samples.astype(np.float32) / np.float32(scale)
        if samples.dtype.kind == "u":
            values -= 1.0
        power = np.einsum("cs,cs->s", values, values) / np.float32(len(values))
        self._waiting, self._waiting_samples = [], 0
        places = (np.arange(self._reached, self._reached + len(power)) * BINS_A_SECOND) // self._rate
        first = self._reached * BINS_A_SECOND // self._rate
        sums, counts = np.bincount(places - first, weights=power), np.bincount(places - first)
        self._bins = first + len(sums)
        while self._bins > len(self._sums):
            self._sums = np.concatenate([self._sums, np.zeros_like(self._sums)])
            self._counts = np.concatenate([self._counts, np.zeros_like(self._counts)])
        self._sums[first : self._bins] += sums.astype(np.float32)
        self._counts[first : self._bins] += counts.astype(np.uint16)
        self._reached += len(power)

    def values(self) -> np.ndarray:
        """The mean squares, one for each bin."""
        self._count_in()
        found: np.ndarray = self._sums[: self._bins] / np.maximum(self._counts[: self._bins], 1)
        return found


def _are_of_one_kind(first: np.ndarray, second: np.ndarray) -> bool:
    """Whether two blocks have as many channels, and samples of one type."""
    return first.dtype == second.dtype and len(first) == len(second)


def lag_of(found: np.ndarray, wanted: np.ndarray) -> float:
    """By how many seconds a track is later than it should be; 0 where it is not, or where nothing tells.

    found, wanted: mean squares as Envelope has them. The envelopes' logarithms are correlated, so loudness is none
    of it.
    """
    length = min(len(found), len(wanted), _CORRELATED_SECONDS * BINS_A_SECOND)
    if length < BINS_A_SECOND // 4:
        return 0.0
    values = found[:length], wanted[:length]
    first, second = (np.log10(one + 1e-9) for one in values)
    lag = _lag(first - first.mean(), second - second.mean())
    heard = [one > _QUIET for one in values]
    if lag or not all(one.any() for one in heard) or all(one.all() for one in heard):
        return lag
    # A silence that only one of them has outweighs all else: without it, the rest may tell.
    first, second = (
        np.where(is_heard, one - one[is_heard].mean(), 0)
        for one, is_heard in zip((first, second), heard, strict=True)
    )
    return _lag(first, second)


def _lag(first: np.ndarray, second: np.ndarray) -> float:
    """The same for two series whose means are 0."""
    length = len(first)
    scale = float(np.sqrt(np.dot(first, first) * np.dot(second, second)))
    if scale < 1e-6 * length:
        return 0.0
    size = 1 << (2 * length - 1).bit_length()
    correlated = np.fft.irfft(np.fft.rfft(first, size) * np.conj(np.fft.rfft(second, size)), size)
    most = min(_MOST_LAG_SECONDS * BINS_A_SECOND, length - 1)
    lags = np.concatenate([correlated[-most:], correlated[: most + 1]]) / scale
    best = int(np.argmax(lags))
    if lags[best] < max(lags[most] + _LEAST_GAIN, _LEAST_CORRELATION):
        return 0.0
    return (best - most) / BINS_A_SECOND


def begins_late(found: np.ndarray, wanted: np.ndarray) -> float:
    """For how many seconds a track is silent at its beginning where the wanted one is heard; below 0: at its end.

    It tells of steady tones too.
    """
    length = min(len(found), len(wanted))
    missing = (found[:length] < _QUIET) & (wanted[:length] > _AUDIBLE)
    head, tail = int(np.argmin(missing)), int(np.argmin(missing[::-1]))
    return (head if head >= tail else -tail) / BINS_A_SECOND


def silences(found: np.ndarray, wanted: np.ndarray | None, least_seconds: float) -> list[tuple[float, float]]:
    """(start, length) in seconds of the silences of a track, where the wanted one is not silent or not known."""
    quiet = found < _QUIET
    edges = np.flatnonzero(np.diff(np.concatenate([[0], quiet.view(np.int8), [0]])))
    runs = []
    for start, end in zip(edges[::2], edges[1::2], strict=True):
        if end - start < least_seconds * BINS_A_SECOND:
            continue
        if wanted is not None and np.count_nonzero(wanted[start:end] > _AUDIBLE) <= 0.1 * (end - start):
            continue
        runs.append((start / BINS_A_SECOND, (end - start) / BINS_A_SECOND))
    return runs
