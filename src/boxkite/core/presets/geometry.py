"""The size of an output's picture: rotated upright, sized, sides even where the pixel format asks for it."""

from __future__ import annotations

from fractions import Fraction
from typing import Literal

from msgspec import Struct

from boxkite.core.presets.codecs import CODECS
from boxkite.core.presets.model import Preset

_FLATTEST_PIXEL = 4
"""Times as wide as high, or as high as wide; what says more makes no sense."""


class Geometry(Struct, frozen=True):
    """The changes to the shape of each frame: rotation, cropping, sizing, bars."""

    rotation_degrees: int
    """0, 90, 180 or 270, counter-clockwise."""
    crop: tuple[int, int]
    """Columns and rows cropped, at the right and the bottom so that sides become even; with crop_from at all sides."""
    width_px: int
    height_px: int
    sample_aspect: Fraction
    """Of the pixels of the output."""
    crop_from: tuple[int, int] = (0, 0)
    """The column and row that the kept part begins at."""
    inner: tuple[int, int] | None = None
    """The size of the picture inside black bars; None without them."""

    @property
    def size(self) -> str:
        """Width and height as people write them."""
        return f"{self.width_px}x{self.height_px}"

    @property
    def sized_to(self) -> tuple[int, int]:
        """The size of the picture before bars are added."""
        return self.inner or (self.width_px, self.height_px)

    @property
    def bar_offset(self) -> tuple[int, int]:
        """Where the picture begins between its bars: even numbers, left and top."""
        width, height = self.sized_to
        return (self.width_px - width) // 4 * 2, (self.height_px - height) // 4 * 2


class _Shape(Struct, frozen=True):
    """A frame to be sized."""

    width_px: int
    height_px: int
    sample_aspect: Fraction
    step_x: int
    step_y: int
    """Its sides must be multiples of these."""

    def even(self, width: Fraction | int, height: Fraction | int) -> tuple[int, int]:
        """A size brought to the nearest that the pixel format takes."""
        return (
            max(self.step_x, round(width / self.step_x) * self.step_x),
            max(self.step_y, round(height / self.step_y) * self.step_y),
        )

    def even_below(self, width: int, height: int) -> tuple[int, int]:
        """The largest size the pixel format takes that is no larger."""
        return (
            max(self.step_x, width - width % self.step_x),
            max(self.step_y, height - height % self.step_y),
        )


class Sizing(Struct, frozen=True):
    """How frames are brought to the size of an output."""

    way: Literal["scale", "fit", "fill", "exact"] = "scale"
    """scale: by a percentage; fit: into a box; fill: over a box, the rest cropped; exact: stretched to a box."""
    box_px: tuple[int, int] = (0, 0)
    """Width and height of the box."""
    percent: Fraction = Fraction(100)
    """Of both sides, for scale."""
    bars: bool = False
    """Whether black bars fill the box that a frame is fitted into."""
    enlarge: bool = False
    """Whether fit and fill may make a frame larger than its source."""
    square_pixels: bool = False
    """Whether anamorphic frames get square pixels."""
    steps: tuple[int, int] = (1, 1)
    """Width and height must be multiples of these."""


def steps_of(codec: str, pixel_format: str) -> tuple[int, int]:
    """The numbers that width and height must be multiples of, for a codec and a pixel format."""
    subsampled = "420" in pixel_format or "422" in pixel_format
    return 2 if subsampled or CODECS[codec].even_width else 1, 2 if "420" in pixel_format else 1


def sizing_of(preset: Preset) -> Sizing:
    """How a preset with a picture brings it to size."""
    assert preset.video
    ways: dict[str | None, Literal["fit", "fill", "exact"]] = {one: one for one in ("fit", "fill", "exact")}
    return Sizing(
        way=ways.get(preset.sizing, "scale"),
        box_px=preset.box_px or (0, 0),
        percent=Fraction(str(preset.size_percent)),
        bars=preset.bars,
        enlarge=preset.enlarge,
        square_pixels=preset.square_pixels,
        steps=steps_of(preset.video.codec, preset.video.written_format),
    )


def drawn_aspect(sample_aspect: Fraction) -> Fraction:
    """The pixel aspect that pictures are drawn for: 1 where a file says one that makes no sense."""
    return sample_aspect if Fraction(1, _FLATTEST_PIXEL) <= sample_aspect <= _FLATTEST_PIXEL else Fraction(1)


def plan_geometry(
    sizing: Sizing, width_px: int, height_px: int, *, rotation_degrees: int, sample_aspect: Fraction
) -> Geometry:
    """The shape of the output for a source of this size, rotation and pixel aspect."""
    if rotation_degrees in (90, 270):
        width_px, height_px, sample_aspect = height_px, width_px, 1 / sample_aspect
    shape = _Shape(width_px, height_px, sample_aspect, *sizing.steps)
    if sizing.way == "fill":
        return _filled(sizing, shape, rotation_degrees)
    width, height, aspect = _sized(sizing, shape)
    if (width, height) == (width_px, height_px):
        kept = shape.even_below(width_px, height_px)
        crop = (width_px - kept[0], height_px - kept[1])
        if not sizing.bars:
            return Geometry(rotation_degrees, (max(crop[0], 0), max(crop[1], 0)), *kept, aspect)
        width, height = kept
    inner = shape.even(width, height)
    if not sizing.bars:
        return Geometry(rotation_degrees, (0, 0), *inner, aspect)
    outer = shape.even_below(*sizing.box_px)
    inner = min(inner[0], outer[0]), min(inner[1], outer[1])
    if inner == outer:
        return Geometry(rotation_degrees, (0, 0), *outer, aspect)
    return Geometry(rotation_degrees, (0, 0), *outer, aspect, inner=inner)


def _sized(sizing: Sizing, shape: _Shape) -> tuple[Fraction | int, Fraction | int, Fraction]:
    """Width, height and pixel aspect after sizing, not yet even."""
    if sizing.way == "exact":
        return *sizing.box_px, Fraction(1) if sizing.square_pixels else shape.sample_aspect
    width: Fraction | int = shape.width_px
    height: Fraction | int = shape.height_px
    aspect = shape.sample_aspect
    if sizing.square_pixels and aspect != 1:
        if (aspect > 1) == sizing.enlarge:
            width = width * aspect
        else:
            height = height / aspect
        aspect = Fraction(1)
    scale = sizing.percent / 100
    if sizing.way == "fit":
        scale = min(Fraction(most) / side for most, side in zip(sizing.box_px, (width, height), strict=True))
        scale = scale if sizing.enlarge else min(scale, Fraction(1))
    return width * scale, height * scale, aspect


def _filled(sizing: Sizing, shape: _Shape, rotation_degrees: int) -> Geometry:
    """The box filled: the middle of the picture that has its proportions, sized to it."""
    box = sizing.box_px
    pixel = shape.sample_aspect if sizing.square_pixels else Fraction(1)
    wanted = Fraction(*box)  # of the box, in its own pixels
    own = Fraction(shape.width_px, shape.height_px) * pixel
    width, height = shape.width_px, shape.height_px
    if own > wanted:
        width = min(width, round(height * wanted / pixel))
    else:
        height = min(height, round(width * pixel / wanted))
    if not sizing.enlarge and (box[0] > width * pixel or box[1] > height):
        wide = width * pixel
        box = round(min(wide, height * wanted)), round(min(Fraction(height), wide / wanted))
    crop_from = ((shape.width_px - width) // 4 * 2, (shape.height_px - height) // 4 * 2)
    aspect = Fraction(1) if sizing.square_pixels else shape.sample_aspect
    crop = shape.width_px - width, shape.height_px - height
    return Geometry(rotation_degrees, crop, *shape.even(*box), aspect, crop_from)
