"""Contact sheets as data: which picture and which lines stand where on which page."""

from __future__ import annotations

from collections.abc import Sequence
from math import floor

from msgspec import Struct

PAGES_MM = {"a4": (210.0, 297.0), "a3": (297.0, 420.0), "letter": (215.9, 279.4), "screen": (190.5, 338.7)}
"""Sheets by name, upright: ISO 216, ANSI, and one in the shape of a screen (16 to 9 on its side)."""
MARGIN, GAP, HEAD, FOOT = 10.0, 5.0, 12.0, 7.0
LINE = 4.2
"""Height of a line of text, in mm."""
_COLUMNS = {("landscape", 1): 4, ("portrait", 1): 3, ("landscape", 3): 2, ("portrait", 3): 1}
_BETWEEN = 1.0


class Place(Struct, frozen=True):
    """A rectangle on a page, in mm from its upper left corner."""

    left: float
    top: float
    width: float
    height: float


class SheetLayout(Struct, frozen=True):
    """The grid of a sheet."""

    width: float
    height: float
    """Of a page, in mm."""
    columns: int
    rows: int
    frames: int
    """Pictures of each file, side by side."""
    lines: int
    """Lines of text below them."""
    aspect: float
    """Width ÷ height of a picture's place."""

    @property
    def on_a_page(self) -> int:
        """Files on a page."""
        return self.columns * self.rows

    @property
    def cell_width(self) -> float:
        """Width of a file's place."""
        return (self.width - 2 * MARGIN - (self.columns - 1) * GAP) / self.columns

    @property
    def picture_width(self) -> float:
        """Width of one picture."""
        return (self.cell_width - (self.frames - 1) * _BETWEEN) / self.frames

    @property
    def picture_height(self) -> float:
        """Height of one picture."""
        return self.picture_width / self.aspect

    def cell(self, place: int) -> Place:
        """The place of a file on its page, counted from 0: pictures, then lines."""
        row, column = divmod(place, self.columns)
        height = self.picture_height + self.lines * LINE + 1
        return Place(
            MARGIN + column * (self.cell_width + GAP),
            MARGIN + HEAD + row * (height + GAP),
            self.cell_width,
            height,
        )

    def picture(self, place: int, number: int) -> Place:
        """The place of one of its pictures."""
        cell = self.cell(place)
        left = cell.left + number * (self.picture_width + _BETWEEN)
        return Place(left, cell.top, self.picture_width, self.picture_height)


def plan_layout(
    page: str, *, landscape: bool, frames: int, lines: int, columns: int | None, aspects: Sequence[float]
) -> SheetLayout:
    """The grid for a page. frames: pictures of each file, 1 or 3; aspects: of the pictures, width ÷ height."""
    across, down = PAGES_MM[page]
    width, height = (down, across) if landscape else (across, down)
    known = sorted(aspects)
    aspect = min(max(known[len(known) // 2] if known else 16 / 9, 0.5), 2.4)
    count = columns or _COLUMNS["landscape" if landscape else "portrait", frames]
    layout = SheetLayout(width, height, count, 1, frames, lines, aspect)
    room = height - 2 * MARGIN - HEAD - FOOT
    rows = max(1, floor((room + GAP) / (layout.cell(0).height + GAP)))
    return SheetLayout(width, height, count, rows, frames, lines, aspect)


def fitted(width: float, height: float, place: Place) -> Place:
    """The place of a picture of some shape within a place, as large as possible, in the middle."""
    scale = min(place.width / width, place.height / height)
    own_width, own_height = width * scale, height * scale
    return Place(
        place.left + (place.width - own_width) / 2,
        place.top + (place.height - own_height) / 2,
        own_width,
        own_height,
    )
