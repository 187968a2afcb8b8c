"""How pixel formats store their samples."""

from __future__ import annotations

from msgspec import Struct


class PixelLayout(Struct, frozen=True):
    """How a planar Y′CbCr format stores its samples."""

    bit_depth: int
    shift_x: int
    shift_y: int
    """Chroma subsampling as powers of two."""
    has_alpha: bool = False

    @classmethod
    def of(cls, pixel_format: str) -> PixelLayout:
        """The layout of a format by the codec library's name, as yuv422p10le."""
        shift_x = 0 if "444" in pixel_format else 1
        shift_y = 1 if "420" in pixel_format else 0
        depth = next((bits for bits in (10, 12, 16) if f"p{bits}" in pixel_format), 8)
        return cls(depth, shift_x, shift_y, pixel_format.startswith("yuva"))
