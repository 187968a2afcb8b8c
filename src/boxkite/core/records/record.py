"""What is kept of a batch and of each of its files."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from pathlib import Path


@dataclass(frozen=True)
class FileRecord:
    """One file of a batch.

    plain_name: its name below the output folder with the version left out, the same from round to round.
    source, stamp: what it was made from, as it was then. recipe: checksum of all that decides how it looks and
    sounds. state: "planned", "proved" or "failed". pixels: of all its pictures together; seconds: of one worker.
    """

    number: int
    path: Path
    plain_name: str
    source: Path
    stamp: str
    in_frame: int
    out_frame: int
    preset: str
    recipe: str
    marker: str = ""
    clip: str = ""
    in_timecode: str = ""
    out_timecode: str = ""
    state: str = "planned"
    checksum: str = ""
    size_bytes: int = 0
    pixels: int = 0
    seconds: float = 0.0

    @property
    def content(self) -> tuple[str, int, int, str]:
        """Equal for two files that hold the same."""
        return str(self.source), self.in_frame, self.out_frame, self.recipe


@dataclass(frozen=True)
class BatchRecord:
    """One run of a plan. version: that its names bear, where they do. pattern: that its names came of."""

    name: str
    started: datetime
    machine: str
    pattern: str
    version: int | None
    files: tuple[FileRecord, ...]
