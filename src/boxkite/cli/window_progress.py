"""Progress of a running batch, drawn live in a window."""

from __future__ import annotations

import time
from collections.abc import Sequence
from types import TracebackType
from typing import Self

from rich.progress import BarColumn, Progress, ProgressColumn, Task, TaskID, TextColumn, TimeRemainingColumn
from rich.table import Column
from rich.text import Text

from boxkite.cli.messages import printable
from boxkite.cli.progress import file_line, line_of
from boxkite.cli.screen import Screen
from boxkite.cli.tables import counted
from boxkite.core.batch.events import Event, FileEnded, FramesDone, ShotStarted, TriedAgain
from boxkite.core.batch.sharing import shot_groups
from boxkite.core.plan.rows import Row, group_span

_DRAWN_EVERY_SECONDS = 0.1


class _Speed(ProgressColumn):
    """Frames a second since the task began, or nothing yet."""

    def render(self, task: Task) -> Text:
        speed = task.finished_speed or task.speed
        return Text(f"{speed:.0f} fps" if speed else "", style="cyan")


class WindowProgress:
    """A bar for the whole batch, one for each shot being made, a line above for each file that ends."""

    def __init__(self, screen: Screen, rows: Sequence[Row]) -> None:
        self._screen = screen
        self._progress = Progress(
            TextColumn("{task.description}", table_column=Column(no_wrap=True, overflow="ellipsis", ratio=1)),
            BarColumn(bar_width=20, complete_style="cyan", finished_style="green"),
            TextColumn("{task.completed:.0f}/{task.total:.0f}"),
            _Speed(),
            TimeRemainingColumn(compact=True),
            console=screen.console,
            expand=True,
            transient=True,
            speed_estimate_period=20,
            auto_refresh=False,  # a second thread that draws between two of our lines takes one of them away
        )
        self._drawn = 0.0
        shots = {group[0].number: group_span(group).length for group in shot_groups(rows)}
        self._lengths = shots
        self._files = len(rows)
        self._ended = 0
        self._done: dict[int, int] = {}
        self._tasks: dict[int, TaskID] = {}
        self._first_of: dict[int, int] = {}
        self._whole = self._progress.add_task(self._heading(), total=sum(shots.values()))

    def __enter__(self) -> Self:
        self._progress.start()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._progress.stop()

    def show(self, event: Event) -> None:
        """Draw what has happened, at most some times a second."""
        self._take(event)
        now = time.monotonic()
        if now - self._drawn >= _DRAWN_EVERY_SECONDS:
            self._drawn = now
            self._progress.refresh()

    def _take(self, event: Event) -> None:
        if isinstance(event, ShotStarted):
            first = event.rows[0]
            self._lengths.setdefault(first.number, group_span(event.rows).length)
            self._first_of |= {row.number: first.number for row in event.rows}
            presets = ", ".join(dict.fromkeys(row.preset.name for row in event.rows))
            self._tasks[first.number] = self._progress.add_task(
                f"  {printable(first.name)} ({presets})", total=self._lengths[first.number]
            )
        elif isinstance(event, FramesDone):
            self._advance(event.first_row, event.frames)
        elif isinstance(event, FileEnded):
            self._end_file(event)
        else:
            if isinstance(event, TriedAgain):
                self._take_back(event)
            if text := line_of(event):
                self._progress.console.print(Text(printable(text), style="yellow"))

    def _take_back(self, event: TriedAgain) -> None:
        """A shot begins again: its bar starts over."""
        shot = self._first_of.get(event.rows[0].number)
        if shot in self._tasks and shot is not None:
            self._advance(shot, 0)
            self._progress.update(self._tasks[shot], visible=False)

    def _advance(self, first_row: int, frames: int) -> None:
        self._done[first_row] = frames
        if first_row in self._tasks:
            self._progress.update(self._tasks[first_row], completed=frames)
        self._progress.update(self._whole, completed=sum(self._done.values()))

    def _end_file(self, event: FileEnded) -> None:
        self._ended += 1
        self._progress.update(self._whole, description=self._heading())
        shot = self._first_of.get(event.row.number)
        if shot in self._tasks and shot is not None:
            self._advance(shot, self._lengths[shot])
            self._progress.update(self._tasks[shot], visible=False)
        text, style = file_line(event)
        self._progress.console.print(Text(printable(text), style=style, no_wrap=True, overflow="ellipsis"))

    def _heading(self) -> str:
        return f"{self._ended} of {counted(self._files, 'file')}"
