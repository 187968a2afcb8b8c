"""The events of a running batch."""

from __future__ import annotations

from pathlib import Path

from msgspec import Struct

from boxkite.core.notices.notice import Notice
from boxkite.core.plan.rows import Row
from boxkite.core.render.result import Result


class TurnAwaited(Struct, frozen=True):
    """Other batches go first."""

    ahead: tuple[str, ...]
    """The names of those batches."""


class ShotStarted(Struct, frozen=True):
    """A worker is about to begin on a shot."""

    rows: tuple[Row, ...]
    """The files it makes."""


class FramesDone(Struct, frozen=True):
    """How many frames of a shot are done; first_row names the shot by its first row's number."""

    first_row: int
    frames: int


class FileReady(Struct, frozen=True):
    """A file is verified and about to get its name."""

    row: Row
    result: Result
    partial: Path
    """Where it lies until then."""


class FileEnded(Struct, frozen=True):
    """A file is verified and named, or has failed."""

    row: Row
    result: Result


class TriedAgain(Struct, frozen=True):
    """Files are going to be made once more."""

    rows: tuple[Row, ...]
    reason: str
    """The result of the last attempt."""
    detail: str = ""
    """For the log."""


class OutOfSpace(Struct, frozen=True):
    """Files are not begun because a volume is nearly full."""

    rows: tuple[Row, ...]
    folder: Path
    needed_bytes: int
    free_bytes: int


class Noted(Struct, frozen=True):
    """Something is to be known of the batch."""

    notice: Notice


class Tick(Struct, frozen=True):
    """Time has passed and nothing happened; at least twice a second."""


Event = (
    TurnAwaited | ShotStarted | FramesDone | FileReady | FileEnded | TriedAgain | OutOfSpace | Noted | Tick
)
