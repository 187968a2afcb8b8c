"""An executor makes the shots of a batch, whoever does the work: its interface, and what is heard of it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Protocol

if TYPE_CHECKING:  # what takes time to load is loaded while the first worker starts
    from boxkite.core.batch.executors.messages import ShotTask, WorkerMessage
    from boxkite.core.files.partials import Partial
    from boxkite.core.notices.notice import Notice
    from boxkite.core.plan.rows import Row


@dataclass(frozen=True)
class WorkerEvent:
    """What was heard of a shot. told: by its worker; None where that has ended, and lost says how.

    rows: the shot's. partials: of its files, given back by whoever held them; empty until it is over. said: what
    libraries printed meanwhile. is_over: whether its worker is done with it.
    """

    rows: tuple[Row, ...]
    told: WorkerMessage | None
    lost: str = ""
    said: str = ""
    partials: tuple[Partial, ...] = ()

    @property
    def is_over(self) -> bool:
        """Whether nothing more comes of this shot."""
        return self.told is None or bool(self.told.results)


class Executor(Protocol):
    """Whoever makes shots: processes of this machine, or other machines.

    size: shots side by side; cores: that they share.
    """

    size: int
    cores: int

    @property
    def busy(self) -> int:
        """How many are at a shot."""

    def prepare(self, rows: Sequence[Row]) -> list[Notice]:
        """Make sure that these rows can be made; notices of who makes them."""

    def submit(self, task: ShotTask, partials: Sequence[Partial]) -> None:
        """Hand a shot to one that is idle, with the partial files of its rows; discarded where it is not heard of."""

    def next_event(self, seconds: float) -> WorkerEvent | None:
        """What is heard next; None where there is nothing for so long."""
