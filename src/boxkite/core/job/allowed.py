"""The values that options of a job allow, and what holds where nothing is written."""

from __future__ import annotations

from typing import Literal

By = Literal["markers", "ranges", "cuts", "files", "timelines", "detected-cuts"]
WAYS_TO_CUT: tuple[By, ...] = ("markers", "ranges", "cuts", "files", "timelines", "detected-cuts")
WAYS_THROUGH_AN_EDIT: tuple[By, ...] = ("cuts", "timelines")
PictureFrom = Literal["program", "originals", "edit"]
PICTURES: tuple[PictureFrom, ...] = ("program", "originals", "edit")
Existing = Literal["stop", "number", "skip", "replace"]
WHERE_THERE: tuple[Existing, ...] = ("stop", "number", "skip", "replace")
Joined = Literal["no", "also", "only"]
WHETHER_JOINED: tuple[Joined, ...] = ("no", "also", "only")
DECODERS = ("cuda", "qsv", "vaapi", "videotoolbox", "d3d11va")
"""Kinds of decoders outside the CPU, by the codec library's names."""
CLOSING_MARKER = "END"
DEFAULT_PATTERNS: dict[str, str] = {
    "markers": "@(marker|in)",
    "ranges": "@clip_@(marker|in)",
    "cuts": "@clip_@record",
    "files": "@clip",
    "timelines": "@timeline",
    "detected-cuts": "@clip_@(marker|in)",
}
"""The pattern of each way to cut when none is given."""
