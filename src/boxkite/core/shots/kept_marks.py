"""The marks that are kept beside footage: whose they are, and whether a plan takes them."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from pathlib import Path

from boxkite.core.errors import MarksError
from boxkite.core.footage.source import Source
from boxkite.core.marks.mark import Mark, MarkList
from boxkite.core.marks.mark_table import MarksBeside
from boxkite.core.notices.marks import MARKS_BESIDE, MARKS_UNREADABLE, MARKS_UNUSED
from boxkite.core.notices.notice import Notice

ListedMarks = tuple[MarkList, list[Mark]]
"""A list, and those of its marks that are meant."""


class KeptMarks:
    """The marks beside sources, or beside the edit of one program."""

    def __init__(self, sources: Sequence[Source], edits: Sequence[Path]) -> None:
        self._sources = sources
        self._edits = edits
        self._beside = MarksBeside()

    def by_source(self) -> dict[int, ListedMarks]:
        """The marks of each source, by its position; sources without are not there. Raises MarksError."""
        found = {}
        for index, source in enumerate(self._sources):
            own = self._beside.of(source.path, (source.path.name, source.clip_name, source.label))
            for edit in self._edits if len(self._sources) == 1 else ():
                own = own or self._beside.of(edit, (edit.name, edit.stem))
            if own:
                found[index] = (own, list(own.marks))
        return found

    def unused(self) -> list[Notice]:
        """A notice of marks that are there, for a plan that takes none."""
        try:
            beside = self.by_source()
        except MarksError as error:
            return [MARKS_UNREADABLE(reason=error.message).of(str(error.path or ""))]
        return [unused(beside.values())] if beside else []


def used(lists: Iterable[ListedMarks]) -> Notice:
    """A notice that marks beside the footage are cut at."""
    count, tables, _ = _summary(lists)
    return MARKS_BESIDE(count=count, tables=tables)


def unused(lists: Iterable[ListedMarks]) -> Notice:
    """A notice that marks beside the footage are not cut at, and how they would be."""
    count, tables, way = _summary(lists)
    return MARKS_UNUSED(count=count, tables=tables, way=way)


def _summary(lists: Iterable[ListedMarks]) -> tuple[int, list[str], str]:
    """(how many marks, the tables they are in, the way to cut at all of them)."""
    listed = list(lists)
    tables = list(dict.fromkeys(str(marks.path) for marks, _ in listed))
    way = "ranges" if all(mark.is_range for _, chosen in listed for mark in chosen) else "markers"
    return sum(len(chosen) for _, chosen in listed), tables, way
