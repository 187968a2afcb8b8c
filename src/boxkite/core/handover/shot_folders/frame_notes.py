"""The notes on a shot: of its marks, and of reviews, by the frames of its files."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from msgspec import Struct
from msgspec.structs import replace

from boxkite.core.errors import BoxkiteError
from boxkite.core.handover.described import Described
from boxkite.core.handover.review_file import Note, Review, read_review
from boxkite.core.marks.mark_table import MarksBeside
from boxkite.core.notices.handover import NOTES_UNREADABLE
from boxkite.core.notices.notice import Notice
from boxkite.core.shots.placing import place_marks


class FrameNote(Struct, frozen=True):
    """A note on a frame of a shot's file, or from it on."""

    note: Note
    origin: str
    """Who or what it comes from."""

    def line(self, one: Described) -> str:
        """As a work order has it."""
        start = one.start + self.note.frame
        until = f" to {one.start + self.note.end}" if self.note.end is not None else ""
        by = f"{self.note.by}: " if self.note.by else ""
        drawn = " (drawn on)" if self.note.lines else ""
        return f"{start}{until}  {by}{self.note.text}{drawn}".rstrip()


class NotesFinder:
    """Finds the notes of shots; tables and reviews are read once."""

    def __init__(self, reviews: Sequence[Path]) -> None:
        """Raises MarksError for a review that cannot be read."""
        self._reviews: list[Review] = [read_review(path) for path in reviews]
        self._beside = MarksBeside()
        self.notices: list[Notice] = []

    def of(self, files: Sequence[Described]) -> list[FrameNote]:
        """The notes on a shot, by its files, in the order of its frames; notes on the shot as a whole go first."""
        found = [
            one
            for one in (self._of_reviews(files) + self._of_marks(files[0]))
            if one.note.text or one.note.lines
        ]
        distinct: dict[tuple[int, str], FrameNote] = {}
        for one in found:
            said = f"{one.note.by}: {one.note.text}" if one.note.by else one.note.text  # as a mark keeps it
            distinct.setdefault((one.note.frame, said), one)
        return sorted(distinct.values(), key=lambda one: one.note.frame)

    def _of_reviews(self, files: Sequence[Described]) -> list[FrameNote]:
        identities = {
            f"{one.file.batch}#{one.file.record.number}" if one.file.record else one.file.name
            for one in files
        }
        return [
            FrameNote(replace(note, frame=min(note.frame, files[0].frames - 1)), review.path.name)
            for review in self._reviews
            for shot in review.shots
            if shot.identity in identities
            for note in shot.notes
        ]

    def _of_marks(self, one: Described) -> list[FrameNote]:
        row = one.row
        own = [FrameNote(Note(0, None, one.shot.note, ""), "shot")] if one.shot.note else []
        if row is None or row.shot.footage.composition is not None:
            return own
        footage, span = row.shot.footage, row.span
        source = footage.source
        try:
            listed = self._beside.of(source.path, (source.path.name, source.clip_name, source.label))
            placed = place_marks(listed, list(listed.marks), footage, None) if listed else []
        except BoxkiteError as error:
            self.notices.append(NOTES_UNREADABLE(reason=error.text).of(source.label))
            return own
        for mark in placed:
            start, end = mark.start, mark.end
            if mark.mark.note and span.start <= start < span.end and mark.mark.note != one.shot.note:
                until = min(end, span.end) - 1 - span.start if end is not None else None
                own.append(FrameNote(Note(start - span.start, until, mark.mark.note, ""), mark.mark.name))
        return own
