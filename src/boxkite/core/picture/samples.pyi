"""What samples.c takes and gives back. Buffers hold samples of one or two bytes, lines a step in bytes apart."""

from collections.abc import Callable
from typing import Any

def change_colours(
    luma: Any,
    blue: Any,
    red: Any,
    steps: tuple[int, int, int],
    size: tuple[int, int],
    table: Any,
    added: Any,
    coding: tuple[int, int, int, int, int, int],
    sample_bytes: int,
) -> None:
    """Apply a look to planes in place. steps: of each plane; size: width and height of the picture.

    table: luma by (coarse chroma, luma); added: int16 (n, 2), what blue and red get by (coarse chroma, coarse luma).
    coding: shifts of the subsampling across and down, bits by which chroma and luma are made coarser, steps of coarse
    chroma, levels of luma. An odd edge stands for the sample that is missing beside it. Raises ValueError.
    """

def lay_over(
    plane: Any,
    step: int,
    size: tuple[int, int],
    place: tuple[int, int],
    keep: Any,
    add: Any,
    of_size: tuple[int, int],
    sample_bytes: int,
) -> None:
    """plane × keep ÷ 256 + add, in place, where the plane has samples. size: of the plane; place: left and top.

    keep, add: of_size (width, height), uint16 for samples of one byte, uint32 for two. Raises ValueError.
    """

def print_of(plane: Any, step: int, height: int, across: int, sample_bytes: int, bits_above: int) -> bytes:
    """96 means, 8 bits each: of 16 stretches, across samples together, of 6 lines. Raises ValueError.

    bits_above: of a sample above the eighth.
    """

HAS_AVX512: int

closeness: Callable[[Any, Any, tuple[int, int], tuple[int, int], int, int], tuple[int, float]]
"""(planes, their steps, width and height, bits of the first, by how many the second has fewer) to squared error over
all bits, mean SSIM of the upper eight. Fewer, but more than eight, where the first has two bytes.

Only there where the processor has AVX2. Raises ValueError for pictures smaller than 8 × 8.
"""
