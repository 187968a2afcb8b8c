"""Progress of a running batch as lines, one for each file that ends."""

from __future__ import annotations

from collections.abc import Sequence
from types import TracebackType
from typing import Self

from boxkite.cli.screen import Screen
from boxkite.cli.tables import counted, file_size
from boxkite.core.batch.events import Event, FileEnded, TriedAgain, TurnAwaited
from boxkite.core.plan.rows import Row


class LinesProgress:
    """One line for each file that ends; for logs and pipes."""

    def __init__(self, screen: Screen, rows: Sequence[Row]) -> None:
        self._screen = screen
        self._files = len(rows)
        self._ended = 0

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        return None

    def show(self, event: Event) -> None:
        """Print a line when a file ends."""
        if isinstance(event, FileEnded):
            self._ended += 1
            self._screen.print(f"{self._ended}/{self._files} {file_line(event)[0]}")
        elif text := line_of(event):
            self._screen.print(text)


def line_of(event: Event) -> str:
    """The line for an event that ends no file; empty for most."""
    if isinstance(event, TurnAwaited):
        ahead = ", ".join(event.ahead)
        return f"waiting for batch {ahead}; --turn share begins at once, alongside the others"
    if isinstance(event, TriedAgain):
        names = ", ".join(f"{row.name}{row.extension}" for row in event.rows)
        return f"again     {names}: {event.reason}"
    return ""


def file_line(event: FileEnded) -> tuple[str, str]:
    """One line on a file that has ended, and its style."""
    name = f"{event.row.name}{event.row.extension} ({event.row.preset.name})"
    if event.result.verification:
        size = file_size(event.result.verification.size_bytes)
        return f"verified  {name}: {counted(event.result.verification.frames, 'frame')}, {size}", "green"
    return f"failed    {name}: {event.result.failure}", "red"
