"""Metadata about one source, as plain values."""

from __future__ import annotations

from datetime import datetime
from enum import StrEnum
from fractions import Fraction
from functools import cached_property
from pathlib import Path

from msgspec import Struct, field

from boxkite.core.files.identity import FileIdentity
from boxkite.core.files.walking import Unseen
from boxkite.core.notices.notice import Notice
from boxkite.core.timebase import FrameRate, Timecode


class SourceKind(StrEnum):
    """The content of a source."""

    VIDEO = "video"
    AUDIO = "audio"
    SEQUENCE = "image sequence"
    STILL = "still"
    TIMELINE = "timeline"


class VideoInfo(Struct, frozen=True):
    """One picture stream."""

    index: int
    codec: str
    width_px: int
    height_px: int
    rate: FrameRate
    frame_count: int
    """Frames, exact where frame_count_exact, else worked out from duration and rate."""
    frame_count_exact: bool
    pixel_format: str
    bit_depth: int
    sample_aspect: Fraction = Fraction(1)
    """Width ÷ height of one pixel."""
    field_order: str = ""
    """"progressive", "top first", "bottom first" or ""."""
    has_alpha: bool = False
    rotation_degrees: int = 0
    """0, 90, 180 or 270, how far a player turns the picture counter-clockwise."""
    primaries: str = ""
    transfer: str = ""
    matrix: str = ""
    """Colour tags by the names of ISO/IEC 23091-2, "" where the file has none."""
    full_range: bool | None = None
    """None where the file does not say."""

    @property
    def size(self) -> str:
        """Width and height as people write them."""
        return f"{self.width_px}x{self.height_px}"

    @property
    def colour(self) -> str:
        """The colour tags as people write them, with the range."""
        differences = list(dict.fromkeys(tag for tag in (self.primaries, self.transfer, self.matrix) if tag))
        levels = {None: "", True: "full range", False: "limited range"}[self.full_range]
        return ", ".join(part for part in ("/".join(differences), levels) if part)

    @property
    def is_interlaced(self) -> bool:
        """Whether the container says that frames hold two fields of different times."""
        return self.field_order in ("top first", "bottom first")


class AudioInfo(Struct, frozen=True):
    """One audio stream: sample rate in Hz, channel layout by the codec library's name ("3 channels" where the
    file says no more than their number).
    """

    index: int
    codec: str
    sample_rate_hz: int
    channels: int
    layout: str

    @property
    def shown_layout(self) -> str:
        """The layout as people say it."""
        return {"1 channels": "mono", "2 channels": "stereo"}.get(self.layout, self.layout)


class Chapter(Struct, frozen=True):
    """A chapter stored in a media file; times in seconds from the file's own zero."""

    name: str
    start: Fraction
    end: Fraction


class SequencePattern(Struct, frozen=True):
    """Numbered frames in one folder: name = prefix + number of `digits` digits (0: unpadded) + suffix."""

    folder: Path
    prefix: str
    digits: int
    suffix: str
    first: int
    last: int
    missing: tuple[int, ...] = ()

    def file_name(self, number: int) -> str:
        """The file name of one frame."""
        return f"{self.prefix}{number:0{self.digits}d}{self.suffix}"

    @property
    def label(self) -> str:
        """The sequence as one name: loft.[0001-0100].png."""
        return f"{self.prefix}[{self.first:0{self.digits}d}-{self.last:0{self.digits}d}]{self.suffix}"


PLAIN_LAYER = "plain"
"""Name for the layer without a name."""


class ImageSettings(Struct, frozen=True):
    """How images are read."""

    rate: FrameRate | None = None
    """Frames a second, None for the usual 24."""
    layer: str = ""
    view: str = ""
    """Of EXR images that hold several; empty for the first."""


class ImageLayer(Struct, frozen=True):
    """One of several frames in an EXR image."""

    name: str
    """Its layer, empty for the plain one."""
    view: str
    """As left, empty where the image does not say."""
    part: int
    """Which part of the file it lies in, from 0."""
    prefix: str
    """Prefix of its channels' names."""

    @property
    def is_plain(self) -> bool:
        """Whether it is the picture that is shown where nobody asks for another."""
        return not self.part and not self.prefix

    @property
    def label(self) -> str:
        """Layer and view as they are shown."""
        return f"{self.name or PLAIN_LAYER} ({self.view})" if self.view else self.name or PLAIN_LAYER

    def fits(self, images: ImageSettings) -> bool:
        """Whether it is of the layer and the view that are wanted, case ignored."""
        wanted = "" if images.layer.casefold() == PLAIN_LAYER else images.layer.casefold()
        is_layer = not images.layer or self.name.casefold() == wanted
        return is_layer and (not images.view or self.view.casefold() == images.view.casefold())

    @property
    def decoder_options(self) -> dict[str, str]:
        """The decoder options for it, once its part is the only one."""
        return {"layer": self.prefix}


class Source(Struct, frozen=True, dict=True):
    """One media file or image sequence, with all that is known about it without reading its packets."""

    path: Path
    kind: SourceKind
    container: str
    size_bytes: int
    duration: Fraction
    video: VideoInfo | None
    audio: tuple[AudioInfo, ...] = ()
    start_timecode: Timecode | None = None
    reel: str = ""
    chapters: tuple[Chapter, ...] = ()
    sequence: SequencePattern | None = None
    left_out: tuple[str, ...] = ()
    """Tracks that no file made from it will hold, as "1 subtitle track"."""
    warnings: tuple[Notice, ...] = ()
    metadata: dict[str, str] = field(default_factory=dict)
    created: datetime | None = None
    layers: tuple[ImageLayer, ...] = ()
    """Frames that its images hold."""
    layer: ImageLayer | None = None
    """Which of them it gives out, None for the plain one."""
    identity: FileIdentity | None = None
    """Of the file as it was looked at; None where nothing is read of it."""

    @cached_property
    def clip_name(self) -> str:
        """The name without its extension; for a sequence, without number either."""
        if self.sequence:
            return self.sequence.prefix.rstrip("._- ") or self.sequence.folder.name
        return self.path.stem

    @cached_property
    def label(self) -> str:
        """The file name, or the sequence written as one name."""
        return self.sequence.label if self.sequence else self.path.name


class Unreadable(Struct, frozen=True):
    """A file that cannot be used as a source: why, and the way out where there is one."""

    path: Path
    reason: str
    hint: str = ""


class Findings(Struct, frozen=True):
    """All that was found under some paths, in the order of their names."""

    sources: tuple[Source, ...]
    unreadable: tuple[Unreadable, ...]
    junk: int = 0
    """Number of files that operating systems left there."""
    unseen: tuple[Unseen, ...] = ()
    """Folders that could not be entered, and may hold more footage."""
