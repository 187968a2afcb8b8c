"""Sources read once for all that is compared with them: a frame is decoded once, and kept until each reader has it."""

from __future__ import annotations

from collections import deque
from collections.abc import Iterator, Sequence

from av.video.frame import VideoFrame

from boxkite.core.footage.ahead import ahead
from boxkite.core.footage.decoding import Damage
from boxkite.core.plan.rows import Row
from boxkite.core.render.inputs import open_frames
from boxkite.core.timebase import Span

AHEAD = 4
"""Frames decoded before they are asked for, where a thread is free to."""
MOST_KEPT = 8
"""Frames that wait for a slower reader, as one of a file that shows each several times, before the others wait too."""

Frames = Iterator[tuple[int, VideoFrame]]
Part = tuple[int, int, Span]
"""A piece of a row, by its place there, and its footage and frames: rows with the same one share its reading."""


def parts_of(row: Row) -> tuple[Part, ...]:
    """What tells which frames a row is made from; rows must be of one plan."""
    return tuple((place, id(piece.shot.footage), piece.span) for place, piece in enumerate(row.pieces))


class SharedReading:
    """The frames that some rows of one plan are made from, for readers that go in step.

    What one has read is kept until the others have read it too: who is_ahead of them is to wait, and who reads no more
    is to leave.
    """

    def __init__(self, rows: Sequence[Row | None], threads: int, *, is_threaded: bool) -> None:
        """rows: one for each reader, None where it reads none.

        threads: of each decoder; is_threaded: whether it has a thread of its own and decodes ahead.
        """
        self.damage = Damage(accepted=True)
        """Of all that has been read so far."""
        self._threads, self._is_threaded = threads, is_threaded
        self._readers: dict[Part, list[int]] = {}
        for reader, row in enumerate(rows):
            for part in parts_of(row) if row else ():
                self._readers.setdefault(part, []).append(reader)
        self._open: dict[Part, _Fanned] = {}

    def frames(self, reader: int, row: Row, place: int) -> Frames:
        """(frame number, frame) for every frame of a piece. Raises what reading it raises, to each reader."""
        part, piece = parts_of(row)[place], row.pieces[place]
        if part not in self._open:
            frames = open_frames([piece], piece.span, self._threads, self.damage)
            fanned = _Fanned(ahead(frames, AHEAD) if self._is_threaded else frames, self._readers[part])
            self._open[part] = fanned
        yield from self._open[part].read_by(reader)
        self._leave(part, reader)

    def is_ahead(self, reader: int) -> bool:
        """Whether others have yet to read many of the frames that a reader has read, and it would read more."""
        return any(one.is_ahead(reader) for one in self._open.values())

    def leave(self, reader: int) -> None:
        """Keep nothing more for a reader."""
        for part, readers in self._readers.items():
            if reader in readers:
                readers.remove(reader)
            self._leave(part, reader)

    def _leave(self, part: Part, reader: int) -> None:
        if part in self._open and not self._open[part].leave(reader):
            del self._open[part]


class _Fanned:
    """One iterator for several readers."""

    def __init__(self, frames: Frames, readers: Sequence[int]) -> None:
        self._frames, self._error = frames, None  # type: Frames, Exception | None
        self._waiting: dict[int, deque[tuple[int, VideoFrame]]] = {reader: deque() for reader in readers}

    def read_by(self, reader: int) -> Frames:
        own = self._waiting[reader]
        while own or self._fetch():
            yield own.popleft()

    def is_ahead(self, reader: int) -> bool:
        own = self._waiting.get(reader)
        return own is not None and not own and max(map(len, self._waiting.values())) >= MOST_KEPT

    def leave(self, reader: int) -> bool:
        """Whether there are readers left."""
        self._waiting.pop(reader, None)
        return bool(self._waiting)

    def _fetch(self) -> bool:
        """Read one more for all; False at the end."""
        if self._error:
            raise self._error
        try:
            one = next(self._frames, None)
        except Exception as error:
            self._error = error
            raise
        if one is None:
            return False
        for waiting in self._waiting.values():
            waiting.append(one)
        return True
