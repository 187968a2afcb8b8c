"""What a running batch tells whoever listens."""

from __future__ import annotations

from dataclasses import dataclass

from boxkite.core.plan.rows import Row
from boxkite.core.render.result import Result


@dataclass(frozen=True)
class ShotStarted:
    """A worker has begun on a shot. rows: the files it makes."""

    rows: tuple[Row, ...]


@dataclass(frozen=True)
class FramesDone:
    """How many frames of a shot are done; first_row names the shot by its first row's number."""

    first_row: int
    frames: int


@dataclass(frozen=True)
class FileEnded:
    """A file is proved and named, or has failed."""

    row: Row
    result: Result


Event = ShotStarted | FramesDone | FileEnded
