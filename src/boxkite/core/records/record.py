"""The records of a batch, of its files, and of its log."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from pathlib import Path
from typing import Any, Literal

from msgspec import Struct, field

from boxkite.core.notices.notice import Notice

BatchState = Literal["waiting", "running", "stopped", "ended"]
"""As it is stored: waiting for its turn, running, stopped before its end, at its end."""
FileState = Literal["planned", "started", "ready", "verified", "failed"]
"""ready: verified, and about to get its name."""
_MOST_WORKERS = 256
Stop = Literal["", "after", "now"]
"""Requests to a running batch: none, to end after the current files, to end at once."""


class FileRecord(Struct, frozen=True):
    """One file of a batch."""

    number: int
    path: Path
    plain_name: str
    """Its name below the output folder with the version left out, the same from round to round."""
    source: Path
    stamp: str
    """Its source, as it was then."""
    in_frame: int
    out_frame: int
    preset: str
    recipe: str
    """Checksum of everything that decides its frames and audio."""
    marker: str = ""
    clip: str = ""
    in_timecode: str = ""
    out_timecode: str = ""
    state: str = "planned"
    checksum: str = ""
    size_bytes: int = 0
    pixels: int = 0
    """Of all its frames together."""
    seconds: float = 0.0
    """Of one worker."""
    threads: int = 0
    """Those of its encoder, which decide it too."""
    frames: int = 0
    """Frames it will hold, frames_done: so far."""
    frames_done: int = 0
    attempts: int = 0
    started: str = ""
    ended: str = ""
    """Local time in ISO 8601."""
    failure: str = ""
    warnings: tuple[Notice, ...] = ()
    partial: Path | None = None
    """Where it lies while it is ready."""

    @property
    def content(self) -> tuple[str, int, int, str]:
        """Equal for two files that hold the same."""
        return str(self.source), self.in_frame, self.out_frame, self.recipe


class BatchRecord(Struct, frozen=True):
    """One run of a plan."""

    name: str
    started: datetime
    machine: str
    pattern: str
    """That its names came of."""
    version: int | None
    """That its names bear, where they do."""
    files: tuple[FileRecord, ...]
    state: str = "ended"
    ended: str = ""
    seconds: float = 0.0
    """How long it has run."""
    process: int = 0
    stop: str = ""
    folders: tuple[Path, ...] = ()
    """Where its files go."""
    settings: Mapping[str, Any] = field(default_factory=dict)
    """Settled before its first file: versions of Box Kite and its libraries, workers, options."""

    @property
    def workers(self) -> int | None:
        """How many shots side by side it was begun with; None where the record does not say, or says nonsense."""
        workers = self.settings.get("workers")
        return workers if isinstance(workers, int) and 1 <= workers <= _MOST_WORKERS else None


class Entry(Struct, frozen=True):
    """One line of the log of a batch."""

    at: str
    number: int
    """Of the file, 0 for the batch."""
    kind: str
    """State, failure, warning or detail."""
    text: str
    name: str = ""
