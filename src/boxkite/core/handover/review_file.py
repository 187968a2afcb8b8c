"""Reviews as the page saves them (docs/formats.md): read, checked, brought back to the sources as marks and stills."""

from __future__ import annotations

import io
import json
import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from msgspec import Struct, field
from PIL import Image, ImageDraw

from boxkite.core.errors import BoxkiteError, MarksError
from boxkite.core.files.reading import read_bytes
from boxkite.core.files.writing import create_file
from boxkite.core.handover.deep_checking import Plans
from boxkite.core.handover.delivery import DeliveredFile
from boxkite.core.handover.good_frames import frame_of_file
from boxkite.core.marks.mark_table import MarkRow, read_mark_rows, table_beside
from boxkite.core.notices.handover import REVIEW_SKIPPED, REVIEW_UNKNOWN
from boxkite.core.notices.notice import Notice
from boxkite.core.plan.rows import Row
from boxkite.core.records.store import Records
from boxkite.core.shots.marking import open_markable

FORMAT, VERSION = "boxkite-review", 1
NOT_GOOD = "not good"
"""The verdict, and the keyword that such shots get."""
_VERDICTS = ("good", NOT_GOOD, "open")
_MOST_BYTES = 64_000_000
_MOST_CHARACTERS, _MOST_LINES, _MOST_POINTS = 4000, 200, 20_000
_BELOW, _ABOVE = ("#000000", 6), ("#ffd23f", 3)
"""Colour and width of drawn lines on a picture 720 pixels high: dark below, light above."""


class Note(Struct, frozen=True):
    """One note: on a frame of the file, or on a range of frames, both ends included."""

    frame: int
    end: int | None
    text: str
    by: str
    lines: tuple[tuple[tuple[float, float], ...], ...] = ()
    """Drawn on the frame, from 0 to 1 across and down."""


class ReviewedShot(Struct, frozen=True):
    """What was said of a shot."""

    identity: str
    name: str
    verdict: str
    notes: tuple[Note, ...]


class Review(Struct, frozen=True):
    """A saved review."""

    path: Path
    reviewer: str
    shots: tuple[ReviewedShot, ...]


class ReviewedMarks(Struct):
    """Marks for the tables beside the sources, and stills."""

    rows: dict[Path, list[MarkRow]] = field(default_factory=dict)
    """By table."""
    circles: dict[Path, dict[tuple[str, str, str], bool]] = field(default_factory=dict)
    """By table: for marks that are there already, by source, in and out, whether they are circled."""
    stills: list[Path] = field(default_factory=list)
    notices: list[Notice] = field(default_factory=list)


def is_review(path: Path) -> bool:
    """Whether a file is a saved review, by its first bytes."""
    if path.suffix.lower() != ".json":
        return False
    try:
        with path.open("rb") as file:
            return re.match(rb'\s*\{\s*"format":\s*"' + FORMAT.encode() + rb'"', file.read(200)) is not None
    except OSError:
        return False


def read_review(path: Path) -> Review:
    """The review in a file. Raises MarksError with the place of what is not right."""
    try:
        content = json.loads(read_bytes(path, _MOST_BYTES))
    except OSError as error:
        raise MarksError(f"it cannot be read: {error.strerror or error}", path=path) from None
    except (ValueError, RecursionError) as error:
        raise MarksError(f"this is not JSON: {error}", path=path) from None
    if not isinstance(content, dict) or content.get("format") != FORMAT:
        raise MarksError("this is no review of a review page", path=path)
    if content.get("version") != VERSION:
        raise MarksError(
            f"it is of version {content.get('version')}, this program reads {VERSION}", path=path
        )
    shots = content.get("shots")
    if not isinstance(shots, list):
        raise MarksError("shots is no list", path=path)
    return Review(
        path, _text(content.get("reviewer")), tuple(_shot(one, at, path) for at, one in enumerate(shots))
    )


def _text(value: Any) -> str:
    return "".join(one for one in str(value or "")[:_MOST_CHARACTERS] if one.isprintable() or one == "\n")


def _shot(value: Any, at: int, path: Path) -> ReviewedShot:
    where = f"shots[{at}]"
    if not isinstance(value, dict) or value.get("verdict") not in _VERDICTS:
        raise MarksError(f"{where}: the verdict is none of {', '.join(_VERDICTS)}", path=path)
    notes = value.get("notes")
    if not isinstance(notes, list):
        raise MarksError(f"{where}: notes is no list", path=path)
    read = tuple(_note(one, f"{where}.notes[{number}]", path) for number, one in enumerate(notes))
    return ReviewedShot(str(value.get("id", "")), _text(value.get("name")), value["verdict"], read)


def _note(value: Any, where: str, path: Path) -> Note:
    frame = value.get("frame") if isinstance(value, dict) else None
    end = value.get("end") if isinstance(value, dict) else None
    for one in (frame, end):
        if (
            isinstance(one, bool)
            or not (isinstance(one, int) or (one is None and one is end))
            or (one or 0) < 0
        ):
            raise MarksError(f"{where}: frame and end are whole numbers from 0", path=path)
    assert isinstance(frame, int)
    lines = value.get("lines") or []
    try:
        drawn = tuple(
            tuple(
                (min(max(float(x), 0.0), 1.0), min(max(float(y), 0.0), 1.0)) for x, y in line[:_MOST_POINTS]
            )
            for line in lines[:_MOST_LINES]
        )
    except (TypeError, ValueError):
        raise MarksError(f"{where}: lines are lists of [x, y]", path=path) from None
    return Note(
        frame, end, _text(value.get("text")), _text(value.get("by")), tuple(line for line in drawn if line)
    )


def marks_of(review: Review, stills: Path | None, table: Path | None = None) -> ReviewedMarks:
    """The marks that a review makes on the sources of its shots.

    stills: the folder that frames with lines are written into, None for none; table: instead of marks.csv beside each
    source. What cannot be brought back is in the notices. Raises RecordsError, MarksError.
    """
    found, plans = ReviewedMarks(), Plans()
    for shot in review.shots:
        named = _made(shot.identity)
        row, reason = plans.row_of(named) if named else (None, "")
        if named is None or row is None:
            reason = reason or "no batch here made it"
            found.notices.append(REVIEW_UNKNOWN(name=shot.name or shot.identity, reason=reason))
            continue
        try:
            _take(found, shot, row, named, stills, table)
        except BoxkiteError as error:
            found.notices.append(REVIEW_SKIPPED(name=shot.name, reason=error.message))
    return found


def _made(identity: str) -> DeliveredFile | None:
    """The file of a shot by its identity on the page, where a batch on record made it."""
    batch, mark, number = identity.rpartition("#")
    if not mark or not number.isascii() or not number.isdigit() or not Records.are_kept():
        return None
    with Records() as records:
        try:
            files = records.batch(batch).files
        except BoxkiteError:
            return None
    record = next((file for file in files if file.number == int(number)), None)
    return DeliveredFile(record.path.parent, record.path, record, batch) if record else None


def _take(
    found: ReviewedMarks,
    shot: ReviewedShot,
    row: Row,
    file: DeliveredFile,
    stills: Path | None,
    table: Path | None,
) -> None:
    source = row.shot.footage.source.path
    on = open_markable(source, None)
    into = table or table_beside(source)
    start, end = on.text(row.span.start), on.text(row.span.end)
    name = row.shot.marker or shot.name
    if shot.verdict != "open":
        known = {
            (one.source, one.in_text, one.out_text) for one in (read_mark_rows(into) if into.exists() else ())
        }
        is_good = shot.verdict == "good"
        if (on.name, start, end) in known:
            found.circles.setdefault(into, {})[on.name, start, end] = is_good
        else:
            words = () if is_good else (NOT_GOOD,)
            found.rows.setdefault(into, []).append(MarkRow(on.name, name, start, end, words, is_good))
    for number, note in enumerate(shot.notes, start=1):
        first = row.span.start + row.frame_shown(min(note.frame, row.frames - 1))
        last = (
            row.span.start + row.frame_shown(min(note.end, row.frames - 1)) if note.end is not None else None
        )
        by = f"{note.by}: " if note.by else ""
        found.rows.setdefault(into, []).append(
            MarkRow(on.name, f"{name} note {number}", on.text(first), on.text(last + 1) if last is not None else "",
                    ("review",), False, f"{by}{note.text}".strip())
        )  # fmt: skip
        if note.lines and stills:
            found.stills.append(_still(stills, shot, note, file, row, number))


def _still(folder: Path, shot: ReviewedShot, note: Note, file: DeliveredFile, row: Row, number: int) -> Path:
    """A frame of the finished file with the lines drawn on it, as PNG. Raises MarksError."""
    frame = min(note.frame, row.frames - 1)
    image = None
    if file.path.is_file():
        image = frame_of_file(file.path, frame, float(row.rate.fraction), is_copied=row.is_copied)
    if image is None:
        raise MarksError(f"frame {frame} cannot be drawn on: {file.path.name} is not there, or is no media")
    draw_lines(image, note)
    plain = re.sub(r"[^\w .-]+", "-", shot.name).strip(" .-") or "shot"
    path = folder / f"{plain[:80]}_{number}_{frame:06d}.png"
    content = io.BytesIO()
    image.save(content, "PNG")
    try:
        folder.mkdir(parents=True, exist_ok=True)
        create_file(path, content.getvalue())
    except FileExistsError:
        return path  # from an earlier import; somebody may have gone on with it
    except OSError as error:
        raise MarksError(
            f"it cannot be written: {(error.strerror or str(error)).lower()}", path=path
        ) from None
    return path


def draw_lines(image: Image.Image, note: Note) -> None:
    """Draw a note's lines on a frame."""
    draw = ImageDraw.Draw(image)
    for colour, width in (_BELOW, _ABOVE):
        thick = max(width // 3, round(width * image.height / 720))
        for points in _in_pixels(note, image):
            if len(points) == 1:
                x, y = points[0]
                draw.ellipse((x - thick, y - thick, x + thick, y + thick), fill=colour)
            else:
                draw.line(points, fill=colour, width=thick, joint="curve")


def _in_pixels(note: Note, image: Image.Image) -> Iterator[list[tuple[float, float]]]:
    for line in note.lines:
        yield [(x * (image.width - 1), y * (image.height - 1)) for x, y in line]
