"""The events of a running batch."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from boxkite.core.notices.notice import Notice
from boxkite.core.plan.rows import Row
from boxkite.core.render.result import Result


@dataclass(frozen=True)
class TurnAwaited:
    """Other batches go first."""

    ahead: tuple[str, ...]
    """The names of those batches."""


@dataclass(frozen=True)
class ShotStarted:
    """A worker is about to begin on a shot."""

    rows: tuple[Row, ...]
    """The files it makes."""


@dataclass(frozen=True)
class FramesDone:
    """How many frames of a shot are done; first_row names the shot by its first row's number."""

    first_row: int
    frames: int


@dataclass(frozen=True)
class FileReady:
    """A file is verified and about to get its name."""

    row: Row
    result: Result
    partial: Path
    """Where it lies until then."""


@dataclass(frozen=True)
class FileEnded:
    """A file is verified and named, or has failed."""

    row: Row
    result: Result


@dataclass(frozen=True)
class TriedAgain:
    """Files are going to be made once more."""

    rows: tuple[Row, ...]
    reason: str
    """The result of the last attempt."""
    detail: str = ""
    """For the log."""


@dataclass(frozen=True)
class OutOfSpace:
    """Files are not begun because a volume is nearly full."""

    rows: tuple[Row, ...]
    folder: Path
    needed_bytes: int
    free_bytes: int


@dataclass(frozen=True)
class Noted:
    """Something is to be known of the batch."""

    notice: Notice


@dataclass(frozen=True)
class Tick:
    """Time has passed and nothing happened; at least twice a second."""


Event = (
    TurnAwaited | ShotStarted | FramesDone | FileReady | FileEnded | TriedAgain | OutOfSpace | Noted | Tick
)
