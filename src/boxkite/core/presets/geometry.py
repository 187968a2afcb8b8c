"""How large a picture comes out: turned upright, sized, sides even where the pixel format asks for it."""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction

from boxkite.core.presets.codecs import CODECS
from boxkite.core.presets.model import Preset


@dataclass(frozen=True)
class Geometry:
    """What is done to the shape of each picture, in this order.

    turn_degrees: 0, 90, 180 or 270 counter-clockwise. crop: columns and rows left out at the right and the
    bottom, so that sides become even without resampling; or, with crop_from, at all sides. crop_from: the column
    and row that the kept part begins at. sample_aspect: of the pixels that come out. inner: the size of the
    picture inside black bars; None without them.
    """

    turn_degrees: int
    crop: tuple[int, int]
    width_px: int
    height_px: int
    sample_aspect: Fraction
    crop_from: tuple[int, int] = (0, 0)
    inner: tuple[int, int] | None = None

    @property
    def size(self) -> str:
        """Width and height as people write them."""
        return f"{self.width_px}x{self.height_px}"

    @property
    def sized_to(self) -> tuple[int, int]:
        """What the picture is sized to, before bars."""
        return self.inner or (self.width_px, self.height_px)

    @property
    def bar_offset(self) -> tuple[int, int]:
        """Where the picture begins between its bars: even numbers, left and top."""
        width, height = self.sized_to
        return (self.width_px - width) // 4 * 2, (self.height_px - height) // 4 * 2


@dataclass(frozen=True)
class _Shape:
    """A picture to be sized. step_x, step_y: what its sides must be multiples of."""

    width_px: int
    height_px: int
    sample_aspect: Fraction
    step_x: int
    step_y: int

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


def plan_geometry(
    preset: Preset, width_px: int, height_px: int, *, rotation_degrees: int, sample_aspect: Fraction
) -> Geometry:
    """The shape of the output for a source of this size, rotation and pixel aspect."""
    if rotation_degrees in (90, 270):
        width_px, height_px, sample_aspect = height_px, width_px, 1 / sample_aspect
    assert preset.video
    pixel_format = preset.video.written_format
    subsampled = "420" in pixel_format or "422" in pixel_format
    step_x = 2 if subsampled or CODECS[preset.video.codec].even_width else 1
    shape = _Shape(width_px, height_px, sample_aspect, step_x, 2 if "420" in pixel_format else 1)
    if preset.fill:
        return _filled(preset, shape, rotation_degrees)
    width, height, aspect = _sized(preset, shape)
    bars = preset.box_px if preset.bars else None
    if (width, height) == (width_px, height_px):
        kept = shape.even_below(width_px, height_px)
        crop = (width_px - kept[0], height_px - kept[1])
        if not bars:
            return Geometry(rotation_degrees, (max(crop[0], 0), max(crop[1], 0)), *kept, aspect)
        width, height = kept
    inner = shape.even(width, height)
    if not bars:
        return Geometry(rotation_degrees, (0, 0), *inner, aspect)
    outer = shape.even_below(*bars)
    inner = min(inner[0], outer[0]), min(inner[1], outer[1])
    if inner == outer:
        return Geometry(rotation_degrees, (0, 0), *outer, aspect)
    return Geometry(rotation_degrees, (0, 0), *outer, aspect, inner=inner)


def _sized(preset: Preset, shape: _Shape) -> tuple[Fraction | int, Fraction | int, Fraction]:
    """Width, height and pixel aspect after sizing, not yet even."""
    if preset.exact:
        assert preset.box_px
        aspect = Fraction(1) if preset.square_pixels else shape.sample_aspect
        return *preset.box_px, aspect
    width: Fraction | int = shape.width_px
    height: Fraction | int = shape.height_px
    aspect = shape.sample_aspect
    if preset.square_pixels and aspect != 1:
        if (aspect > 1) == preset.enlarge:
            width = width * aspect
        else:
            height = height / aspect
        aspect = Fraction(1)
    scale = Fraction(str(preset.size_percent)) / 100
    if preset.fit:
        assert preset.box_px
        scale = min(Fraction(most) / side for most, side in zip(preset.box_px, (width, height), strict=True))
        scale = scale if preset.enlarge else min(scale, Fraction(1))
    return width * scale, height * scale, aspect


def _filled(preset: Preset, shape: _Shape, turn: int) -> Geometry:
    """The box of a preset filled: the middle of the picture that has its proportions, sized to it."""
    assert preset.box_px
    pixel = shape.sample_aspect if preset.square_pixels else Fraction(1)
    wanted = Fraction(*preset.box_px)  # of the box, in its own pixels
    own = Fraction(shape.width_px, shape.height_px) * pixel
    width, height = shape.width_px, shape.height_px
    if own > wanted:
        width = min(width, round(height * wanted / pixel))
    else:
        height = min(height, round(width * pixel / wanted))
    box = preset.box_px
    if not preset.enlarge and (box[0] > width * pixel or box[1] > height):
        wide = width * pixel
        box = round(min(wide, height * wanted)), round(min(Fraction(height), wide / wanted))
    crop_from = ((shape.width_px - width) // 4 * 2, (shape.height_px - height) // 4 * 2)
    aspect = Fraction(1) if preset.square_pixels else shape.sample_aspect
    crop = shape.width_px - width, shape.height_px - height
    return Geometry(turn, crop, *shape.even(*box), aspect, crop_from)
