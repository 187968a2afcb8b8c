"""What a preset says, and the checks that it holds together before anything is decoded."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path
from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field, field_validator, model_validator

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


class _Strict(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


class Video(_Strict):
    """How the picture is coded.

    quality: constant quality (0 best, 51 worst) for h264 and hevc; bitrate_mbps: instead of it.
    keyframe_seconds: longest way between keyframes. scan: interlaced sources keep their fields, or are made
    progressive. expected_bits_per_pixel: bits a pixel of each frame
    takes on average, for the plan's sizes.
    """

    codec: VideoCodec
    profile: str | None = None
    pixel_format: str | None = None
    quality: Annotated[float, Field(ge=0, le=51)] | None = None
    bitrate_mbps: Annotated[float, Field(gt=0, le=10_000)] | None = None
    speed: str | None = None
    keyframe_seconds: Annotated[float, Field(gt=0, le=60)] | None = None
    scan: Literal["keep", "progressive"] = "progressive"
    expected_bits_per_pixel: Annotated[float, Field(gt=0, le=200)] = 0.1

    @model_validator(mode="after")
    def _holds_together(self) -> Video:
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
        return self

    @property
    def written_format(self) -> str:
        """The pixel format the picture is encoded in."""
        if self.codec == "dnxhr" and self.profile == "hqx":
            return "yuv422p10le"
        return self.pixel_format or PIXEL_FORMATS[self.codec][0]


class Audio(_Strict):
    """How the sound is coded. tracks: every one of the source, or its first. channels: as they are, or stereo."""

    codec: AudioCodec
    bitrate_kbps: Annotated[int, Field(ge=16, le=2000)] | None = None
    tracks: Literal["all", "first"] = "all"
    channels: Literal["keep", "stereo"] = "keep"

    @model_validator(mode="after")
    def _holds_together(self) -> Audio:
        if self.bitrate_kbps is not None and self.codec not in ("aac", "opus"):
            raise ValueError(f"bitrate_kbps: goes with aac and opus, not with {self.codec}")
        return self


class Lettering(_Strict):
    """Text burnt into the picture.

    text: a pattern; @timecode and @frame run along. height_percent: of the picture's height.
    """

    text: Annotated[str, Field(min_length=1, max_length=500)]
    position: Position = "bottom left"
    height_percent: Annotated[float, Field(ge=1, le=30)] = 4.5
    opacity: Annotated[float, Field(gt=0, le=1)] = 0.9
    box_opacity: Annotated[float, Field(ge=0, le=1)] = 0.55


class Watermark(_Strict):
    """A text or an image with transparency laid over the picture. width_percent: of the picture's width."""

    text: Annotated[str, Field(min_length=1, max_length=100)] | None = None
    image: Path | None = None
    position: Position = "right"
    width_percent: Annotated[float, Field(ge=1, le=100)] = 18
    opacity: Annotated[float, Field(gt=0, le=1)] = 0.5

    @model_validator(mode="after")
    def _one_of_both(self) -> Watermark:
        if (self.text is None) == (self.image is None):
            raise ValueError("give either text or image")
        return self


class Preset(_Strict):
    """A whole recipe. size_percent scales both sides of the picture; sides come out even where codecs ask."""

    name: str = ""
    summary: Annotated[str, Field(max_length=200)] = ""
    good_for: Annotated[str, Field(max_length=200)] = ""
    container: Container
    size_percent: Annotated[float, Field(gt=0, le=400)] = 100
    video: Video
    audio: Audio | None = None
    burn_in: tuple[Lettering, ...] = ()
    watermark: Watermark | None = None

    @field_validator("name")
    @classmethod
    def _not_one_letter(cls, name: str) -> str:
        if len(name) == 1:
            raise ValueError("one-letter names would read as drives; give a longer one")
        return name

    @model_validator(mode="after")
    def _fits_container(self) -> Preset:
        videos, audios = CODECS_OF[self.container]
        if self.video.codec not in videos:
            raise ValueError(f"video.codec: {self.container} takes {', '.join(sorted(videos))}")
        if self.audio and self.audio.codec not in audios:
            raise ValueError(f"audio.codec: {self.container} takes {', '.join(sorted(audios))}")
        return self

    @property
    def ending(self) -> str:
        """The file name's ending, dot included."""
        return f".{self.container}"

    def expected_bytes(self, width_px: int, height_px: int, rate: Fraction, frames: int) -> int:
        """About how large a file of so many frames becomes, by what such pictures take on average."""
        seconds = frames / rate
        if self.video.bitrate_mbps:
            video_bits = seconds * round(self.video.bitrate_mbps * 1_000_000)
        else:
            pixels = Fraction(width_px * height_px * frames)
            video_bits = pixels * Fraction(str(self.video.expected_bits_per_pixel))
        audio_bits = Fraction(0)
        if self.audio:
            per_second = {"pcm16": 1_536_000, "pcm24": 2_304_000, "flac": 1_200_000}.get(
                self.audio.codec, (self.audio.bitrate_kbps or 192) * 1000
            )
            audio_bits = seconds * per_second
        return int((video_bits + audio_bits) / 8)
