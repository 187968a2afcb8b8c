"""What became of a planned file."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from boxkite.core.notices.notice import Notice


@dataclass(frozen=True)
class Verification:
    """What was counted in a finished file. checksum: over all its bytes (records/checksum.py)."""

    frames: int
    audio_tracks: int
    size_bytes: int
    checksum: str = ""


@dataclass(frozen=True)
class Result:
    """What became of one row: a verification, or the reason it failed. seconds: of one worker, its share of the shot's.

    detail: of a failure, for the log.
    may_pass: whether the failure is of a kind that trying again can help. no_room: whether its disk was full.
    """

    row_number: int
    path: Path
    verification: Verification | None = None
    failure: str = ""
    warnings: tuple[Notice, ...] = ()
    seconds: float = 0.0
    detail: str = ""
    may_pass: bool = False
    out_of_space: bool = False
