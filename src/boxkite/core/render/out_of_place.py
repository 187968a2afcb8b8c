"""Frames of a finished file that are not those of the source at their place: others, swapped, black, frozen."""

from __future__ import annotations

import math
from array import array
from collections import deque
from collections.abc import Callable, Collection, Mapping
from itertools import pairwise

import numpy as np
from av.video.frame import VideoFrame

from boxkite.core.notices.handover import (
    BLACK_ALONE,
    FROZEN_ALONE,
    GONE_BLACK,
    GONE_FROZEN,
    MISPLACED,
    OTHER_PICTURES,
    SWAPPED,
)
from boxkite.core.notices.notice import Notice
from boxkite.core.render.frame_prints import PRINT_BYTES, print_of
from boxkite.core.render.quality import SomeLines, some_lines

_BLACK_LEVEL, _NOT_BLACK_LEVEL = 22, 32
"""8-bit luma of limited range: black, and certainly not."""
_BLACK_SECONDS, _FROZEN_SECONDS = 0.2, 0.4
_ALONE_SECONDS = 1.0
"""Where there is no source, only longer stretches are reported."""
_DIP_DB = 6.0
"""A frame so much further from its source than those around it may be another one."""
_NEIGHBOURS = 25
_OTHER_PRINT = 12.0
"""Mean difference, of 255, that coding makes at most (frame_prints)."""
_TELLING = 0.6
"""Mean difference of two prints that tells frames apart."""
_MOST_MOVED = 50
"""Frames to either side in which a misplaced one is looked for by its print."""
_SAME_DB = 60.0
_NEAR = 6
"""Frames to either side in which a misplaced one is looked for by its picture."""
_SLIGHT_DIP_DB = 2.0
_LEAST_DIP_DB = 1.0
"""From which on the frames right beside it are looked at: two that show each other's are swapped."""
_BESIDE = 2
_SLIGHTLY_CLOSER_DB, _CLOSER_DB = 0.4, 1.5
"""So much closer to another frame of the source than to its own: each of two that are swapped, and one that goes on as
the one before."""
_LEAST_APART_DB, _MOST_ALIKE_DB, _ADDED_UP_DB = 1.5, 40.0, 1.0
"""What moved exceeds what coding changes by the first, is to be seen below the second, and adds up within the third."""
_IN_A_ROW = 12
"""Frames that are all slightly closer to one as far from their own: none of 75 whole files had so many."""
_ALIKE_DB = 0.5
"""Of frames that are about as close, the nearest is meant: others of the source may be the same."""
_EVERY = 25
"""Of so many frames one is compared with those around it whatever its own is like."""
_MOST_RUNS = 5
"""Of misplaced frames; of more, all are told of together."""

At = Callable[[int], str]
"""How the moment of a frame is written."""


class Prints:
    """The prints of frames, one after the other."""

    def __init__(self) -> None:
        self._kept = bytearray()

    def add(self, frame: VideoFrame) -> None:
        """Keep the print of the next frame."""
        found = print_of(frame) or print_of(
            frame.reformat(format="gray")
        )  # those of floating point have none
        self._kept += found or bytes(PRINT_BYTES)

    def values(self) -> np.ndarray:
        """A line of 8-bit levels for each."""
        return np.frombuffer(self._kept, np.uint8).reshape(-1, PRINT_BYTES)


class Neighbours:
    """Finds in passing which frames of a file show a frame of the source that lies near their own.

    Few frames are compared with several: those that are further from their own than those around them, and one of some.
    """

    def __init__(self, psnr_db: array[float]) -> None:
        """psnr_db: of each frame that was added, from the first on."""
        self.shows: dict[int, int] = {}
        """After the end: the frame of the source that each of those shows, both counted from the file's first."""
        self._psnr_db = psnr_db
        self._own: deque[SomeLines | None] = deque(maxlen=_NEAR + 1)
        self._source: deque[SomeLines | None] = deque(maxlen=2 * _NEAR + 1)
        self._count = 0
        self._found: dict[int, tuple[int, bool]] = {}
        """By frame: the one it is closest to, and whether that tells by itself."""
        self._shown: tuple[int, SomeLines] | None = None
        """What the frame before seemed to show, where that was not its own."""
        self._was_clear = False

    def add(self, frame: VideoFrame, source: VideoFrame) -> None:
        """Take the next frame and the one it should be."""
        self._own.append(some_lines(frame))
        self._source.append(some_lines(source))
        self._count += 1
        if self._count > _NEAR:
            self._look(self._count - 1 - _NEAR)

    def end(self) -> None:
        """Look at the last frames too, and settle what those that were looked at show."""
        for place in range(max(0, self._count - _NEAR), self._count):
            self._look(place)
        nearest = {place: shown for place, (shown, _) in self._found.items()}
        in_rows = {
            start + place
            for start, shown in _runs(nearest)
            for first, count in _moved_alike(shown)
            if count >= _IN_A_ROW
            for place in range(first, first + count)
        }
        self.shows = {
            place: shown
            for place, (shown, is_clear) in self._found.items()
            if is_clear or place in in_rows or nearest.get(shown) == place
        }

    def _look(self, place: int) -> None:
        around = self._psnr_db[max(0, place - _NEIGHBOURS) : place + _NEAR + 1]
        usual, shown, was_clear = middle(np.array(around)), self._shown, self._was_clear
        self._shown, self._was_clear = None, False
        dip = usual - self._psnr_db[place]
        is_wide = shown is not None or not place % _EVERY or dip >= _SLIGHT_DIP_DB
        if not is_wide and dip < _LEAST_DIP_DB:
            return
        first = self._count - len(self._source)
        own, wanted = self._own[place - self._count], self._source[place - first]
        if own is None or wanted is None or (as_own := own.psnr_db(wanted)) is None:
            return
        far = _NEAR if is_wide else _BESIDE
        others = {
            number: lines
            for number, lines in enumerate(self._source, start=first)
            if lines and 0 < abs(number - place) <= far
        }
        if shown:
            others.setdefault(*shown)
        found = {
            number: lines_db
            for number, lines in others.items()
            if (lines_db := own.psnr_db(lines)) is not None
        }
        if not found:
            return
        best = max(found.values())
        alike = [number for number in found if found[number] >= best - _ALIKE_DB]
        nearest = min(alike, key=lambda number: abs(number - place))
        closer = found[nearest] - as_own
        beside = middle(np.array(self._psnr_db[max(0, place - _NEAR) : place + _NEAR + 1]))
        usual = min(usual, beside)  # which becomes worse where more and more is to be seen
        if closer < _SLIGHTLY_CLOSER_DB or found[nearest] < usual - _SLIGHT_DIP_DB:
            return
        # Still the same, or moved alike.
        goes_on = shown is not None and was_clear and nearest in (shown[0], shown[0] + 1)
        apart = wanted.psnr_db(others[nearest])
        is_clear = closer >= _CLOSER_DB if goes_on else _is_another(as_own, found[nearest], apart)
        self._found[place] = nearest, is_clear
        self._shown, self._was_clear = (nearest, others[nearest]), is_clear


def _moved_alike(shown: list[int]) -> list[tuple[int, int]]:
    """(first, how many) of the frames of a run that are moved alike, counted from its first."""
    found = [(0, 1)]
    for place, (before, after) in enumerate(pairwise(shown), start=1):
        first, count = found[-1]
        found[-1:] = [(first, count + 1)] if after == before + 1 else [(first, count), (place, 1)]
    return found


def _is_another(as_own_db: float, as_other_db: float, apart_db: float | None) -> bool:
    """Whether a frame is the other one, coded, and not its own with a trace of the other, as encoders leave it.

    apart_db: of the two in the source. What coding changed and what moved between them are nothing to do with each
    other, so their squares add up.
    """
    if apart_db is None or apart_db > min(as_other_db - _LEAST_APART_DB, _MOST_ALIKE_DB):
        return False
    both_db = -10 * math.log10(10 ** (-as_other_db / 10) + 10 ** (-apart_db / 10))
    return as_own_db <= both_db + _ADDED_UP_DB


def faults_of_frames(
    own: np.ndarray,
    source: np.ndarray,
    psnr: np.ndarray,
    near: Mapping[int, int],
    rate: float,
    at: At,
    *,
    is_copied: bool,
) -> tuple[list[Notice], list[Notice]]:
    """Faults and notices of frames that are not those of the source at their place; of a copy each must be the same.

    own, source: prints of the file's frames and of those they should be, as far as these are there; psnr: of each;
    near: which show another one that is near, by Neighbours; rate: frames a second.
    """
    shows: dict[int, int] = {}
    faults: list[Notice] = []
    if len(source):
        faults, shows = _other_frames(own[: len(source)], source, psnr, near, at, is_copied=is_copied)
    beside = source if len(source) == len(own) else None
    more, notices = _stretches(own, beside, shows, rate, at)
    return faults + more, notices


def _other_frames(
    own: np.ndarray, source: np.ndarray, psnr: np.ndarray, near: Mapping[int, int], at: At, *, is_copied: bool
) -> tuple[list[Notice], dict[int, int]]:
    """Faults of frames that are not those at their place, and what those show that show others."""
    faults: list[Notice] = []
    around = np.array(
        [middle(psnr[max(0, place - _NEIGHBOURS) : place + _NEIGHBOURS + 1]) for place in range(len(psnr))]
    )
    own, source = own.astype(np.int16), source.astype(np.int16)
    away = np.abs(own - source).mean(axis=1)
    suspects = np.flatnonzero(((psnr < around - _DIP_DB) & (away > _TELLING)) | (away > _OTHER_PRINT))
    shows = dict(near)
    for place in map(int, suspects):
        if place in shows:
            continue
        first = max(0, place - _MOST_MOVED)
        distance = np.abs(source[first : place + _MOST_MOVED + 1] - own[place]).mean(axis=1)
        nearest = first + int(np.argmin(distance))
        if nearest != place and distance.min() < away[place] / 2:
            shows[place] = nearest
    swapped = [(one, other) for one, other in shows.items() if one < other and shows.get(other) == one]
    faults += [SWAPPED(first=at(one), second=at(other)) for one, other in swapped]
    in_pairs = {place for pair in swapped for place in pair}
    runs = _runs({place: shown for place, shown in shows.items() if place not in in_pairs})
    moved = {one - place for start, shown in runs for place, one in enumerate(shown, start=start)}
    are_many = len(runs) > _MOST_RUNS and len(moved) > 1
    if len(runs) > _MOST_RUNS and not are_many:  # between them are frames that are the same as those beside
        count, start = sum(len(shown) for _, shown in runs), runs[0][0]
        faults.append(MISPLACED(frames=count, timecode=at(start), away=_way(moved)))
    for start, shown in runs if len(runs) <= _MOST_RUNS else []:
        if len(shown) > 2 and len(set(shown)) == 1:
            faults.append(GONE_FROZEN(frames=len(shown), timecode=at(start)))
        else:
            apart = {one - place for place, one in enumerate(shown, start=start)}
            faults.append(MISPLACED(frames=len(shown), timecode=at(start), away=_way(apart)))
    unlike = (away > _OTHER_PRINT) | (is_copied & (psnr < _SAME_DB))
    others = sorted({*map(int, np.flatnonzero(unlike)), *shows} - (in_pairs if are_many else set(shows)))
    if others:
        faults.append(OTHER_PICTURES(frames=len(others), timecode=at(others[0])))
    return faults, shows


def middle(values: np.ndarray) -> float:
    """The median, or the greater of the two; np.median loads a library of its own for one."""
    return float(np.sort(values)[len(values) // 2])


def _most_of(prints: np.ndarray) -> np.ndarray:
    """The level that four fifths of each frame do not exceed: the rest may be burn-ins and a watermark."""
    place = prints.shape[1] * 4 // 5
    return np.asarray(np.partition(prints, place, axis=1)[:, place])


def _runs(shows: Mapping[int, int]) -> list[tuple[int, list[int]]]:
    """The first of frames in a row that are misplaced, and what each of them shows."""
    runs: list[tuple[int, list[int]]] = []
    for place, shown in sorted(shows.items()):
        if runs and runs[-1][0] + len(runs[-1][1]) == place:
            runs[-1][1].append(shown)
        else:
            runs.append((place, [shown]))
    return runs


def _way(moved: set[int]) -> str:
    """How far from their places frames are, as people say it."""
    far = sorted({abs(one) for one in moved})
    count = f"{far[0]} to {far[-1]}" if len(far) > 1 else f"{far[0]}"
    way = " and ".join(word for word, are in (("later", max(moved) > 0), ("earlier", min(moved) < 0)) if are)
    return f"{count} frame{'s' if far[-1] > 1 else ''} {way}"


def _stretches(
    own: np.ndarray, source: np.ndarray | None, known: Collection[int], rate: float, at: At
) -> tuple[list[Notice], list[Notice]]:
    """Faults and notices of black and frozen stretches that the source does not have; longer ones where there is none.

    known: frames that show others, as is told already.
    """
    faults: list[Notice] = []
    notices: list[Notice] = []
    black = (own.max(axis=1) if source is None else _most_of(own)) <= _BLACK_LEVEL
    still = np.concatenate([[False], np.all(own[1:] == own[:-1], axis=1)])
    moving = lit = None
    if source is not None:
        lit = _most_of(source) > _NOT_BLACK_LEVEL
        moving = np.concatenate(
            [[False], np.abs(np.diff(source.astype(np.int16), axis=0)).mean(axis=1) > _TELLING / 2]
        )
    still[list(known)] = False
    for flags, against, seconds, kind, alone in (
        (black, lit, _BLACK_SECONDS, GONE_BLACK, BLACK_ALONE),
        (still & ~black, moving, _FROZEN_SECONDS, GONE_FROZEN, FROZEN_ALONE),
    ):
        edges = np.flatnonzero(np.diff(np.concatenate([[0], flags.view(np.int8), [0]])))
        for start, end in zip(edges[::2], edges[1::2], strict=True):
            length = (end - start) / rate
            if against is None and length >= max(seconds, _ALONE_SECONDS):
                notices.append(alone(frames=int(end - start), timecode=at(int(start))))
            elif against is not None and length >= seconds and against[start:end].mean() > 0.5:
                faults.append(kind(frames=int(end - start), timecode=at(int(start))))
    return faults, notices
