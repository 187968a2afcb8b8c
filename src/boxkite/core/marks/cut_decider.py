"""Telling cuts and dissolves from everything else that changes a frame.

A cut is where every frame just before differs from every frame just after, and by more than the shot's own
movement. A flash fails the first test, since the shot comes back after it; a shaking or noisy shot the second.
A dissolve is where all frames between two different frames are mixtures of the two, in growing parts.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Iterable, Iterator
from itertools import islice

import numpy as np
from msgspec import Struct

from boxkite.core.marks.fingerprint import COLUMNS, ROWS, Floats, Look, distance, plain_distance

BEFORE, AFTER = 6, 6
"""Frames looked at on either side of a cut: a flash of up to five is seen through."""
LEAST = 4.5
"""The least difference that is a cut, in levels of 255."""
TIMES_MOVEMENT = 2.1
"""How much larger than the usual difference from frame to frame it must be."""
_NEIGHBOURS = 7
_LENGTHS = (10, 12, 16, 20, 25, 32, 40, 50)
"""Lengths of dissolves that are tried, in frames."""
_LONGEST = _LENGTHS[-1]
_EVERY = 3
_LEAST_CONTRAST = 6
_BLOCK = (4, 6)
"""Cells of a part of the picture, down and across."""
_LEAST_CHANGE = 7.0
"""Of a part, in levels, to count as changed."""
_LEAST_COVERED = 0.6
_LEAST_STIRRED, _LEAST_DETAIL = 2.5, 2.0
"""In levels: what a cell that stays changes at most, and how far a cell with detail is from those around it."""
_MOST_GRAIN, _TIMES_GRAIN = 8.0, 2.5
"""The usual change of a cell from frame to frame, up to which a shot counts as still, and how far grain reaches."""
_MOST_KEPT = 0.5
"""Of the cells with detail or change, those that may stay over a cut."""
_MOST_APART, _LEAST_AGREEING = 0.3, 0.6
"""How far the mixture in a part may be from that of the whole, and in how much of the picture it must not be."""
_MOST_ALIKE = 0.5
_MOST_UNEVEN, _MOST_OUTSIDE = 0.27, 0.25
_MOST_MISSING, _MOST_MISSING_USUALLY = 0.46, 0.3
"""Of a frame, that is neither of two pictures, as a share of their difference: of any frame, and on average."""
_STEADY = 5
"""Frames on either side of a dissolve that show one shot alone."""


class Change(Struct, frozen=True):
    """A cut: frame is the first of the new shot."""

    frame: int
    length: int = 0
    """Of a dissolve, whose middle frame is; 0 for a hard cut."""


class CutDecider:
    """Hears looks one after another and says where the picture changes for good. Keeps a bounded number of them."""

    def __init__(self) -> None:
        self._looks: deque[Look] = deque(maxlen=_LONGEST + 2 * _STEADY + 2)
        self._steps: deque[float] = deque(maxlen=_LONGEST + 2 * _STEADY + 2)
        self._count = 0
        self._last_cut = 0
        self._dissolve: tuple[float, Change] | None = None

    def hear(self, look: Look) -> Iterator[Change]:
        """Take the next frame's look; yields changes a few frames after they happened."""
        step = 0.0
        if self._looks:
            step = plain_distance(self._looks[-1], look)
            if step > LEAST:
                step = min(step, distance(self._looks[-1], look))
        self._looks.append(look)
        self._steps.append(step)
        self._count += 1
        place = self._count - AFTER
        if place > 0 and self._is_cut(len(self._looks) - AFTER):
            yield from self._end_dissolve(place)
            self._last_cut = place
            yield Change(place)
        elif self._count % _EVERY == 0:
            yield from self._try_dissolve()

    def end(self) -> Iterator[Change]:
        """The changes that are still open after the last frame."""
        tail = AFTER - 1
        for left in range(tail, 0, -1):
            place = self._count - left
            if place > 0 and self._is_cut(len(self._looks) - left):
                yield Change(place)
        yield from self._end_dissolve(self._count)

    def _is_cut(self, at: int) -> bool:
        """Whether a shot begins with the look at a position."""
        if at < 1 or self._steps[at] <= LEAST:
            return False
        sides = (
            range(max(1, at - _NEIGHBOURS), at),
            range(at + 1, min(len(self._steps), at + _NEIGHBOURS + 1)),
        )
        movement = max((_usual(self._steps[index] for index in side) for side in sides if side), default=0.0)
        threshold = max(LEAST, TIMES_MOVEMENT * movement)
        if self._steps[at] <= threshold:
            return False
        before = [self._looks[index] for index in range(max(0, at - BEFORE), at)]
        after = [self._looks[index] for index in range(at, min(len(self._looks), at + AFTER))]
        if not all(distance(one, other) > threshold for one in reversed(before) for other in after):
            return False
        return not self._is_laid_over(at)

    def _is_laid_over(self, at: int) -> bool:
        """Whether most of a picture stays as it was: a name strap, a subtitle, a clock that appears over it or goes.

        Only cells with detail or change are counted: black bars stay in any film.
        """
        before, after = self._looks[at - 1].luma, self._looks[at].luma
        change = np.abs(after - before)
        earlier = self._looks[at - 2].luma if at > 1 else before
        grain = float(np.median(np.abs(before - earlier)))
        if grain > _MOST_GRAIN:
            return False  # a picture that moves: what stays is not seen
        stays = change <= max(_LEAST_STIRRED, _TIMES_GRAIN * grain)
        shows = (_detail(before) > _LEAST_DETAIL) & (_detail(after) > _LEAST_DETAIL)
        kept, changed = np.count_nonzero(stays & shows), np.count_nonzero(~stays)
        return bool(kept > _MOST_KEPT * (kept + changed))

    def _try_dissolve(self) -> Iterator[Change]:
        """Look for a dissolve that ends here; of several guesses at one the clearest is kept."""
        here = len(self._looks) - 1 - _STEADY
        for length in _LENGTHS:
            start = here - length
            first = self._count - 1 - _STEADY - length
            if start < 0 or first < self._last_cut:
                break
            if sum(islice(self._steps, start + 1, here + 1)) < 3 * LEAST:
                continue  # too little happened on the way
            quality = self._mixes(start, here)
            if quality and (self._dissolve is None or quality > self._dissolve[0]):
                self._dissolve = (quality, Change(first + (length + 1) // 2, length))
        if self._dissolve and self._count > self._dissolve[1].frame + _LONGEST // 2:
            yield from self._end_dissolve(self._count)

    def _end_dissolve(self, before: int) -> Iterator[Change]:
        if self._dissolve and self._dissolve[1].frame < before:
            change = self._dissolve[1]
            self._last_cut = change.frame + change.length // 2
            yield change
        self._dissolve = None

    def _mixes(self, start: int, end: int) -> float:
        """How clearly the frames between two are mixtures of them, above 0; 0 where they are not."""
        if min(self._looks[start].contrast, self._looks[end].contrast) < _LEAST_CONTRAST:
            return 0.0  # to or from black is a fade within a shot
        first, last = self._steady_luma(start - 2, start), self._steady_luma(end, end + 2)
        change = last - first
        size = float(change @ change)
        if size < (3 * LEAST) ** 2 * change.size:
            return 0.0
        misses = []
        for part in (3, 2, 4, 1, 5):
            index = start + (end - start) * part // 6
            share, miss = self._mixture(index, first, change, size)
            if miss > _MOST_MISSING or abs(share - (index - start) / (end - start)) > _MOST_UNEVEN:
                return 0.0
            misses.append(miss)
        if sum(misses) > _MOST_MISSING_USUALLY * len(misses):
            return 0.0
        for index, want in ((start - _STEADY, 0.0), (end + _STEADY, 1.0)):
            if index >= 0 and abs(self._mixture(index, first, change, size)[0] - want) > _MOST_OUTSIDE:
                return 0.0  # a pan keeps changing, a dissolve has begun and ended
        if _alike(first, last) > _MOST_ALIKE:
            return 0.0  # the same place: somebody walked by, the light changed, the camera drifted
        if not self._mixes_everywhere(start, end, first, change):
            return 0.0
        return float((1 - max(misses)) * (end - start) ** 0.25)

    def _mixes_everywhere(self, start: int, end: int, first: Floats, change: Floats) -> bool:
        """Whether both pictures differ nearly everywhere, and are mixed alike in all parts of the picture.

        What moves through a shot changes one part after the other, each at once; a dissolve all parts together.
        """
        parts, other = _in_blocks(change), _in_blocks(_without_light(first, first + change))
        energy = np.einsum("bc,bc->b", parts, parts)
        changed = np.einsum("bc,bc->b", other, other) >= parts.shape[1] * _LEAST_CHANGE**2
        changed &= energy >= parts.shape[1]
        if changed.mean() < _LEAST_COVERED:
            return False
        weights = np.sqrt(energy[changed])
        for part in (2, 3, 4):
            index = start + (end - start) * part // 6
            own = _in_blocks(self._looks[index].luma - first)
            shares = np.einsum("bc,bc->b", own[changed], parts[changed]) / energy[changed]
            middle = float(np.average(shares, weights=weights))
            agree = float(weights[np.abs(shares - middle) <= _MOST_APART].sum() / weights.sum())
            if agree < _LEAST_AGREEING:
                return False
        return True

    def _steady_luma(self, start: int, end: int) -> Floats:
        """The mean of a few looks: what moves or is grain counts less."""
        looks = [self._looks[index].luma for index in range(max(0, start), min(len(self._looks), end + 1))]
        return np.asarray(sum(looks[1:], start=looks[0]) / np.float32(len(looks)))

    def _mixture(self, index: int, first: Floats, change: Floats, size: float) -> tuple[float, float]:
        """(how much of the second picture a frame holds, how much of it is neither of the two)."""
        own = self._looks[index].luma - first
        share = float(own @ change) / size
        own -= np.float32(share) * change
        return share, float(np.sqrt(own @ own / size))


def _detail(luma: Floats) -> Floats:
    """How far each cell is from the mean of the four beside it."""
    cells = luma.reshape(ROWS, COLUMNS)
    padded = np.pad(cells, 1, mode="edge")
    beside = padded[:-2, 1:-1] + padded[2:, 1:-1] + padded[1:-1, :-2] + padded[1:-1, 2:]
    return np.asarray(np.abs(cells - beside / 4).ravel())


def _without_light(first: Floats, second: Floats) -> Floats:
    """What of a second picture is not the first in another light: one brightness and contrast, fitted to most cells."""
    left = second - first
    for _ in range(3):
        most = np.abs(left) <= np.median(np.abs(left))  # whoever walks by does not count for the light
        a, b = first[most], second[most]
        spread = float((a - a.mean()) @ (a - a.mean())) + 1e-6
        slope = np.float32(max(0.0, float((a - a.mean()) @ (b - b.mean())) / spread))
        left = (second - b.mean()) - slope * (first - a.mean())
    return np.asarray(left)


def _in_blocks(luma: Floats) -> Floats:
    """The cells of a frame as (part of the picture, cell)."""
    down, across = ROWS // _BLOCK[0], COLUMNS // _BLOCK[1]
    return luma.reshape(down, _BLOCK[0], across, _BLOCK[1]).swapaxes(1, 2).reshape(down * across, -1)


def _usual(steps: Iterable[float]) -> float:
    """A step somewhat above the median: pans come in uneven steps, and a flash makes two large ones."""
    ordered = sorted(steps)
    return ordered[len(ordered) * 5 // 8]


def _alike(first: Floats, second: Floats) -> float:
    """How much two frames have one structure, from −1 to 1, whatever their brightness."""
    a, b = first - first.mean(), second - second.mean()
    return float(a @ b / (np.sqrt(a @ a) * np.sqrt(b @ b) + 1e-6))
