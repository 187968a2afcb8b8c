"""What a preset says, and the checks that it holds together before anything is decoded."""

from __future__ import annotations

import re
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path
from typing import Annotated, Any, ClassVar, Literal

from annotated_types import Interval, Len

from boxkite.core.presets.codecs import (
    CODECS,
    CODECS_OF,
    SEQUENCES,
    SOUND_BITS_PER_SECOND,
    SOUND_WITH_BITRATE,
    SPEEDS,
    AudioCodec,
    Codec,
    Container,
    VideoCodec,
    dnxhr_frame_bytes,
)

Position = Literal[
    "top left", "top", "top right", "left", "centre", "right", "bottom left", "bottom", "bottom right"
]
_SIZE = re.compile(r"(\d{2,5})x(\d{2,5})", re.ASCII)


# Plain dataclasses, which pydantic checks when a file is read (library.py): worker processes, which only take
# checked presets, need not load it.
_STRICT: dict[str, Any] = {"extra": "forbid"}


@dataclass(frozen=True, kw_only=True)
class Video:
    """How the picture is coded.

    quality: constant quality, the lower the better (h264, hevc: 0 to 51; av1, vp9: 0 to 63; mjpeg, jpeg: 2 to 31);
    bitrate_mbps: instead of it. keyframe_seconds: longest way between keyframes. scan: interlaced sources keep
    their fields, or are made progressive. expected_bits_per_pixel: bits a pixel of each frame takes on average,
    for the plan's sizes.
    """

    __pydantic_config__: ClassVar[dict[str, Any]] = _STRICT

    codec: VideoCodec
    profile: str | None = None
    pixel_format: str | None = None
    quality: Annotated[float, Interval(ge=0, le=63)] | None = None
    bitrate_mbps: Annotated[float, Interval(gt=0, le=10_000)] | None = None
    speed: str | None = None
    keyframe_seconds: Annotated[float, Interval(gt=0, le=60)] | None = None
    scan: Literal["keep", "progressive"] = "progressive"
    expected_bits_per_pixel: Annotated[float, Interval(gt=0, le=200)] = 0.1

    def __post_init__(self) -> None:
        codec = CODECS[self.codec]
        if self.profile is not None and self.profile not in codec.profiles:
            known = ", ".join(codec.profiles) or "none"
            raise ValueError(f"profile: {self.codec} has {known}, not “{self.profile}”")
        formats = codec.profiles[self.profile] if self.profile else codec.formats
        if self.pixel_format is not None and self.pixel_format not in formats:
            of_profile = f" in profile {self.profile}" if self.pixel_format in codec.formats else ""
            raise ValueError(
                f"pixel_format: {self.codec}{of_profile} takes {', '.join(formats)}, not “{self.pixel_format}”"
            )
        self._check_rate_control(codec)
        if self.speed is not None and self.speed not in SPEEDS:
            raise ValueError(f"speed: one of {', '.join(SPEEDS)}, not “{self.speed}”")

    def _check_rate_control(self, codec: Codec) -> None:
        for key, taken in (
            ("quality", codec.quality is not None),
            ("bitrate_mbps", codec.has_bitrate),
            ("speed", codec.has_speed),
            ("keyframe_seconds", codec.has_speed),
        ):
            if getattr(self, key) is not None and not taken:
                raise ValueError(f"{key}: {self.codec} has none; leave it out")
        if self.quality is not None and self.bitrate_mbps is not None:
            raise ValueError("bitrate_mbps: give either quality or bitrate_mbps")
        if self.quality is not None and codec.quality:
            best, worst = codec.quality
            if not best <= self.quality <= worst:
                raise ValueError(
                    f"quality: {self.codec} goes from {best} (best) to {worst}, not {self.quality:g}"
                )

    @property
    def written_format(self) -> str:
        """The pixel format the picture is encoded in."""
        if self.pixel_format:
            return self.pixel_format
        codec = CODECS[self.codec]
        return codec.profiles[self.profile][0] if self.profile else codec.formats[0]

    @property
    def spread(self) -> tuple[float, float]:
        """How far sizes may lie from what is expected, as factors."""
        return (0.85, 1.15) if self.bitrate_mbps else CODECS[self.codec].spread

    def unfit_size(self, width_px: int, height_px: int) -> str:
        """Why the codec does not take a picture of this size; empty where it does."""
        codec = CODECS[self.codec]
        if width_px < codec.smallest[0] or height_px < codec.smallest[1]:
            least = "x".join(map(str, codec.smallest))
            return f"{self.codec} takes pictures from {least}, not {width_px}x{height_px}"
        if width_px > codec.largest[0] or height_px > codec.largest[1]:
            most = "x".join(map(str, codec.largest))
            return f"{self.codec} takes pictures up to {most}, not {width_px}x{height_px}"
        return ""


@dataclass(frozen=True, kw_only=True)
class Audio:
    """How the sound is coded.

    tracks: every one of the source, its first, or merged: all their channels side by side in one, as a WAV file
    holds them. channels: as they are, or stereo.
    """

    __pydantic_config__: ClassVar[dict[str, Any]] = _STRICT

    codec: AudioCodec
    bitrate_kbps: Annotated[int, Interval(ge=16, le=2000)] | None = None
    tracks: Literal["all", "first", "merged"] = "all"
    channels: Literal["keep", "stereo"] = "keep"

    def __post_init__(self) -> None:
        if self.bitrate_kbps is not None and self.codec not in SOUND_WITH_BITRATE:
            raise ValueError(
                f"bitrate_kbps: goes with {', '.join(SOUND_WITH_BITRATE)}, not with {self.codec}"
            )

    @property
    def bits_per_second(self) -> int:
        """About, for one track."""
        return SOUND_BITS_PER_SECOND.get(self.codec, (self.bitrate_kbps or 192) * 1000)


@dataclass(frozen=True, kw_only=True)
class Lettering:
    """Text burnt into the picture.

    text: a pattern; @timecode and @frame run along. height_percent: of the picture's height.
    """

    __pydantic_config__: ClassVar[dict[str, Any]] = _STRICT

    text: Annotated[str, Len(1, 500)]
    position: Position = "bottom left"
    height_percent: Annotated[float, Interval(ge=1, le=30)] = 4.5
    opacity: Annotated[float, Interval(gt=0, le=1)] = 0.9
    box_opacity: Annotated[float, Interval(ge=0, le=1)] = 0.55


@dataclass(frozen=True, kw_only=True)
class Watermark:
    """A text or an image with transparency laid over the picture. width_percent: of the picture's width."""

    __pydantic_config__: ClassVar[dict[str, Any]] = _STRICT

    text: Annotated[str, Len(1, 100)] | None = None
    image: Path | None = None
    position: Position = "right"
    width_percent: Annotated[float, Interval(ge=1, le=100)] = 18
    opacity: Annotated[float, Interval(gt=0, le=1)] = 0.5

    def __post_init__(self) -> None:
        if (self.text is None) == (self.image is None):
            raise ValueError("give either text or image")


@dataclass(frozen=True, kw_only=True)
class Preset:
    """A whole recipe.

    summary, good_for, plays: what it makes, for whom, and where that plays. size_percent scales both sides of the
    picture; fit: the largest it may become ("1920x1080"), never larger than the source. Sides come out even where
    codecs ask. copy: nothing is coded anew, the container stays the source's. Without video only the sound is
    written, without audio only the picture.
    """

    __pydantic_config__: ClassVar[dict[str, Any]] = _STRICT

    name: str = ""
    summary: Annotated[str, Len(0, 200)] = ""
    good_for: Annotated[str, Len(0, 200)] = ""
    plays: Annotated[str, Len(0, 200)] = ""
    container: Container | None = None
    copy: bool = False
    size_percent: Annotated[float, Interval(gt=0, le=400)] = 100
    fit: str | None = None
    video: Video | None = None
    audio: Audio | None = None
    burn_in: tuple[Lettering, ...] = ()
    watermark: Watermark | None = None

    def __post_init__(self) -> None:
        if len(self.name) == 1:
            raise ValueError("one-letter names would read as drives; give a longer one")
        if self.copy:
            self._check_copy()
            return
        if self.container is None:
            raise ValueError("container: this key is missing")
        if self.video is None and self.audio is None:
            raise ValueError("video: give [video], [audio] or both, or copy = true")
        videos, audios = CODECS_OF[self.container]
        if self.video and self.video.codec not in videos:
            raise ValueError(
                f"video.codec: {self.container} takes {', '.join(sorted(videos)) or 'no picture'}"
            )
        if self.audio and self.audio.codec not in audios:
            raise ValueError(f"audio.codec: {self.container} takes {', '.join(sorted(audios)) or 'no sound'}")
        if self.video is None and (self.burn_in or self.watermark or self.fit or self.size_percent != 100):
            raise ValueError("video: without it there is no picture to size or to write on")
        if self.audio and self.container == "wav" and self.audio.tracks == "all":
            raise ValueError('audio.tracks: wav holds one track: give "merged" or "first"')
        self._check_fit()

    def _check_copy(self) -> None:
        for key in ("container", "video", "audio", "fit", "watermark"):
            if getattr(self, key) is not None:
                raise ValueError(f"{key}: copy codes nothing anew; leave it out")
        if self.burn_in or self.size_percent != 100:
            raise ValueError("copy: a copied picture cannot be sized or written on")

    def _check_fit(self) -> None:
        if self.fit is None:
            return
        box = self.fit_px
        if box is None:
            raise ValueError(f"fit: width and height in pixels, as 1920x1080, not “{self.fit}”")
        if self.size_percent != 100:
            raise ValueError("fit: give either size_percent or fit")
        assert self.video
        if problem := self.video.unfit_size(*box):
            raise ValueError(f"fit: {problem}")

    @property
    def fit_px(self) -> tuple[int, int] | None:
        """The largest size, in pixels."""
        match = _SIZE.fullmatch(self.fit or "")
        return (int(match[1]), int(match[2])) if match else None

    @property
    def is_sequence(self) -> bool:
        """Whether it writes numbered images into a folder."""
        return self.container in SEQUENCES

    @property
    def ending(self) -> str:
        """The file name's ending, dot included; empty for folders of images, and for copies, which keep theirs."""
        return "" if self.container is None or self.is_sequence else f".{self.container}"

    @property
    def usual_bitrate_mbps(self) -> float:
        """About the bitrate of 1920x1080 at 25 frames a second, or of the largest size where that is smaller."""
        width, height = self.fit_px or (1920, 1080)
        scale = self.size_percent / 100
        frame = self.bytes_per_frame(
            round(min(width, 1920) * scale), round(min(height, 1080) * scale), Fraction(25)
        )
        return float(frame * 25 * 8 / 1_000_000)

    def bytes_per_frame(self, width_px: int, height_px: int, rate: Fraction, tracks: int = 1) -> Fraction:
        """About how much a file grows with each frame, by what such pictures and sound tracks take on average."""
        bits = Fraction(0)
        if self.video and self.video.bitrate_mbps:
            bits += Fraction(round(self.video.bitrate_mbps * 1_000_000)) / rate
        elif self.video and self.video.codec == "dnxhr":
            bits += dnxhr_frame_bytes(self.video.profile or "hq", width_px, height_px) * 8
        elif self.video:
            bits += width_px * height_px * Fraction(str(self.video.expected_bits_per_pixel))
        if self.audio:
            bits += self.audio.bits_per_second * tracks / rate
        return bits / 8
