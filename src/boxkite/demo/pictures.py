"""Drawing the frames of "A Hundred Sheets": a still of each place, and what moves in front of it."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from av.video.frame import VideoFrame
from PIL import Image, ImageDraw, ImageFont

from boxkite.core.picture.stamp import Array
from boxkite.core.presets.fonts import LIVE_FONT, TEXT_FONT
from boxkite.demo.barcode import HEIGHT_SHARE, draw_barcode

PATCHES = (
    (235, 235, 235),
    (180, 180, 180),
    (128, 128, 128),
    (64, 64, 64),
    (200, 60, 50),
    (70, 150, 70),
    (50, 80, 180),
    (220, 190, 60),
)
"""Colour patches in every frame, as R′G′B′ in 0…255."""


@dataclass(frozen=True)
class Place:
    """One place at the mill."""

    title: str
    sky: tuple[int, int, int]
    floor: tuple[int, int, int]
    """Colours of the back."""
    thing: tuple[int, int, int]
    """Colour of what moves."""
    speed: int


LEADER = Place("A Hundred Sheets", (24, 24, 30), (40, 38, 36), (90, 86, 80), 0)
BEATER = Place("the beater", (96, 112, 120), (84, 70, 58), (206, 200, 184), 9)
VAT = Place("the vat", (120, 128, 110), (58, 84, 96), (222, 216, 196), 5)
COUCH = Place("couching", (140, 120, 100), (98, 78, 62), (236, 230, 214), -6)
PRESS = Place("the press", (86, 84, 92), (64, 52, 46), (176, 60, 52), 3)
LOFT = Place("the loft", (176, 168, 148), (120, 98, 74), (244, 240, 230), -4)


@lru_cache(maxsize=16)
def _still(place: Place, width: int, height: int) -> tuple[Array, Array, Array]:
    """The place without what moves, as limited-range BT.709 planes of 4:2:0."""
    picture = Image.new("RGB", (width, height))
    draw = ImageDraw.Draw(picture)
    horizon = height * 5 // 9
    for y in range(height):
        colour, share = (
            (place.sky, 1 - y / horizon / 3) if y < horizon else (place.floor, 1 - (y - horizon) / height)
        )
        draw.line((0, y, width, y), fill=tuple(int(part * share) for part in colour))
    for index in range(7):
        x = width * (2 * index + 1) // 14
        draw.rectangle(
            (x - width // 40, height // 5, x + width // 40, horizon),
            fill=tuple(min(255, part + 14 + 6 * (index % 3)) for part in place.sky),
        )
    font = ImageFont.truetype(str(TEXT_FONT), max(10, height // 18))
    draw.text((width // 24, height * 2 // 9), place.title, font=font, fill=(245, 242, 232))
    side = width // 20
    for index, colour in enumerate(PATCHES):
        left = width // 24 + index * (side + side // 4)
        draw.rectangle((left, height * 7 // 10, left + side, height * 7 // 10 + side), fill=colour)
    frame = VideoFrame.from_ndarray(np.asarray(picture), format="rgb24").reformat(
        format="yuv420p", dst_colorspace="ITU709", dst_color_range="MPEG"
    )
    planes = frame.to_ndarray()
    chroma = planes[height:].reshape(2, height // 2, width // 2)
    return planes[:height].copy(), chroma[0].copy(), chroma[1].copy()


@lru_cache(maxsize=32)
def _digit(character: str, size: int) -> Array:
    """One character as luma (height, width), light on dark."""
    font = ImageFont.truetype(str(LIVE_FONT), size)
    picture = Image.new("L", (int(font.getlength("0")) + 2, int(size * 1.2)), 30)
    ImageDraw.Draw(picture).text((1, 0), character, font=font, fill=230)
    return np.asarray(picture)


def draw_picture(place: Place, source: int, frame: int, width: int, height: int) -> VideoFrame:
    """One frame, 8-bit 4:2:0 BT.709: the place, a moving sheet, the frame's number as text and as bar code.

    Width and height must be even.
    """
    still, blue, red = _still(place, width, height)
    planes = np.empty((height * 3 // 2, width), dtype=np.uint8)
    luma = planes[:height]
    luma[:] = still
    chroma = planes[height:].reshape(2, height // 2, width // 2)
    chroma[0], chroma[1] = blue, red
    sheet_w, sheet_h = width // 6, height // 6
    left = (width // 3 + place.speed * frame * width // 1280) % (width - sheet_w)
    top = height * 2 // 5
    level = int(0.2126 * place.thing[0] + 0.7152 * place.thing[1] + 0.0722 * place.thing[2])
    luma[top : top + sheet_h, left : left + sheet_w] = 16 + level * 219 // 255
    text = np.hstack([_digit(character, max(10, height // 9)) for character in f"{frame:05d}"])
    y, x = height // HEIGHT_SHARE + height // 40, width // 2
    luma[y : y + text.shape[0], x : x + text.shape[1]] = text
    draw_barcode(luma, source, frame)
    picture = VideoFrame.from_ndarray(planes, format="yuv420p")
    picture.colorspace, picture.color_primaries, picture.color_trc, picture.color_range = 1, 1, 1, 1
    return picture
