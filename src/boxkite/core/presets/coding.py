"""How a preset codes picture and audio, and the checks that codec, profile and rate control fit together."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated, Any, ClassVar, Literal

from boxkite.core.presets.bounds import Interval
from boxkite.core.presets.codecs import (
    AUDIO_BITS_PER_SECOND,
    AUDIO_WITH_BITRATE,
    CODECS,
    ENCODER_SPEEDS,
    HARDWARE,
    HARDWARE_CODECS,
    SPEEDS,
    AudioCodec,
    Codec,
    VideoCodec,
    quality_scale,
)

# Plain dataclasses, which pydantic checks when a file is read (reading.py): worker processes, which only take
# checked presets, need not load it.
STRICT: dict[str, Any] = {"extra": "forbid"}


@dataclass(frozen=True, kw_only=True)
class Video:
    """How the picture is coded."""

    __pydantic_config__: ClassVar[dict[str, Any]] = STRICT

    codec: VideoCodec
    profile: str | None = None
    pixel_format: str | None = None
    quality: Annotated[float, Interval(ge=0, le=100)] | None = None
    """Constant quality. h264, hevc: 0 to 51, av1, vp9: 0 to 63, the lower the better; mjpeg, jpeg: 1 to 100, the higher
    the better."""
    bitrate_mbps: Annotated[float, Interval(gt=0, le=10_000)] | None = None
    """Instead of it."""
    speed: str | None = None
    """Fast, good or best, the smallest files."""
    encoder_speed: str | None = None
    """Instead of it, the encoder's own word or number."""
    keyframe_seconds: Annotated[float, Interval(gt=0, le=60)] | None = None
    """Longest way between keyframes."""
    scan: Literal["keep", "progressive"] = "progressive"
    """Interlaced sources keep their fields, or are made progressive."""
    passes: Literal[1, 2] = 1
    """2 spreads a bitrate by a first pass over all frames."""
    hardware: str | None = None
    """An encoder outside the CPU, where there is one that works; else the CPU does it, and the file says so."""
    expected_bits_per_pixel: Annotated[float, Interval(gt=0, le=200)] = 0.1
    """Bits a pixel of each frame takes on average, for the plan's sizes."""

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
        if self.encoder_speed is not None and self.encoder_speed not in ENCODER_SPEEDS[self.codec]:
            known = ", ".join(ENCODER_SPEEDS[self.codec])
            raise ValueError(f"encoder_speed: {self.codec} has {known}, not “{self.encoder_speed}”")
        if self.passes == 2 and not (codec.two_passes and self.bitrate_mbps):
            raise ValueError("passes: two go with bitrate_mbps, in h264 and hevc")
        if self.hardware is not None:
            self._check_hardware()

    def _check_hardware(self) -> None:
        if self.hardware not in HARDWARE:
            raise ValueError(f"hardware: one of {', '.join(HARDWARE)}, not “{self.hardware}”")
        if self.codec not in HARDWARE_CODECS:
            raise ValueError(
                f"hardware: there are encoders of {', '.join(HARDWARE_CODECS)}, not of {self.codec}"
            )

    def _check_rate_control(self, codec: Codec) -> None:
        for key, taken in (
            ("quality", codec.quality is not None),
            ("bitrate_mbps", codec.has_bitrate),
            ("speed", codec.has_speed),
            ("encoder_speed", codec.has_speed),
            ("keyframe_seconds", codec.has_speed),
        ):
            if getattr(self, key) is not None and not taken:
                raise ValueError(f"{key}: {self.codec} has none; leave it out")
        if self.quality is not None and self.bitrate_mbps is not None:
            raise ValueError("bitrate_mbps: give either quality or bitrate_mbps")
        if self.speed is not None and self.encoder_speed is not None:
            raise ValueError("encoder_speed: give either speed or encoder_speed")
        if self.quality is not None and codec.quality:
            best, worst = codec.quality
            if not min(best, worst) <= self.quality <= max(best, worst):
                scale = quality_scale(self.codec)
                raise ValueError(f"quality: {self.codec} takes a number from {scale}, not {self.quality:g}")

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
        """Why the codec does not take a frame of this size; empty where it does."""
        codec = CODECS[self.codec]
        if width_px < codec.smallest[0] or height_px < codec.smallest[1]:
            least = "x".join(map(str, codec.smallest))
            return f"{self.codec} takes frames from {least}, not {width_px}x{height_px}"
        if width_px > codec.largest[0] or height_px > codec.largest[1]:
            most = "x".join(map(str, codec.largest))
            return f"{self.codec} takes frames up to {most}, not {width_px}x{height_px}"
        return ""


@dataclass(frozen=True, kw_only=True)
class Audio:
    """How the audio is coded."""

    __pydantic_config__: ClassVar[dict[str, Any]] = STRICT

    codec: AudioCodec
    bitrate_kbps: Annotated[int, Interval(ge=16, le=2000)] | None = None
    tracks: Literal["all", "first", "merged", "mixed"] = "all"
    """Every one of the source, its first, merged: all their channels side by side in one, as a WAV file holds them, or
    mixed: summed into one."""
    channels: Literal["keep", "mono", "stereo", "5.1"] = "keep"
    """As they are, or mixed to a layout."""
    loudness_lufs: Annotated[float, Interval(ge=-60, le=-5)] | None = None
    """The loudness the audio is brought to (EBU R 128), its true peak (dBTP) kept under most_peak_dbtp."""
    most_peak_dbtp: Annotated[float, Interval(ge=-20, le=0)] = -1.0
    if_none: Literal["nothing", "silence"] = "nothing"
    """Written for sources without audio: nothing, or a silent track."""

    def __post_init__(self) -> None:
        if self.bitrate_kbps is not None and self.codec not in AUDIO_WITH_BITRATE:
            raise ValueError(
                f"bitrate_kbps: goes with {', '.join(AUDIO_WITH_BITRATE)}, not with {self.codec}"
            )

    @property
    def bits_per_second(self) -> int:
        """About, for one track."""
        return AUDIO_BITS_PER_SECOND.get(self.codec, (self.bitrate_kbps or 192) * 1000)
