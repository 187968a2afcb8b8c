"""What was asked for, as plain values."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path
from typing import Literal

from boxkite.core.errors import PlanError
from boxkite.core.timebase import FrameRate

By = Literal["markers", "ranges", "files"]
WAYS_TO_CUT: tuple[By, ...] = ("markers", "ranges", "files")
CLOSING_MARKER = "END"


@dataclass(frozen=True)
class Output:
    """One audience: a preset, and the folder its files go to."""

    preset: str
    folder: Path

    @classmethod
    def parse(cls, text: str) -> Output:
        """Read PRESET:FOLDER, split at the first colon. Raises PlanError."""
        preset, colon, folder = text.partition(":")
        if not colon or not preset.strip() or not folder.strip():
            raise PlanError(
                f"--to {text}: give a preset and a folder, parted by a colon",
                hint="as --to review:out/review; boxkite presets lists the presets",
            )
        if len(preset.strip()) == 1:
            raise PlanError(
                f"--to {text}: “{preset}” reads as a drive; the preset is missing",
                hint=f"as --to review:{text}",
            )
        return cls(preset.strip(), Path(folder.strip()).expanduser())


@dataclass(frozen=True)
class Job:
    """Footage + where to cut + names + outputs. `by` is None where it follows from the marks."""

    paths: tuple[Path, ...]
    outputs: tuple[Output, ...]
    by: By | None = None
    marks: Path | None = None
    marks_rate: FrameRate | None = None
    start_timecode: str | None = None
    closing_marker: str = CLOSING_MARKER
    names: str | None = None
    metadata: tuple[Path, ...] = ()
    images_rate: FrameRate | None = None
    watermark: Path | None = None
    user: str = ""
    now: datetime = field(default_factory=datetime.now)
