"""Burn-ins and watermarks drawn once as stamps: white letters in a dark box, legible on white and on black."""

from __future__ import annotations

from collections.abc import Mapping
from functools import lru_cache
from itertools import accumulate
from pathlib import Path

import numpy as np
from PIL import Image, ImageColor, ImageDraw, ImageFont

from boxkite.core.errors import RenderError
from boxkite.core.picture.pixel_layout import PixelLayout
from boxkite.core.picture.stamp import (
    Array,
    Stamp,
    join_stamps,
    make_stamp,
    position_of,
    replace_part,
)
from boxkite.core.plan.rows import LiveToken, PlannedBurnIn
from boxkite.core.presets.fonts import LIVE_FONT, TEXT_FONT
from boxkite.core.presets.overlays import BurnIn, Watermark

_LEAST_HEIGHT_PX = 12


@lru_cache(maxsize=32)
def _font(path: Path, size_px: int) -> ImageFont.FreeTypeFont:
    return ImageFont.truetype(str(path), size_px)


def _even(value: float) -> int:
    return max(2, round(value / 2) * 2)


def _boxed_letters(
    text: str, font: ImageFont.FreeTypeFont, width_px: int, height_px: int, style: BurnIn, aspect: float
) -> tuple[Array, Array]:
    """Letters over a box as (rgb, alpha), the text in the middle of the height.

    width_px: of square pixels; aspect: width ÷ height of those they are stored in.
    """
    mask = Image.new("L", (width_px, height_px), 0)
    draw = ImageDraw.Draw(mask)
    ascent, descent = font.getmetrics()
    draw.text((0, (height_px - ascent - descent) / 2), text, fill=255, font=font)
    if aspect != 1:
        mask = mask.resize((_even(width_px / aspect), height_px), Image.Resampling.LANCZOS)
    letters = np.asarray(mask, dtype=np.float64) / 255 * style.opacity
    box = style.box_opacity * (1 - letters)
    alpha = letters + box
    inks = [
        np.asarray(ImageColor.getrgb(colour), dtype=np.float64) / 255
        for colour in (style.colour, style.box_colour)
    ]
    rgb = (letters[..., None] * inks[0] + box[..., None] * inks[1]) / np.maximum(alpha, 1e-6)[..., None]
    return rgb, alpha


def _width(stamp: Stamp) -> int:
    return stamp.size[0]


class Line:
    """One line of a burn-in. Its fixed text is drawn once; what runs along is put together from single characters."""

    def __init__(
        self,
        planned: PlannedBurnIn,
        picture_height: int,
        picture_width: int,
        layout: PixelLayout,
        aspect: float = 1.0,
    ) -> None:
        """aspect: width ÷ height of the picture's pixels; letters look the same whatever it is."""
        self.planned = planned
        self._aspect = aspect
        self.layout = layout
        self._picture = picture_width, picture_height
        size_px = max(_LEAST_HEIGHT_PX, round(picture_height * planned.style.height_percent / 100))
        self.runs = any(isinstance(part, LiveToken) for part in planned.parts)
        self._font = _font(planned.style.font or (LIVE_FONT if self.runs else TEXT_FONT), size_px)
        self._height_px = _even(size_px * 1.4)
        self._edge = self._stamp(" " if self.runs else "", _even(size_px * 0.3))
        self._characters: dict[str, Stamp] = {}
        self._shown = ""
        self._lefts: list[int] = []
        self._placed: tuple[Stamp, int, int] | None = None
        if not self.runs:
            self._placed = self._place(self._draw_fixed(picture_width))

    def placed(self, running: Mapping[LiveToken, str]) -> tuple[Stamp, int, int]:
        """The line as it stands on one frame, by what runs along there, and its left and top.

        The next call changes it: of what runs along, only characters that are others than before are put in.
        """
        if self._placed and not self.runs:
            return self._placed
        text = "".join(running[part] if isinstance(part, LiveToken) else part for part in self.planned.parts)
        changed = [
            place for place, (old, new) in enumerate(zip(self._shown, text, strict=False)) if old != new
        ]
        if self._placed and len(text) == len(self._shown) and self._are_as_wide(text, changed):
            for place in changed:
                replace_part(self._placed[0], self._character(text[place]), self._lefts[place], self.layout)
        else:
            characters = [self._character(character) for character in text]
            self._lefts = list(accumulate((_width(one) for one in characters), initial=_width(self._edge)))
            self._placed = self._place(join_stamps([self._edge, *characters, self._edge]))
        self._shown = text
        return self._placed

    def _are_as_wide(self, text: str, places: list[int]) -> bool:
        """Whether the characters at some places are as wide as those that are shown there."""
        return all(
            _width(self._character(text[place])) == _width(self._characters[self._shown[place]])
            for place in places
        )

    def _place(self, stamp: Stamp) -> tuple[Stamp, int, int]:
        style = self.planned.style
        return stamp, *position_of(style.position, stamp, *self._picture, style.nudge)

    def _draw_fixed(self, picture_width: int) -> Stamp:
        text = "".join(str(part) for part in self.planned.parts)
        most = picture_width * self._aspect * 0.62
        while len(text) > 4 and self._font.getlength(text) > most:
            text = text[:-2].rstrip(" …") + "…"
        body = self._stamp(text, _even(self._font.getlength(text) + 1))
        return join_stamps([self._edge, body, self._edge])

    def _character(self, character: str) -> Stamp:
        if character not in self._characters:
            self._characters[character] = self._stamp(
                character, _even(self._font.getlength("0" if character.isascii() else character))
            )
        return self._characters[character]

    def _stamp(self, text: str, width_px: int) -> Stamp:
        height_px, style = self._height_px, self.planned.style
        rgb, alpha = _boxed_letters(text, self._font, width_px, height_px, style, self._aspect)
        return make_stamp(rgb, alpha, self.layout)


def watermark_stamp(
    watermark: Watermark, picture_width: int, layout: PixelLayout, aspect: float = 1.0
) -> Stamp:
    """A watermark's text or image at its width. Raises RenderError when the image cannot be read.

    aspect: width ÷ height of the picture's pixels; it looks the same whatever that is.
    """
    width_px = _even(picture_width * aspect * watermark.width_percent / 100)
    picture = (
        _watermark_text(watermark.text, width_px, watermark.colour)
        if watermark.text
        else _watermark_image(watermark, width_px)
    )
    if aspect != 1:
        stored_px = _even(picture_width * watermark.width_percent / 100)
        picture = picture.resize((stored_px, picture.height), Image.Resampling.LANCZOS)
    values = np.asarray(picture, dtype=np.float64) / 255
    return make_stamp(values[..., :3], values[..., 3] * watermark.opacity, layout)


def _watermark_image(watermark: Watermark, width_px: int) -> Image.Image:
    try:
        with Image.open(str(watermark.image)) as opened:
            picture = opened.convert("RGBA")
    except (OSError, ValueError, Image.DecompressionBombError) as error:
        raise RenderError(f"the watermark cannot be read: {error}", path=watermark.image) from None
    return picture.resize(
        (width_px, _even(picture.height * width_px / picture.width)), Image.Resampling.LANCZOS
    )


def _watermark_text(text: str, width_px: int, colour: str) -> Image.Image:
    """Letters with a dark edge, as wide as asked."""
    trial = _font(TEXT_FONT, 100)
    size_px = max(_LEAST_HEIGHT_PX // 2, int(100 * (width_px - 4) / max(1.0, trial.getlength(text))))
    font = _font(TEXT_FONT, size_px)
    picture = Image.new("RGBA", (width_px, _even(size_px * 1.4)), (0, 0, 0, 0))
    ImageDraw.Draw(picture).text(
        (width_px / 2, picture.height / 2),
        text,
        font=font,
        anchor="mm",
        fill=colour,
        stroke_width=max(1, size_px // 14),
        stroke_fill=(0, 0, 0, 200),
    )
    return picture
