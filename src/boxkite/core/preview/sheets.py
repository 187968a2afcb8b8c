"""Stills laid out to be looked at: one with guides, two side by side, or a sheet of many."""

from __future__ import annotations

import io
from collections.abc import Sequence
from pathlib import Path

from PIL import Image, ImageDraw, ImageFont, PngImagePlugin

from boxkite.core.errors import PlanError, setting
from boxkite.core.files.reading import require_file
from boxkite.core.files.writing import replace_file
from boxkite.core.picture.stamp import ACTION_SAFE
from boxkite.core.presets.fonts import LIVE_FONT, TEXT_FONT

GRAPHICS_SAFE = 0.05
"""Share of each side outside the safe area for graphics (EBU R 95)."""
_MAKER = "Box Kite preview"
_PAPER, _INK, _PALE, _LINE = (250, 248, 243), (38, 36, 34), (120, 114, 106), (255, 196, 64)
_MARGIN, _GAP, _CAPTION = 20, 16, 26


def with_guides(still: Image.Image) -> Image.Image:
    """The still with the safe areas drawn: the outer for action, the inner for graphics."""
    drawn = still.copy()
    draw = ImageDraw.Draw(drawn)
    width = max(1, still.height // 360)
    for share in (ACTION_SAFE, GRAPHICS_SAFE):
        left, top = round(still.width * share), round(still.height * share)
        draw.rectangle(
            (left, top, still.width - 1 - left, still.height - 1 - top), outline=_LINE, width=width
        )
    middle, reach = (still.width // 2, still.height // 2), still.height // 30
    draw.line((middle[0] - reach, middle[1], middle[0] + reach, middle[1]), fill=_LINE, width=width)
    draw.line((middle[0], middle[1] - reach, middle[0], middle[1] + reach), fill=_LINE, width=width)
    return drawn


def side_by_side(before: Image.Image, after: Image.Image, captions: tuple[str, str]) -> Image.Image:
    """The source's frame, brought to the size of the still, beside the still."""
    before = before.resize(after.size, Image.Resampling.LANCZOS)
    return sheet([before, after], captions, columns=2, cell_width=after.width)


def sheet(
    stills: Sequence[Image.Image], captions: Sequence[str], *, columns: int, cell_width: int, title: str = ""
) -> Image.Image:
    """Stills in rows, each with its caption below; made smaller to cell_width, never larger."""
    small = [_at_most(still, cell_width) for still in stills]
    cell_height = max(still.height for still in small) + _CAPTION
    cell_width = max(still.width for still in small)
    rows = -(-len(small) // columns)
    heading = 36 if title else 0
    width = 2 * _MARGIN + columns * cell_width + (columns - 1) * _GAP
    height = 2 * _MARGIN + heading + rows * cell_height + (rows - 1) * _GAP
    paper = Image.new("RGB", (width, height), _PAPER)
    draw = ImageDraw.Draw(paper)
    if title:
        draw.text((_MARGIN, _MARGIN - 4), title, font=ImageFont.truetype(str(TEXT_FONT), 20), fill=_INK)
    font = ImageFont.truetype(str(LIVE_FONT), 13)
    for place, (still, caption) in enumerate(zip(small, captions, strict=True)):
        left = _MARGIN + place % columns * (cell_width + _GAP)
        top = _MARGIN + heading + place // columns * (cell_height + _GAP)
        paper.paste(still, (left, top))
        draw.text((left, top + still.height + 6), _fitting(caption, font, cell_width), font=font, fill=_PALE)
    return paper


def _fitting(text: str, font: ImageFont.FreeTypeFont, width: int) -> str:
    while len(text) > 2 and font.getlength(text) > width:
        text = text[:-2].rstrip(" …") + "…"
    return text


def _at_most(still: Image.Image, width: int) -> Image.Image:
    if still.width <= width:
        return still
    return still.resize((width, max(1, round(still.height * width / still.width))), Image.Resampling.LANCZOS)


def save_still(still: Image.Image, path: Path) -> None:
    """Write a PNG. An earlier preview of that name is replaced; anything else is not. Raises PlanError."""
    if path.suffix.lower() != ".png":
        raise PlanError("a still is written as .png", path=path, hint=f"{setting('still')} look.png")
    if path.exists() and not _is_preview(path):
        raise PlanError(
            "this file is there already, and no preview",
            path=path,
            hint=f"name another with {setting('still')}",
        )
    info = PngImagePlugin.PngInfo()
    info.add_text("Software", _MAKER)
    content = io.BytesIO()
    still.save(content, "PNG", pnginfo=info)
    try:
        replace_file(path, content.getvalue())
    except OSError as error:
        raise PlanError(f"it cannot be written: {error.strerror or error}", path=path) from None


def _is_preview(path: Path) -> bool:
    try:
        require_file(path)
        with Image.open(path) as there:
            return there.info.get("Software") == _MAKER
    except (OSError, ValueError):
        return False
