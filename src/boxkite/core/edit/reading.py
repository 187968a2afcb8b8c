"""One door for all lists of marks: which reader a file needs is told by its ending, then by its text."""

from __future__ import annotations

from pathlib import Path

from boxkite.core.edit.edl import read_edl
from boxkite.core.edit.marks import Mark, MarkList, WrittenTime
from boxkite.core.edit.ranges import read_ranges
from boxkite.core.edit.text import read_text
from boxkite.core.errors import MarksError
from boxkite.core.footage.source import Source


def read_marks(path: Path) -> MarkList:
    """Read a marker list or a table of ranges. Raises MarksError with file and line."""
    suffix = path.suffix.lower()
    if suffix == ".edl":
        return read_edl(path)
    if suffix in (".csv", ".tsv"):
        return read_ranges(path)
    text = read_text(path)
    if "LOC:" in text or "TITLE:" in text or "FCM:" in text:
        return read_edl(path)
    first = next((line for line in text.splitlines() if line.strip()), "")
    if any(sign in first for sign in ",;\t"):
        return read_ranges(path)
    raise MarksError(
        "this is neither a marker list nor a table of ranges",
        path=path,
        hint="give an edit decision list (.edl) or a table with the columns name, in, out",
    )


def marks_from_chapters(source: Source) -> MarkList:
    """The chapters of a media file as points. Raises MarksError when it has none."""
    if not source.chapters:
        raise MarksError(
            "the file has no chapters to cut at",
            path=source.path,
            hint="give a marker list or a table of ranges with --marks",
        )
    marks = tuple(
        Mark(chapter.name, WrittenTime(f"chapter {number}", seconds=chapter.start))
        for number, chapter in enumerate(source.chapters, start=1)
    )
    return MarkList(source.path, "chapters", marks)
