"""How large a picture comes out: turned upright, scaled, sides even where the pixel format asks for it."""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction

from boxkite.core.presets.codecs import CODECS
from boxkite.core.presets.model import Preset


@dataclass(frozen=True)
class Geometry:
    """What is done to the shape of each picture, in this order.

    turn_degrees: 0, 90, 180 or 270 counter-clockwise. crop: columns and rows left out at the right and the
    bottom, so that sides become even without resampling. sample_aspect: of the pixels that come out.
    """

    turn_degrees: int
    crop: tuple[int, int]
    width_px: int
    height_px: int
    sample_aspect: Fraction

    @property
    def size(self) -> str:
        """Width and height as people write them."""
        return f"{self.width_px}x{self.height_px}"


def plan_geometry(
    preset: Preset, width_px: int, height_px: int, *, rotation_degrees: int, sample_aspect: Fraction
) -> Geometry:
    """The shape of the output for a source of this size, rotation and pixel aspect."""
    if rotation_degrees in (90, 270):
        width_px, height_px, sample_aspect = height_px, width_px, 1 / sample_aspect
    assert preset.video
    pixel_format = preset.video.written_format
    subsampled = "420" in pixel_format or "422" in pixel_format
    even_width = 2 if subsampled or CODECS[preset.video.codec].even_width else 1
    even_height = 2 if "420" in pixel_format else 1
    scale = Fraction(str(preset.size_percent)) / 100
    if preset.fit_px:
        scale = min(
            Fraction(1),
            *(Fraction(most, side) for most, side in zip(preset.fit_px, (width_px, height_px), strict=True)),
        )
    if scale == 1:
        crop = (width_px % even_width, height_px % even_height)
        width, height = max(width_px - crop[0], even_width), max(height_px - crop[1], even_height)
    else:
        crop = (0, 0)
        width = max(even_width, round(width_px * scale / even_width) * even_width)
        height = max(even_height, round(height_px * scale / even_height) * even_height)
    return Geometry(rotation_degrees, crop, width, height, sample_aspect)
