"""A strip of what detecting found: the last frame before each cut beside the first one after it."""

from __future__ import annotations

import io
from collections.abc import Sequence
from pathlib import Path

from PIL import Image, ImageDraw, ImageFont

from boxkite.core.errors import MarksError
from boxkite.core.files.writing import create_file
from boxkite.core.footage.decoding import read_frames
from boxkite.core.marks.cut_decider import Change
from boxkite.core.presets.fonts import LIVE_FONT, TEXT_FONT
from boxkite.core.preview.stills import as_image
from boxkite.core.shots.shot import IndexedSource
from boxkite.core.timebase import Span

MOST_DRAWN = 96
_PICTURE_WIDTH, _GAP, _CAPTION, _MARGIN = 148, 8, 22, 16
_COLUMNS = 4
_PAPER, _INK, _PALE = (250, 248, 243), (38, 36, 34), (120, 114, 106)


def draw_strip(path: Path, footage: IndexedSource, changes: Sequence[Change]) -> int:
    """Draw the changes of a source as a PNG and return how many were drawn, at most MOST_DRAWN.

    Raises MarksError when the file is there already or cannot be written; DamagedError where frames are broken.
    """
    if path.exists():
        raise MarksError("this file is there already", path=path, hint="nothing is overwritten: name another")
    drawn = list(changes)[:MOST_DRAWN]
    pairs = [(change, *_pair(footage, change)) for change in drawn]
    height = max((first.height for _, first, _ in pairs), default=80)
    rows = -(-len(pairs) // _COLUMNS)
    cell_width, cell_height = 2 * _PICTURE_WIDTH + 2, height + _CAPTION + _GAP
    title_height = 40
    size = (
        2 * _MARGIN + _COLUMNS * cell_width + (_COLUMNS - 1) * 2 * _GAP,
        2 * _MARGIN + title_height + rows * cell_height,
    )
    sheet = Image.new("RGB", size, _PAPER)
    draw = ImageDraw.Draw(sheet)
    title_font, font = ImageFont.truetype(str(TEXT_FONT), 20), ImageFont.truetype(str(LIVE_FONT), 13)
    more = f", the first {len(drawn)} drawn" if len(drawn) < len(changes) else ""
    title = f"{footage.source.label}: {len(changes)} changes found{more}"
    draw.text((_MARGIN, _MARGIN), title, font=title_font, fill=_INK)
    for number, (change, before, after) in enumerate(pairs):
        left = _MARGIN + number % _COLUMNS * (cell_width + 2 * _GAP)
        top = _MARGIN + title_height + number // _COLUMNS * cell_height
        sheet.paste(before, (left, top))
        sheet.paste(after, (left + _PICTURE_WIDTH + 2, top))
        kind = f"dissolve {change.length}" if change.length else "cut"
        caption = f"{number + 2:03d}  {footage.timecode(change.frame)}  {kind}"
        draw.text((left, top + height + 3), caption, font=font, fill=_PALE if change.length else _INK)
    content = io.BytesIO()
    sheet.save(content, "PNG")
    try:
        create_file(path, content.getvalue())
    except OSError as error:
        raise MarksError(f"the strip cannot be written: {error}", path=path) from None
    return len(drawn)


def _pair(footage: IndexedSource, change: Change) -> tuple[Image.Image, Image.Image]:
    """The frames on both sides of a change, made small; of a dissolve, those where it begins and ends."""
    reach = change.length // 2 + 1
    last = footage.frame_index.frame_count - 1
    places = (max(0, change.frame - reach), min(last, change.frame + reach - 1))
    return _small(footage, places[0]), _small(footage, places[1])


def _small(footage: IndexedSource, frame: int) -> Image.Image:
    for _, picture in read_frames(footage.source, footage.frame_index, Span(frame, frame + 1), threads=1):
        image = as_image(picture)
        if turn := footage.frame_index.rotation_degrees:
            image = image.rotate(turn, expand=True)
        return image.resize((_PICTURE_WIDTH, max(1, image.height * _PICTURE_WIDTH // image.width)))
    return Image.new("RGB", (_PICTURE_WIDTH, _PICTURE_WIDTH * 9 // 16))
