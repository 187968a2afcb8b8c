"""The result of one planned file."""

from __future__ import annotations

from pathlib import Path

from msgspec import Struct

from boxkite.core.notices.notice import Notice


class Verification(Struct, frozen=True):
    """The counts of a finished file."""

    frames: int
    audio_tracks: int
    size_bytes: int
    checksum: str = ""
    """Over all its bytes (records/checksum.py)."""


class Result(Struct, frozen=True):
    """The result of one row: a verification, or the reason it failed."""

    row_number: int
    path: Path
    verification: Verification | None = None
    failure: str = ""
    warnings: tuple[Notice, ...] = ()
    seconds: float = 0.0
    """Of one worker, its share of the shot's."""
    detail: str = ""
    """Of a failure, for the log."""
    may_pass: bool = False
    """Whether trying again can help."""
    out_of_space: bool = False
