"""A frame boiled down to what tells shots apart: a few hundred means of its luma and chroma."""

from __future__ import annotations

from typing import Any

import numpy as np
from av.video.format import VideoFormat
from av.video.frame import VideoFrame
from av.video.plane import VideoPlane
from msgspec import Struct
from numpy.lib.stride_tricks import as_strided
from numpy.typing import NDArray

ROWS, COLUMNS = 28, 48
_REACH_Y, _REACH_X = 1, 2
"""How many cells a pan may move the picture between two frames and still be followed."""
_PLACES = ((0.17, 0.25), (0.17, 0.75), (0.5, 0.0), (0.5, 0.5), (0.83, 0.25), (0.83, 0.75))
"""Samples in each cell, rather than all of its pixels: enough to mean out grain, and far quicker."""
_CONTRAST = 40
_LEAST_CONTRAST = 10
_MOST = 45
"""A cell's difference counts up to this, so that something large that jumps is not taken for a new picture."""

Floats = NDArray[np.float32]


class Look(Struct, frozen=True):
    """Means of a frame's cells in 0…255: luma (ROWS × COLUMNS), blue and red difference (2 × ROWS/2 × COLUMNS/2)."""

    luma: Floats
    chroma: Floats
    contrast: float
    """Standard deviation of the luma."""
    structure: Floats
    """The luma around 0 as (ROWS, COLUMNS), its contrast made alike, so that a change of light alone changes little."""

    @classmethod
    def of(cls, luma: Floats, chroma: Floats) -> Look:
        """The look of these means."""
        centred = luma - np.float32(_mean(luma))
        contrast = float(np.sqrt(centred @ centred / centred.size))
        structure = centred * np.float32(_CONTRAST / max(contrast, _LEAST_CONTRAST))
        return cls(luma, chroma, contrast, structure.reshape(ROWS, COLUMNS))


class FingerprintTaker:
    """Takes looks at frames of one source; works out once where to sample them."""

    def __init__(self) -> None:
        self._places: dict[tuple[int, int, int, int], Any] = {}
        self._depths: dict[tuple[int, int, int], int] = {}

    def look(self, frame: VideoFrame) -> Look:
        """The look of one frame, of whatever pixel format."""
        planes = frame.planes
        shape = (
            frame.width,
            frame.height,
            planes[0].line_size,
        )  # asking for the format itself costs more than all this
        if shape not in self._depths:
            self._depths[shape] = _depth(frame.format)
        depth = self._depths[shape]
        if not depth:
            planes, depth = frame.reformat(format="yuv420p").planes, 8
        luma = self._means(planes[0], ROWS, depth)
        chroma = np.concatenate([self._means(plane, ROWS // 2, depth) for plane in planes[1:3]])
        return Look.of(luma, chroma)

    def _means(self, plane: VideoPlane, rows: int, depth: int) -> Floats:
        samples = np.frombuffer(plane, dtype=np.uint8 if depth == 8 else np.uint16)  # type: ignore[call-overload]
        places = self._sampled(plane.height, plane.width, plane.line_size // samples.itemsize, rows)
        sums = samples.take(places).sum(axis=0, dtype=np.uint32)
        return np.asarray(sums * np.float32(1 / (len(_PLACES) << (depth - 8))), dtype=np.float32)

    def _sampled(self, height: int, width: int, stride: int, rows: int) -> Any:
        """Where the samples of each cell stand in a plane's memory, as (sample, cell)."""
        key = (height, width, stride, rows)
        if key not in self._places:
            columns = rows * COLUMNS // ROWS
            found = []
            for down, right in _PLACES:
                y = ((np.arange(rows) + down) * height / rows).astype(np.intp)
                x = ((np.arange(columns) + right) * width / columns).astype(np.intp)
                found.append((y[:, None] * stride + x[None, :]).ravel())
            self._places[key] = np.array(found)
        return self._places[key]


def _depth(kind: VideoFormat) -> int:
    """Bits of a sample where luma and chroma lie in separate planes; 0 for any other pixel format."""
    plain = kind.is_planar and not kind.is_rgb and not kind.is_big_endian and len(kind.components) >= 3
    return kind.components[0].bits if plain else 0


def _mean(values: Floats) -> float:
    """The mean, without what numpy's own does besides."""
    total: float = np.add.reduce(values, axis=None)
    return float(total) / values.size


def distance(first: Look, second: Look) -> float:
    """How much two frames differ: 0 for one frame, 20 and more for two places; levels at a usual contrast.

    The whole picture may have moved by up to two cells, as in a pan, without counting as a difference.
    """
    inner = first.structure[_REACH_Y:-_REACH_Y, _REACH_X:-_REACH_X]
    ways = (2 * _REACH_Y + 1, 2 * _REACH_X + 1)
    moved = as_strided(second.structure, ways + inner.shape, second.structure.strides * 2)
    change = np.subtract(moved, inner)
    np.abs(change, out=change)
    np.minimum(change, _MOST, out=change)
    sums = change.reshape(ways[0] * ways[1], -1).sum(axis=1)
    return float(sums.min()) / inner.size + _chroma_distance(first, second)


def plain_distance(first: Look, second: Look) -> float:
    """The same without allowing for movement."""
    change = np.abs(first.structure - second.structure)
    np.minimum(change, _MOST, out=change)
    return _mean(change) + _chroma_distance(first, second)


def _chroma_distance(first: Look, second: Look) -> float:
    change = first.chroma - second.chroma
    return _mean(np.abs(change, out=change))
