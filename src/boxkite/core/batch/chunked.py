"""A shot whose chunks are encoded apart: which of them are made, and what is left to do."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec import Struct, field
from msgspec.structs import replace

from boxkite.core.files.partials import Partial
from boxkite.core.notices.notice import Notice
from boxkite.core.plan.rows import Row
from boxkite.core.render.result import Result
from boxkite.core.timebase import Span


class ChunkedShot(Struct):
    """The chunks of a shot, all of which have to be made before they are joined."""

    number: int
    """Of the first of its rows."""
    rows: list[Row]
    """Those that have not failed."""
    spans: tuple[Span, ...]
    """Of its picture."""
    count: int
    """Of its chunks: all audio is one more, the last, where it has any."""
    made: dict[int, dict[int, Partial]] = field(default_factory=dict)
    """The files of each chunk that is made: by its place, then by the number of the row."""
    has_begun: bool = False
    _warnings: dict[int, list[Notice]] = field(default_factory=dict)
    _seconds: dict[int, float] = field(default_factory=dict)
    _done: dict[int, int] = field(default_factory=dict)

    @property
    def is_made(self) -> bool:
        """Whether every chunk is there."""
        return len(self.made) == self.count

    def span_of(self, chunk: int) -> Span | None:
        """The frames of a chunk; None for the audio."""
        return self.spans[chunk] if chunk < len(self.spans) else None

    def frames_done(self, chunk: int | None, frames: int) -> int:
        """Over all chunks, when one has done so many; None for their joining."""
        if chunk is not None and chunk < len(self.spans):
            self._done[chunk] = frames
        return sum(self._done.values())

    def files_of(self, row: Row) -> list[Partial]:
        """The chunks of a row, in their order."""
        return [files[row.number] for _, files in sorted(self.made.items()) if row.number in files]

    def has_made(self, chunk: int, files: dict[int, Partial], results: Sequence[Result]) -> None:
        """Take in a chunk that is made. files: by the number of the row."""
        self.made[chunk] = files
        span = self.span_of(chunk)
        self.frames_done(chunk, span.length if span else 0)
        for result in results:
            self._warnings.setdefault(result.row_number, []).extend(result.warnings)
            self._seconds[result.row_number] = self._seconds.get(result.row_number, 0.0) + result.seconds

    def with_chunks(self, result: Result) -> Result:
        """The result of the joined file, with the warnings of its chunks and the time they took."""
        warnings = (*self._warnings.get(result.row_number, ()), *result.warnings)
        seconds = self._seconds.get(result.row_number, 0.0)
        return replace(result, warnings=tuple(dict.fromkeys(warnings)), seconds=result.seconds + seconds)
