"""An executor makes the shots of a batch, whoever does the work: its interface, and what is heard of it."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import TYPE_CHECKING, Protocol

from msgspec import Struct

if TYPE_CHECKING:  # what takes time to load is loaded while the first worker starts
    from boxkite.core.batch.executors.messages import ShotTask, WorkerMessage
    from boxkite.core.files.partials import Partial
    from boxkite.core.notices.notice import Notice
    from boxkite.core.plan.rows import Row

_ADDRESS = re.compile(r" @ 0x[0-9a-f]+")


class WorkerEvent(Struct, frozen=True):
    """An event of one shot."""

    task: ShotTask
    """The shot, or the chunk of one."""
    message: WorkerMessage | None
    """The worker's message; None where it has ended, and lost says how."""
    lost: str = ""
    output: str = ""
    """The text that libraries printed meanwhile."""
    partials: tuple[Partial, ...] = ()
    """The partial files, given back by whoever held them; empty until it is over."""
    has_begun: bool = True
    """Whether its worker had begun it."""

    @property
    def rows(self) -> tuple[Row, ...]:
        """The rows of the shot."""
        return self.task.rows

    @property
    def is_over(self) -> bool:
        """Whether nothing more comes of this shot."""
        return self.message is None or bool(self.message.results)

    @property
    def is_ending(self) -> bool:
        """Whether the worker has all frames of it: it will soon be idle."""
        return not self.is_over and bool(self.message and self.message.frames >= self.task.length)

    @property
    def reason_lost(self) -> str:
        """Why nothing was made, where its process ended; empty for others."""
        if self.message:
            return ""
        if not self.has_begun:
            return f"the process that was to make it ended ({self.lost}) before that"
        return f"the process that made it ended ({self.lost}); the codec library may have crashed on it"

    def with_output(self, traceback: str) -> str:
        """The detail for the log: a traceback, and what libraries printed, without memory addresses."""
        return "\n".join(part for part in (traceback, _ADDRESS.sub("", self.output)) if part)


class Executor(Protocol):
    """Whoever makes shots: processes of this machine, or other machines."""

    size: int
    """How many shots it makes at the same time."""
    cores: int
    """The cores that the shots share."""

    @property
    def busy(self) -> int:
        """How many are at a shot, and do not say that they will soon be idle."""

    def prepare(self, rows: Sequence[Row]) -> list[Notice]:
        """Make sure that these rows can be made; notices of who makes them."""

    def submit(self, task: ShotTask, partials: Sequence[Partial]) -> None:
        """Hand a shot to one that is idle, or soon is. partials: of its rows, discarded where it is not heard of."""

    def next_event(self, seconds: float) -> WorkerEvent | None:
        """The next event; None if there is none in that time."""
