"""What goes between the process that runs a batch and its workers."""

from __future__ import annotations

from dataclasses import dataclass

from boxkite.core.plan.rows import Row
from boxkite.core.render.result import Result


@dataclass(frozen=True)
class ShotTask:
    """All files of one shot, and how many threads the decoder and each encoder use."""

    rows: tuple[Row, ...]
    threads: int


@dataclass(frozen=True)
class Told:
    """What a worker says: frames done, and at the end of a shot its results."""

    frames: int
    results: tuple[Result, ...] = ()
