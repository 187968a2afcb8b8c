"""Contact sheets of files: PDF pages with real text, or PNG pages."""

from __future__ import annotations

import io
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from datetime import datetime
from pathlib import Path
from typing import Any

from msgspec import Struct
from PIL import Image, ImageDraw, ImageFont

from boxkite.core.handover.columns import text_of
from boxkite.core.handover.described import Described
from boxkite.core.handover.extras import require
from boxkite.core.handover.good_frames import GoodFrame, good_frames
from boxkite.core.handover.sheet_layout import HEAD, LINE, MARGIN, Place, SheetLayout, fitted, plan_layout
from boxkite.core.machine import usable_cores
from boxkite.core.naming.pattern import Pattern
from boxkite.core.presets.fonts import TEXT_FONT

FORMS = (".pdf", ".png")
_DOTS_A_MM = 8.0
"""Of pictures, and of PNG pages: about 200 a inch."""
_JPEG_QUALITY = 86
_PAPER, _INK, _PALE, _EMPTY = (255, 255, 255), (30, 30, 30), (105, 105, 105), (228, 226, 222)
_POINTS = {"title": 13.0, "name": 8.5, "line": 7.5, "foot": 7.0}
_POINT_MM = 0.3528
_MOST_CHARACTERS = 400


class SheetOptions(Struct, frozen=True):
    """How a sheet looks."""

    title: str
    page: str = "a4"
    landscape: bool = True
    frames: int = 1
    columns: int | None = None
    lines: tuple[Pattern, ...] = ()
    """Below each file's pictures; the first is its name."""


class _Entry(Struct, frozen=True):
    pictures: tuple[GoodFrame, ...]
    lines: tuple[str, ...]


def draw_sheet(
    files: Sequence[Described], options: SheetOptions, form: str, progress: Callable[[], None] = lambda: None
) -> list[bytes]:
    """The pages: one PDF of all, or a PNG each. form: one of FORMS; progress is called after each file."""
    shapes = [one.aspect for one in files]
    layout = plan_layout(
        options.page, landscape=options.landscape, frames=options.frames, lines=len(options.lines),
        columns=options.columns, aspects=shapes,
    )  # fmt: skip
    entries = _entries(files, options, layout, progress)
    if form == ".pdf":
        require("fpdf", "a PDF")
        return [_pdf(entries, layout, options, len(files))]
    return list(_png_pages(entries, layout, options, len(files)))


def _entries(
    files: Sequence[Described], options: SheetOptions, layout: SheetLayout, progress: Callable[[], None]
) -> Iterator[_Entry]:
    """Pictures and lines of each file, in order, a few ahead of what is drawn."""
    width = round(layout.picture_width * _DOTS_A_MM)

    def look(one: Described) -> _Entry:
        pictures = good_frames(one, options.frames, width)
        progress()
        return _Entry(tuple(pictures), tuple(_on_a_line(text_of(line, one.values)) for line in options.lines))

    at_once = 4 * usable_cores()
    with ThreadPoolExecutor(usable_cores()) as pool:
        for first in range(0, len(files), at_once):
            yield from pool.map(look, files[first : first + at_once])


def _on_a_line(text: str) -> str:
    """Text from strangers in one line, without what would turn it or command whatever shows it."""
    kept = "".join(one if one.isprintable() else " " for one in text[:_MOST_CHARACTERS])
    return " ".join(kept.split())


def _pages(entries: Iterator[_Entry], layout: SheetLayout) -> Iterator[list[_Entry]]:
    page: list[_Entry] = []
    for entry in entries:
        page.append(entry)
        if len(page) == layout.on_a_page:
            yield page
            page = []
    if page:
        yield page


def _foot(number: int, count: int) -> str:
    return f"page {number} of {count}"


def _page_count(layout: SheetLayout, files: int) -> int:
    return -(-files // layout.on_a_page)


def _regular_font() -> Path:
    """The regular cut of the font of burn-ins, which comes with the library for charts."""
    from matplotlib import get_data_path

    return Path(get_data_path(), "fonts", "ttf", "DejaVuSans.ttf")


def _pdf(entries: Iterator[_Entry], layout: SheetLayout, options: SheetOptions, files: int) -> bytes:
    from fpdf import FPDF

    pdf: Any = FPDF(unit="mm", format=(layout.width, layout.height))
    pdf.set_auto_page_break(False)
    pdf.set_title(_on_a_line(options.title))
    pdf.set_creator("Box Kite")
    pdf.add_font("sheet", "", str(_regular_font()))
    pdf.add_font("sheet", "B", str(TEXT_FONT))
    count = _page_count(layout, files)

    def write(
        text: str, place: Place, style: str, kind: str, colour: tuple[int, int, int], align: str = "L"
    ) -> None:
        pdf.set_font("sheet", style, _POINTS[kind])
        pdf.set_text_color(*colour)
        pdf.set_xy(place.left, place.top)
        shown = _shortened(text, lambda part: float(pdf.get_string_width(part)), place.width - 0.5)
        pdf.cell(place.width, place.height, shown, align=align)

    for number, page in enumerate(_pages(entries, layout), start=1):
        pdf.add_page()
        for text, place, style, kind, colour, align in _page_texts(layout, options, number, count):
            write(text, place, style, kind, colour, align)
        for at, entry in enumerate(page):
            for place_number in range(layout.frames):
                place = layout.picture(at, place_number)
                if place_number >= len(entry.pictures):
                    pdf.set_fill_color(*_EMPTY)
                    pdf.rect(place.left, place.top, place.width, place.height, style="F")
                    continue
                image = entry.pictures[place_number].image
                own = fitted(image.width, image.height, place)
                content = io.BytesIO()
                image.convert("RGB").save(content, "JPEG", quality=_JPEG_QUALITY)
                pdf.image(content, own.left, own.top, own.width, own.height)
            for text, place, style, kind, colour in _entry_texts(layout, at, entry):
                write(text, place, style, kind, colour)
    return bytes(pdf.output())


def _page_texts(
    layout: SheetLayout, options: SheetOptions, number: int, count: int
) -> list[tuple[str, Place, str, str, tuple[int, int, int], str]]:
    """Title and foot of a page: text, place, style, size, colour, side."""
    inner = layout.width - 2 * MARGIN
    below = layout.height - MARGIN - LINE + 2
    return [
        (_on_a_line(options.title), Place(MARGIN, MARGIN - 1, inner, HEAD - 6), "B", "title", _INK, "L"),
        (f"{datetime.now():%Y-%m-%d}", Place(MARGIN, below, inner / 2, LINE), "", "foot", _PALE, "L"),
        (_foot(number, count), Place(MARGIN + inner / 2, below, inner / 2, LINE), "", "foot", _PALE, "R"),
    ]


def _entry_texts(
    layout: SheetLayout, at: int, entry: _Entry
) -> list[tuple[str, Place, str, str, tuple[int, int, int]]]:
    cell = layout.cell(at)
    top = cell.top + layout.picture_height + 0.8
    return [
        (line, Place(cell.left, top + place * LINE, cell.width, LINE), "" if place else "B",
         "line" if place else "name", _PALE if place else _INK)
        for place, line in enumerate(entry.lines)
        if line
    ]  # fmt: skip


def _shortened(text: str, width_of: Callable[[str], float], width: float) -> str:
    """A text that fits a width, with … in the place of what does not."""
    if width_of(text) <= width:
        return text
    fits, too_long = 0, len(text)
    while fits + 1 < too_long:
        middle = (fits + too_long) // 2
        if width_of(f"{text[:middle].rstrip()}…") <= width:
            fits = middle
        else:
            too_long = middle
    return f"{text[:fits].rstrip()}…"


def _png_pages(
    entries: Iterator[_Entry], layout: SheetLayout, options: SheetOptions, files: int
) -> Iterator[bytes]:
    count = _page_count(layout, files)
    fonts = {
        (style, kind): ImageFont.truetype(
            str(TEXT_FONT if style else _regular_font()), points * _POINT_MM * _DOTS_A_MM
        )
        for style in ("", "B")
        for kind, points in _POINTS.items()
    }
    for number, page in enumerate(_pages(entries, layout), start=1):
        paper = Image.new("RGB", (_dots(layout.width), _dots(layout.height)), _PAPER)
        draw = ImageDraw.Draw(paper)
        for text, place, style, kind, colour, align in _page_texts(layout, options, number, count):
            _draw_text(draw, text, place, fonts[style, kind], colour, align)
        for at, entry in enumerate(page):
            for place_number in range(layout.frames):
                place = layout.picture(at, place_number)
                if place_number >= len(entry.pictures):
                    right, bottom = place.left + place.width, place.top + place.height
                    draw.rectangle((*map(_dots, (place.left, place.top, right, bottom)),), fill=_EMPTY)
                    continue
                image = entry.pictures[place_number].image
                own = fitted(image.width, image.height, place)
                sized = image.resize((_dots(own.width), _dots(own.height)), Image.Resampling.LANCZOS)
                paper.paste(sized, (_dots(own.left), _dots(own.top)))
            for text, place, style, kind, colour in _entry_texts(layout, at, entry):
                _draw_text(draw, text, place, fonts[style, kind], colour)
        content = io.BytesIO()
        paper.save(content, "PNG", dpi=(round(_DOTS_A_MM * 25.4),) * 2)
        yield content.getvalue()


def _dots(mm: float) -> int:
    return max(1, round(mm * _DOTS_A_MM))


def _draw_text(
    draw: ImageDraw.ImageDraw,
    text: str,
    place: Place,
    font: Any,
    colour: tuple[int, int, int],
    align: str = "L",
) -> None:
    shown = _shortened(text, font.getlength, _dots(place.width))
    left = _dots(place.left) if align == "L" else _dots(place.left + place.width) - font.getlength(shown)
    draw.text((left, _dots(place.top + place.height / 2)), shown, font=font, fill=colour, anchor="lm")
