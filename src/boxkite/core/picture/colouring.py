"""A look applied to the planes of a frame: by a table made once, or by its transform on every pixel."""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache
from typing import Any

import numpy as np
from av.video.frame import VideoFrame
from msgspec import Struct

from boxkite.core.looks.look import Look
from boxkite.core.looks.transform import Processor, processor_of
from boxkite.core.picture import compiled
from boxkite.core.picture.pixel_layout import PixelLayout
from boxkite.core.picture.stamp import Array, plane_lines

_KR_KB = {
    1: (0.2126, 0.0722),
    4: (0.30, 0.11),
    5: (0.299, 0.114),
    6: (0.299, 0.114),
    7: (0.212, 0.087),
    9: (0.2627, 0.0593),
}
"""Weights of red and blue in luma, by the matrix numbers of ISO/IEC 23091-2."""
_CHROMA_BITS = (6, 7)
"""How finely tables part chroma: coarse first, which is faster, finer where that is not right enough."""
_MOST_ERROR = {8: 1.3 / 255, 10: 0.9 / 255}
"""Mean difference from the transform in float, over all of R′G′B′, up to which a table is taken."""
_LUMA_BITS_FOR_CHROMA = 7
_ROWS_AT_ONCE = 64
_TWICE = 1 + (1 << 32)
"""A number times this is, in 64 bits, the number in both halves."""
_TRIED = 4096


def _cropped(
    planes: Sequence[Array], width: int, height: int, layout: PixelLayout
) -> tuple[Array, Array, Array]:
    """The planes without their padding."""
    across, down = -(-width >> layout.shift_x), -(-height >> layout.shift_y)
    luma, blue, red = planes
    return luma[:height, :width], blue[:down, :across], red[:down, :across]


class ColourCode(Struct, frozen=True):
    """How a limited-range picture codes its colours: bits a sample, matrix number."""

    bit_depth: int
    matrix: int

    def to_rgb(self, luma: Array, blue: Array, red: Array) -> Array:
        """R′G′B′ as float32 (…, 3), 0…1 the range of black to white, from codes of one shape."""
        kr, kb = _KR_KB.get(self.matrix, _KR_KB[1])
        scale = 1 << (self.bit_depth - 8)
        y = (luma - np.float32(16 * scale)) / np.float32(219 * scale)
        cb = (blue - np.float32(128 * scale)) / np.float32(224 * scale)
        cr = (red - np.float32(128 * scale)) / np.float32(224 * scale)
        rgb = np.empty((*np.shape(y), 3), np.float32)
        rgb[..., 0] = y + np.float32(2 * (1 - kr)) * cr
        rgb[..., 2] = y + np.float32(2 * (1 - kb)) * cb
        rgb[..., 1] = (y - np.float32(kr) * rgb[..., 0] - np.float32(kb) * rgb[..., 2]) / np.float32(
            1 - kr - kb
        )
        return rgb

    def from_rgb(self, rgb: Array) -> tuple[Array, Array, Array]:
        """Codes as float32, neither rounded nor bounded."""
        kr, kb = _KR_KB.get(self.matrix, _KR_KB[1])
        scale = 1 << (self.bit_depth - 8)
        y = (
            np.float32(kr) * rgb[..., 0]
            + np.float32(1 - kr - kb) * rgb[..., 1]
            + np.float32(kb) * rgb[..., 2]
        )
        cb = (rgb[..., 2] - y) / np.float32(2 * (1 - kb))
        cr = (rgb[..., 0] - y) / np.float32(2 * (1 - kr))
        return (
            y * np.float32(219 * scale) + np.float32(16 * scale),
            cb * np.float32(224 * scale) + np.float32(128 * scale),
            cr * np.float32(224 * scale) + np.float32(128 * scale),
        )

    def legal(self, codes: Array) -> Array:
        """Codes rounded, and bounded to what a frame may hold (ITU-R BT.709: 1 to 254 in 8 bit)."""
        scale = 1 << (self.bit_depth - 8)
        kind = np.uint8 if self.bit_depth == 8 else np.uint16
        return np.asarray(np.clip(np.rint(codes), scale, 255 * scale - 1).astype(kind))


class _Table:
    """The look as tables: luma by (coarse chroma, luma), what is added to chroma by (coarse chroma, coarse luma).

    Chroma comes first because it changes little from one pixel to the next: neighbours find theirs side by side.
    """

    def __init__(self, processor: Processor, code: ColourCode, chroma_bits: int) -> None:
        self.code = code
        self._luma_shift = max(0, code.bit_depth - _LUMA_BITS_FOR_CHROMA)
        levels, shift, bits = 1 << code.bit_depth, code.bit_depth - chroma_bits, chroma_bits
        steps = np.arange((1 << bits) + 1, dtype=np.float32) * (1 << shift)
        self._levels, self._steps, self._shift = levels, len(steps), shift
        after = np.empty((len(steps) ** 2, levels), np.uint8 if code.bit_depth == 8 else np.uint16)
        at_once = 32
        for start in range(0, levels, at_once):
            lumas = np.arange(start, min(start + at_once, levels), dtype=np.float32)
            after[:, start : start + at_once] = code.legal(self._through(processor, lumas, steps)[0]).T
        self._luma: Array = after.reshape(-1)
        half = (1 << self._luma_shift) / 2 - 0.5 if self._luma_shift else 0.0
        coarse = np.arange(0, levels, 1 << self._luma_shift, dtype=np.float32) + np.float32(half)
        added = np.empty((len(steps) ** 2, len(coarse), 2), np.int16)  # side by side: one look-up gives both
        for start in range(0, len(coarse), at_once):
            part = slice(start, start + at_once)
            _, blue, red = self._through(processor, coarse[part], steps)
            added[:, part, 0] = np.rint(blue - np.repeat(steps, len(steps))).T
            added[:, part, 1] = np.rint(red - np.tile(steps, len(steps))).T
        least, most = self._room(steps)
        by_both = added.reshape(len(steps), len(steps), -1, 2)
        by_both[..., 0] = np.clip(by_both[..., 0], least[:, None, None], most[:, None, None])
        by_both[..., 1] = np.clip(by_both[..., 1], least[:, None], most[:, None])
        self._added: Array = added.view(np.int32).reshape(-1)

    def _room(self, steps: Array) -> tuple[Array, Array]:
        """The least and the most that may be added to chroma near each step, so that no code leaves what is legal."""
        half = (1 << self._shift) >> 1
        lowest = np.maximum(steps - half, 0)
        highest = np.minimum(steps + max(half - 1, 0), self._levels - 1)
        scale = 1 << (self.code.bit_depth - 8)
        return (scale - lowest).astype(np.int16), (255 * scale - 1 - highest).astype(np.int16)

    def _through(self, processor: Processor, lumas: Array, steps: Array) -> list[Array]:
        """Codes after the look, each of (lumas, chromas)."""
        blue = np.repeat(steps, len(steps))[None]
        red = np.tile(steps, len(steps))[None]
        luma = lumas[:, None]
        rgb = self.code.to_rgb(*np.broadcast_arrays(luma, blue, red))
        processor.apply(rgb)
        return [np.asarray(codes) for codes in self.code.from_rgb(rgb)]

    def change(self, planes: Sequence[Array], width: int, height: int, layout: PixelLayout) -> None:
        """Change the planes in place, each (lines, samples and padding)."""
        if compiled.change_colours is None:
            self._change_rows(*_cropped(planes, width, height, layout), layout)
            return
        shifts = (layout.shift_x, layout.shift_y, self._shift, self._luma_shift)
        compiled.change_colours(
            *planes, tuple(plane.strides[0] for plane in planes), (width, height), self._luma, self._added,
            (*shifts, self._steps, self._levels), self._luma.itemsize,
        )  # fmt: skip

    def _change_rows(self, luma: Array, blue: Array, red: Array, layout: PixelLayout) -> None:
        """Change the planes some rows at a time, so that what is worked on stays near the processor."""
        step_y = 1 << layout.shift_y
        for top in range(0, blue.shape[0], _ROWS_AT_ONCE):
            part = slice(top, top + _ROWS_AT_ONCE)
            rows = slice(top * step_y, (top + _ROWS_AT_ONCE) * step_y)
            self._change(luma[rows], blue[part], red[part], layout)

    def _coarse(self, plane: Array) -> Array:
        """The number of the table's nearest step for each chroma sample."""
        steps = plane.astype(np.uint16)
        steps += (1 << self._shift) >> 1
        steps //= 1 << self._shift  # many times as fast as shifting, which looks at every distance
        return steps

    def _change(self, lumas: Array, blues: Array, reds: Array, layout: PixelLayout) -> None:
        if self.code.bit_depth > 8:  # a broken raw file may have samples that hold more
            for plane in (lumas, blues, reds):
                np.minimum(plane, self._levels - 1, out=plane)
        chroma = self._coarse(blues)
        chroma *= self._steps
        chroma += self._coarse(reds)
        place = np.multiply(chroma, self._levels >> self._luma_shift, dtype=np.int32)
        place += self._coarse_luma(lumas, blues.shape, layout)
        added = np.empty(blues.shape, np.int32)
        np.take(self._added, place, mode="clip", out=added)  # faster than into new memory
        if layout.shift_x:  # two pixels in a row at once, that share their chroma
            rows = np.multiply(chroma, self._levels * _TWICE, dtype=np.int64).view(np.int32)
        else:
            rows = np.multiply(chroma, self._levels, dtype=np.int32)
        whole = np.empty(lumas.shape, np.int32)
        step_y = 1 << layout.shift_y
        for down in range(step_y):
            part = lumas[down::step_y]
            np.add(rows[: part.shape[0], : part.shape[1]], part, out=whole[down::step_y])
        after = np.empty(lumas.shape, lumas.dtype)
        np.take(self._luma, whole, mode="clip", out=after)
        lumas[:] = after
        of_two = added.view(blues.dtype).reshape(*blues.shape, -1)  # what is below 0 comes round again
        blues += of_two[..., 0]
        reds += of_two[..., of_two.shape[-1] // 2]

    def _coarse_luma(self, lumas: Array, shape: tuple[int, ...], layout: PixelLayout) -> Array:
        """Where each chroma sample lies in luma: the mean of the pixels on its diagonal, which is mean enough."""
        if not layout.shift_x:
            return np.asarray(lumas // (1 << self._luma_shift))
        whole = (shape[0] << layout.shift_y, shape[1] << layout.shift_x)
        if lumas.shape != whole:  # an odd row or column at the edge stands for the next one too
            lumas = np.pad(lumas, [(0, a - b) for a, b in zip(whole, lumas.shape, strict=True)], mode="edge")
        bits = 8 * lumas.itemsize
        pairs = lumas.view(
            f"<u{2 * lumas.itemsize}"
        )  # a left pixel in the low half, its right one in the high
        mean = pairs[:: 1 << layout.shift_y] & ((1 << bits) - 1)
        mean += pairs[layout.shift_y :: 1 << layout.shift_y] // (1 << bits)
        mean //= 2 << self._luma_shift
        return np.asarray(mean)


class _EveryPixel:
    """The look as its transform in float, on every pixel: slow, and right whatever the look."""

    def __init__(self, processor: Processor, code: ColourCode) -> None:
        self.processor, self.code = processor, code

    def change(self, planes: Sequence[Array], width: int, height: int, layout: PixelLayout) -> None:
        """Change the planes in place; chroma is averaged where it is subsampled."""
        luma, blue, red = _cropped(planes, width, height, layout)
        step_y, step_x = 1 << layout.shift_y, 1 << layout.shift_x
        full = [
            np.repeat(np.repeat(plane, step_y, axis=0), step_x, axis=1)[:height, :width].astype(np.float32)
            for plane in (blue, red)
        ]
        rgb = self.code.to_rgb(luma.astype(np.float32), *full)
        self.processor.apply(rgb)
        codes = self.code.from_rgb(rgb)
        luma[:] = self.code.legal(codes[0])
        for plane, after in zip((blue, red), codes[1:], strict=True):
            rows, columns = plane.shape[0] * step_y, plane.shape[1] * step_x
            padded = np.pad(after, ((0, rows - height), (0, columns - width)), mode="edge")
            means = padded.reshape(plane.shape[0], step_y, plane.shape[1], step_x).mean(axis=(1, 3))
            plane[:] = self.code.legal(means)


@lru_cache(maxsize=8)
def _way(look: Look, code: ColourCode) -> _Table | _EveryPixel:
    """The fastest way that is right enough for a look, found by trying colours from all of R′G′B′."""
    processor = processor_of(look)
    for bits in _CHROMA_BITS:
        if error_of_table(processor, code, bits) <= _MOST_ERROR.get(code.bit_depth, 0.0):
            return _Table(processor, code, bits)
    return _EveryPixel(processor, code)


def error_of_table(processor: Processor, code: ColourCode, chroma_bits: int) -> float:
    """Mean difference in R′G′B′ (0…1) between a table and the transform in float, over colours of all kinds.

    Worked out for these colours alone, as the table would have them, without making it.
    """
    random = np.random.default_rng(20)
    luma, blue, red = (
        code.legal(plane).astype(np.float32)
        for plane in code.from_rgb(random.random((_TRIED, 3), np.float32))
    )
    wanted = code.to_rgb(luma, blue, red)
    processor.apply(wanted)
    step = 1 << (code.bit_depth - chroma_bits)
    coarse = [
        np.minimum(np.floor((plane + step / 2) / step), (1 << chroma_bits) - 1) * step
        for plane in (blue, red)
    ]
    coarse = [plane.astype(np.float32) for plane in coarse]
    rgb = code.to_rgb(luma, *coarse)
    processor.apply(rgb)
    luma_after, blue_after, red_after = code.from_rgb(rgb)
    found = code.to_rgb(
        code.legal(luma_after).astype(np.float32),
        code.legal(blue + np.rint(blue_after - coarse[0])).astype(np.float32),
        code.legal(red + np.rint(red_after - coarse[1])).astype(np.float32),
    )
    return float(np.abs(np.clip(found, 0, 1) - np.clip(wanted, 0, 1)).mean())


class Colouring:
    """A look, ready to be applied to frames of one format."""

    def __init__(self, look: Look, pixel_format: str) -> None:
        """pixel_format: planar Y′CbCr of limited range."""
        self.look = look
        self.layout = PixelLayout.of(pixel_format)
        self._ways: dict[int, _Table | _EveryPixel] = {}

    def change(self, picture: VideoFrame, matrix: int) -> None:
        """Change a frame in place. matrix: that it was coded with. It must be writable."""
        if matrix not in self._ways:
            self._ways[matrix] = _way(self.look, ColourCode(self.layout.bit_depth, matrix))
        planes = [plane_lines(picture.planes[place], self.layout) for place in range(3)]
        self._ways[matrix].change(planes, picture.width, picture.height, self.layout)


def colour_linear(picture: VideoFrame, look: Look) -> VideoFrame:
    """A look applied to a frame of floating point R, G and B, values beyond 0…1 included."""
    samples: Any = np.ascontiguousarray(picture.to_ndarray(format="gbrpf32le"))
    processor_of(look).apply(samples)
    changed = VideoFrame.from_ndarray(samples, format="gbrpf32le")
    changed.colorspace = picture.colorspace
    return changed
