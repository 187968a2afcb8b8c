"""Contact sheets and review pages as they are asked for, by a command or by a job."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Sequence
from contextlib import AbstractContextManager
from pathlib import Path

from msgspec import Struct

from boxkite.core.errors import RequestError
from boxkite.core.handover.contact_sheet import FORMS, SheetOptions, draw_sheet
from boxkite.core.handover.delivery import Delivery
from boxkite.core.handover.described import Described, Description
from boxkite.core.handover.review_page import PageOptions, ReviewShot, check_place, review_shots, write_page
from boxkite.core.handover.written import Existing, free_path, write
from boxkite.core.naming.pattern import check_tokens, read_text_pattern

SHEET_LINES = ("@name", "@length · @start", "[@keywords · ]@note")
PAGE_LINES = ("@(marker|clip|name)", "@length · @start", "[@keywords · ]@note")
PAGE_FACTS = ("@filename", "@resolution, @fps fps[, @camera]", "[scene @scene][, take @take]")
SECTION = "[scene @scene]"
MOST_COLUMNS = 12

Counting = Callable[[int], AbstractContextManager[Callable[[], None]]]
"""Takes how many things are to be done; what it gives is called after each."""


def silently(_: int) -> AbstractContextManager[Callable[[], None]]:
    """A Counting that tells nobody."""
    return contextlib.nullcontext(lambda: None)


class SheetRequest(Struct, frozen=True):
    """A contact sheet as it is asked for."""

    into: Path
    title: str | None = None
    """None for the batch or folder."""
    lines: Sequence[str] = SHEET_LINES
    preset: str = ""
    """Only files of this preset; empty for all."""
    page: str = "a4"
    landscape: bool = True
    frames: int = 1
    columns: int | None = None
    existing: Existing = "stop"

    def require_form(self) -> None:
        """Raises RequestError for what no sheet can be."""
        if self.into.suffix.lower() not in FORMS:
            raise RequestError(f"a contact sheet is written as {' or '.join(FORMS)}", path=self.into)
        if self.columns is not None and not 1 <= self.columns <= MOST_COLUMNS:
            raise RequestError(f"columns: 1 to {MOST_COLUMNS}")
        if self.frames not in (1, 3):
            raise RequestError("frames: 1 or 3")


def make_sheet(
    delivery: Delivery, description: Description, request: SheetRequest, counting: Counting = silently
) -> tuple[list[Path], int]:
    """Draw and write a sheet: its pages, and how many files are on it. Raises RequestError, PatternError, PlanError."""
    request.require_form()
    form = request.into.suffix.lower()
    lines = tuple(map(read_text_pattern, request.lines))
    for line in lines:
        check_tokens(line, description.tokens)
    files = _of_preset(description.files, request.preset)
    options = SheetOptions(
        title=request.title if request.title is not None else delivery.title, page=request.page,
        landscape=request.landscape, frames=request.frames, columns=request.columns, lines=lines,
    )  # fmt: skip
    into = request.into
    if form == ".pdf":
        free_path(into, request.existing)
    with counting(len(files)) as progress:
        pages = draw_sheet(files, options, form, progress)
    digits = len(str(len(pages)))
    paths = [into] if len(pages) == 1 else [
        into.with_name(f"{into.stem}-{number:0{digits}d}{into.suffix}") for number in range(1, len(pages) + 1)
    ]  # fmt: skip
    paths = [free_path(path, request.existing) for path in paths]
    for path, content in zip(paths, pages, strict=True):
        write(path, content, request.existing)
    return paths, len(files)


def _of_preset(files: Sequence[Described], preset: str) -> list[Described]:
    found = [one for one in files if not preset or one.values["preset"].shown() == preset]
    if not found:
        known = sorted({one.values["preset"].shown() for one in files} - {""})
        raise RequestError(f"no file is of the preset “{preset}”", hint=f"there are: {', '.join(known)}")
    return found


class PageRequest(Struct, frozen=True):
    """A review page as it is asked for."""

    into: Path
    title: str | None = None
    """None for the batch or folder."""
    section: str = SECTION
    lines: Sequence[str] = PAGE_LINES
    existing: str = "stop"


def make_page(
    delivery: Delivery, description: Description, request: PageRequest, counting: Counting = silently
) -> list[ReviewShot]:
    """Write a page: its shots. Raises RequestError, PatternError, PlanError."""
    into = request.into.absolute()
    check_place(into, request.existing)
    section = read_text_pattern(request.section)
    lines = tuple(map(read_text_pattern, request.lines))
    facts = tuple(map(read_text_pattern, PAGE_FACTS))
    for pattern in (section, *lines, *facts):
        check_tokens(pattern, description.tokens)
    shots = review_shots(description.files, section)
    title = request.title if request.title is not None else delivery.title
    options = PageOptions(title, section, lines, facts)
    with counting(len(shots)) as progress:
        write_page(into, shots, options, delivery.label if delivery.is_batch else "", progress)
    return shots
