"""What was asked for, as plain values."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path

from boxkite.core.errors import PlanError, setting
from boxkite.core.files.reading import path_from
from boxkite.core.footage.source import ImageSettings
from boxkite.core.job.choosing import Choice
from boxkite.core.job.words import CLOSING_MARKER, By, Existing, Joined, PictureFrom
from boxkite.core.presets.library import Shelf
from boxkite.core.shots.limits import Handles
from boxkite.core.timebase import FrameRate

NO_HANDLES = Handles(frames=0)


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
                f"{setting('to')} {text}: give a preset and a folder, separated by a colon",
                hint=f"as {setting('to')} review:out/review; boxkite presets lists the presets",
            )
        if len(preset.strip()) == 1:
            raise PlanError(
                f"{setting('to')} {text}: “{preset}” reads as a drive; the preset is missing",
                hint=f"as {setting('to')} review:{text}",
            )
        return cls(preset.strip(), path_from(folder.strip()))


@dataclass(frozen=True)
class Otherwise:
    """Shots that are done otherwise than the rest: by all of these choices, other outputs, names or handles."""

    only: tuple[Choice, ...]
    outputs: tuple[Output, ...] = ()
    names: str | None = None
    handles: Handles | None = None


@dataclass(frozen=True)
class Job:
    """Footage + where to cut + which to keep + names + outputs.

    by: empty where it follows from the paths and marks. picture: None where it does. media: where camera
    originals lie. match_by: column of the metadata tables that names the source. range_in, range_out: as
    typed; a timecode, an event number, or the name of a clip or marker. depth: how deep timelines in
    timelines are handed over. version: of the names, where it is not to be the next. existing: what becomes of
    files that are there already. since: the batch that this plan is compared with. presets: those within reach.
    exceptions: shots that are done otherwise. look: a look file for all shots. sound: where the waves of a sound
    recorder lie. exact_cuts: encode what cannot be copied exactly. joined: whether copies become one file.
    tracks: of an edit that is rendered, by name; empty for all. retime: give clips of originals the edit's speed.
    decode_with: a kind of decoder outside the CPU. layer, view: of EXR images that hold several.
    accept_damaged: make what can be made of damaged footage. accept_gaps: make sources in which one picture stands for
    more than an hour. replace_others: with existing "replace", also single files that no batch on record made.
    """

    paths: tuple[Path, ...]
    outputs: tuple[Output, ...]
    by: tuple[By, ...] = ()
    marks: Path | None = None
    marks_rate: FrameRate | None = None
    start_timecode: str | None = None
    closing_marker: str = CLOSING_MARKER
    names: str | None = None
    metadata: tuple[Path, ...] = ()
    match_by: str | None = None
    images_rate: FrameRate | None = None
    watermark: Path | None = None
    picture: PictureFrom | None = None
    media: tuple[Path, ...] = ()
    depth: int = 1
    handles: Handles = NO_HANDLES
    range_in: str = ""
    range_out: str = ""
    only: tuple[Choice, ...] = ()
    without: tuple[Choice, ...] = ()
    join: bool = False
    version: int | None = None
    existing: Existing = "stop"
    since: str = ""
    presets: Shelf = field(default_factory=Shelf)
    exceptions: tuple[Otherwise, ...] = ()
    look: Path | None = None
    sound: tuple[Path, ...] = ()
    exact_cuts: bool = False
    joined: Joined = "no"
    accept_damaged: bool = False
    accept_gaps: bool = False
    replace_others: bool = False
    tracks: tuple[str, ...] = ()
    retime: bool = False
    decode_with: str = ""
    layer: str = ""
    view: str = ""
    user: str = ""
    now: datetime = field(default_factory=datetime.now)

    @property
    def images(self) -> ImageSettings:
        """How images are read."""
        return ImageSettings(self.images_rate, self.layer, self.view)
