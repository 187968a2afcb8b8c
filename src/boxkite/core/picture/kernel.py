"""A look's tables applied by a compiled kernel: what colouring.py does with NumPy, to the same codes, much faster.

numba compiles it on first use and keeps that beside this file, or in the user's cache. Loading it takes half a second
of CPU, so it is for many frames alone: colouring.load_kernel.
"""

from __future__ import annotations

import numba
import numpy as np

Array = np.ndarray
_KINDS = ("uint8", "uint16")
_SIGNATURES = [
    f"void({', '.join([f'{kind}[:, ::1]'] * 3)}, UniTuple(int64, 2), {kind}[::1], int16[:, ::1], UniTuple(int64, 6))"
    for kind in _KINDS
]


@numba.njit(_SIGNATURES, cache=True, nogil=True)
def change(
    luma: Array,
    blue: Array,
    red: Array,
    size: tuple[int, int],
    table: Array,
    added: Array,
    coding: tuple[int, int, int, int, int, int],
) -> None:
    """Change planes in place, each (lines, samples and padding). size: width and height of the picture.

    table: luma by (coarse chroma, luma); added: (n, 2), what blue and red get by (coarse chroma, coarse luma). coding:
    shifts of the subsampling across and down, bits by which chroma and luma are made coarser, steps of coarse chroma,
    levels of luma. An odd edge stands for the sample that is missing beside it.
    """
    shift_x, shift_y, chroma_shift, luma_shift, steps, levels = coding
    half = (1 << chroma_shift) >> 1
    width, height = size
    coarse_levels = levels >> luma_shift
    for y in range((height + shift_y) >> shift_y):
        top = y << shift_y
        below = top + shift_y if top + shift_y < height else top
        for x in range((width + shift_x) >> shift_x):
            left = x << shift_x
            right = left + shift_x if left + shift_x < width else left
            chroma = ((blue[y, x] + half) >> chroma_shift) * steps + ((red[y, x] + half) >> chroma_shift)
            row = chroma * levels
            first, second = luma[top, left], luma[top, right]
            third, fourth = luma[below, left], luma[below, right]
            near = (np.int64(first) + np.int64(fourth)) >> (1 + luma_shift)
            place = np.uintp(
                chroma * coarse_levels + near
            )  # unsigned: signed ones are tried for being negative
            luma[top, left] = table[np.uintp(row + first)]
            luma[top, right] = table[np.uintp(row + second)]
            luma[below, left] = table[np.uintp(row + third)]
            luma[below, right] = table[np.uintp(row + fourth)]
            blue[y, x] += added[place, 0]  # what is below 0 comes round again
            red[y, x] += added[place, 1]
