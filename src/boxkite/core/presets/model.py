"""What a preset says, and the checks that it holds together before anything is decoded."""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path
from typing import Annotated, Any, ClassVar, Literal

from annotated_types import Interval, Len

Position = Literal[
    "top left", "top", "top right", "left", "centre", "right", "bottom left", "bottom", "bottom right"
]
Container = Literal["mov", "mp4", "mkv"]
VideoCodec = Literal["h264", "hevc", "prores", "dnxhr", "ffv1"]
AudioCodec = Literal["aac", "pcm16", "pcm24", "flac", "opus"]

CODECS_OF: dict[str, tuple[set[str], set[str]]] = {
    "mov": ({"h264", "hevc", "prores", "dnxhr"}, {"aac", "pcm16", "pcm24"}),
    "mp4": ({"h264", "hevc"}, {"aac", "opus", "flac"}),
    "mkv": ({"h264", "hevc", "prores", "ffv1"}, {"aac", "pcm16", "pcm24", "flac", "opus"}),
}
"""Codecs each container is written with here: those its common readers take."""

PIXEL_FORMATS: dict[str, tuple[str, ...]] = {
    "h264": ("yuv420p", "yuv422p", "yuv444p", "yuv420p10le", "yuv422p10le", "yuv444p10le"),
    "hevc": ("yuv420p", "yuv422p", "yuv444p", "yuv420p10le", "yuv422p10le", "yuv444p10le"),
    "prores": ("yuv422p10le",),
    "dnxhr": ("yuv422p", "yuv422p10le"),
    "ffv1": ("yuv420p", "yuv422p", "yuv444p", "yuv420p10le", "yuv422p10le", "yuv444p10le"),
}
"""Pixel formats each codec is written in, by the codec library's names; the first is the usual one."""

PROFILES: dict[str, tuple[str, ...]] = {
    "prores": ("proxy", "lt", "422", "hq"),
    "dnxhr": ("lb", "sq", "hq", "hqx"),
    "h264": ("baseline", "main", "high", "high10", "high422", "high444"),
    "hevc": ("main", "main10"),
}
SPEEDS = ("ultrafast", "superfast", "veryfast", "faster", "fast", "medium", "slow", "slower", "veryslow")


# Plain dataclasses, which pydantic checks when a file is read (library.py): worker processes, which only take
# checked presets, need not load it.
_STRICT: dict[str, Any] = {"extra": "forbid"}


@dataclass(frozen=True, kw_only=True)
class Video:
    """How the picture is coded.

    quality: constant quality (0 best, 51 worst) for h264 and hevc; bitrate_mbps: instead of it.
    keyframe_seconds: longest way between keyframes. scan: interlaced sources keep their fields, or are made
    progressive. expected_bits_per_pixel: bits a pixel of each frame takes on average, for the plan's sizes.
    """

    __pydantic_config__: ClassVar[dict[str, Any]] = _STRICT

    codec: VideoCodec
    profile: str | None = None
    pixel_format: str | None = None
    quality: Annotated[float, Interval(ge=0, le=51)] | None = None
    bitrate_mbps: Annotated[float, Interval(gt=0, le=10_000)] | None = None
    speed: str | None = None
    keyframe_seconds: Annotated[float, Interval(gt=0, le=60)] | None = None
    scan: Literal["keep", "progressive"] = "progressive"
    expected_bits_per_pixel: Annotated[float, Interval(gt=0, le=200)] = 0.1

    def __post_init__(self) -> None:
        known = PROFILES.get(self.codec, ())
        if self.profile is not None and self.profile not in known:
            raise ValueError(f"profile: {self.codec} has {', '.join(known) or 'none'}, not “{self.profile}”")
        formats = PIXEL_FORMATS[self.codec]
        if self.pixel_format is not None and self.pixel_format not in formats:
            raise ValueError(
                f"pixel_format: {self.codec} takes {', '.join(formats)}, not “{self.pixel_format}”"
            )
        constant_quality = self.codec in ("h264", "hevc")
        for key in ("quality", "speed", "keyframe_seconds", "bitrate_mbps"):
            if getattr(self, key) is not None and not constant_quality:
                raise ValueError(f"{key}: goes with h264 and hevc, not with {self.codec}")
        if self.quality is not None and self.bitrate_mbps is not None:
            raise ValueError("bitrate_mbps: give either quality or bitrate_mbps")
        if self.speed is not None and self.speed not in SPEEDS:
            raise ValueError(f"speed: one of {', '.join(SPEEDS)}, not “{self.speed}”")

    @property
    def written_format(self) -> str:
        """The pixel format the picture is encoded in."""
        if self.codec == "dnxhr" and self.profile == "hqx":
            return "yuv422p10le"
        return self.pixel_format or PIXEL_FORMATS[self.codec][0]


@dataclass(frozen=True, kw_only=True)
class Audio:
    """How the sound is coded. tracks: every one of the source, or its first. channels: as they are, or stereo."""

    __pydantic_config__: ClassVar[dict[str, Any]] = _STRICT

    codec: AudioCodec
    bitrate_kbps: Annotated[int, Interval(ge=16, le=2000)] | None = None
    tracks: Literal["all", "first"] = "all"
    channels: Literal["keep", "stereo"] = "keep"

    def __post_init__(self) -> None:
        if self.bitrate_kbps is not None and self.codec not in ("aac", "opus"):
            raise ValueError(f"bitrate_kbps: goes with aac and opus, not with {self.codec}")


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
    """A whole recipe. size_percent scales both sides of the picture; sides come out even where codecs ask."""

    __pydantic_config__: ClassVar[dict[str, Any]] = _STRICT

    name: str = ""
    summary: Annotated[str, Len(0, 200)] = ""
    good_for: Annotated[str, Len(0, 200)] = ""
    container: Container
    size_percent: Annotated[float, Interval(gt=0, le=400)] = 100
    video: Video
    audio: Audio | None = None
    burn_in: tuple[Lettering, ...] = ()
    watermark: Watermark | None = None

    def __post_init__(self) -> None:
        if len(self.name) == 1:
            raise ValueError("one-letter names would read as drives; give a longer one")
        videos, audios = CODECS_OF[self.container]
        if self.video.codec not in videos:
            raise ValueError(f"video.codec: {self.container} takes {', '.join(sorted(videos))}")
        if self.audio and self.audio.codec not in audios:
            raise ValueError(f"audio.codec: {self.container} takes {', '.join(sorted(audios))}")

    @property
    def ending(self) -> str:
        """The file name's ending, dot included."""
        return f".{self.container}"

    def bytes_per_frame(self, width_px: int, height_px: int, rate: Fraction) -> Fraction:
        """About how much a file grows with each frame, by what such pictures take on average."""
        if self.video.bitrate_mbps:
            video_bits = Fraction(round(self.video.bitrate_mbps * 1_000_000)) / rate
        else:
            video_bits = width_px * height_px * Fraction(str(self.video.expected_bits_per_pixel))
        audio_bits = Fraction(0)
        if self.audio:
            per_second = {"pcm16": 1_536_000, "pcm24": 2_304_000, "flac": 1_200_000}.get(
                self.audio.codec, (self.audio.bitrate_kbps or 192) * 1000
            )
            audio_bits = per_second / rate
        return (video_bits + audio_bits) / 8
