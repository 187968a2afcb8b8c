"""Presets as data, and the checks that one is consistent before anything is decoded."""

from __future__ import annotations

import re
from dataclasses import dataclass
from fractions import Fraction
from functools import lru_cache
from pathlib import Path
from typing import Annotated, Any, ClassVar, Literal

from annotated_types import Interval, Len

from boxkite.core.errors import RateError
from boxkite.core.presets.codecs import (
    CODECS,
    CODECS_OF,
    ENCODER_SPEEDS,
    HARDWARE,
    HARDWARE_CODECS,
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
from boxkite.core.timebase import FrameRate

Position = Literal[
    "top left", "top", "top right", "left", "centre", "right", "bottom left", "bottom", "bottom right"
]
Scaling = Literal["fast", "good", "best"]
_COLOUR = re.compile(r"#[0-9a-fA-F]{6}", re.ASCII)
_SIZE = re.compile(r"(\d{2,5})x(\d{2,5})", re.ASCII)


Nudge = Annotated[float, Interval(ge=-100, le=100)]

# Plain dataclasses, which pydantic checks when a file is read (library.py): worker processes, which only take
# checked presets, need not load it.
_STRICT: dict[str, Any] = {"extra": "forbid"}


@dataclass(frozen=True, kw_only=True)
class Video:
    """How the picture is coded."""

    __pydantic_config__: ClassVar[dict[str, Any]] = _STRICT

    codec: VideoCodec
    profile: str | None = None
    pixel_format: str | None = None
    quality: Annotated[float, Interval(ge=0, le=63)] | None = None
    """Constant quality, the lower the better (h264, hevc: 0 to 51; av1, vp9: 0 to 63; mjpeg, jpeg: 2 to 31)."""
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

    __pydantic_config__: ClassVar[dict[str, Any]] = _STRICT

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
    """What is written for sources without sound: nothing, or a silent track."""

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
class BurnIn:
    """Text burnt into the picture."""

    __pydantic_config__: ClassVar[dict[str, Any]] = _STRICT

    text: Annotated[str, Len(1, 500)]
    """A pattern; @timecode, @frame, @recordtimecode and @shotframe run along."""
    position: Position = "bottom left"
    nudge: tuple[Nudge, Nudge] = (0.0, 0.0)
    """Moved by so many percent of the picture's width and height, as (2, -1.5)."""
    height_percent: Annotated[float, Interval(ge=1, le=30)] = 4.5
    """Of the picture's height."""
    colour: str = "#ffffff"
    opacity: Annotated[float, Interval(gt=0, le=1)] = 0.9
    box_colour: str = "#000000"
    """"#rrggbb"."""
    box_opacity: Annotated[float, Interval(ge=0, le=1)] = 0.55
    font: Path | None = None
    """A font file, instead of the one that comes along."""

    def __post_init__(self) -> None:
        _check_colour("colour", self.colour)
        _check_colour("box_colour", self.box_colour)


@dataclass(frozen=True, kw_only=True)
class Watermark:
    """A text or an image with transparency laid over the picture."""

    __pydantic_config__: ClassVar[dict[str, Any]] = _STRICT

    text: Annotated[str, Len(1, 100)] | None = None
    image: Path | None = None
    position: Position = "right"
    nudge: tuple[Nudge, Nudge] = (0.0, 0.0)
    """As of burn-ins."""
    colour: str = "#ffffff"
    """Of a text."""
    width_percent: Annotated[float, Interval(ge=1, le=100)] = 18
    """Of the picture's width."""
    opacity: Annotated[float, Interval(gt=0, le=1)] = 0.5

    def __post_init__(self) -> None:
        if (self.text is None) == (self.image is None):
            raise ValueError("give either text or image")
        _check_colour("colour", self.colour)


def _check_colour(key: str, colour: str) -> None:
    if not _COLOUR.fullmatch(colour):
        raise ValueError(f'{key}: a colour is written "#rrggbb", as "#ffcc00", not “{colour}”')


@dataclass(frozen=True, kw_only=True)
class LookSettings:
    """How the picture's colours are changed, in this order."""

    __pydantic_config__: ClassVar[dict[str, Any]] = _STRICT

    cdl: bool = True
    """The shot's own colour decision, from its edit, its table of metadata or a file beside it."""
    beside: bool = True
    """A look file beside the footage, of its name."""
    file: Path | None = None
    """A look file for all shots."""
    from_space: str | None = None
    to_space: str | None = None
    """From one colour space of `config` (an OpenColorIO file, else the one that comes with the library) to another, at
    last."""
    config: Path | None = None

    def __post_init__(self) -> None:
        if (self.from_space is None) != (self.to_space is None):
            raise ValueError("to_space: from_space and to_space go together")
        if self.config and not self.from_space:
            raise ValueError("config: it goes with from_space and to_space")


@lru_cache(maxsize=64)
def _rate_said(text: str) -> FrameRate:
    """A rate as a preset says it; it is asked for with every frame."""
    return FrameRate.parse(text)


@dataclass(frozen=True, kw_only=True)
class Preset:
    """A whole recipe."""

    __pydantic_config__: ClassVar[dict[str, Any]] = _STRICT

    name: str = ""
    summary: Annotated[str, Len(0, 200)] = ""
    good_for: Annotated[str, Len(0, 200)] = ""
    plays: Annotated[str, Len(0, 200)] = ""
    """What it makes, for whom, and where that plays. size_percent scales both sides of the picture."""
    container: Container | None = None
    copy: bool = False
    """Nothing is re-encoded, the container stays the source's."""
    size_percent: Annotated[float, Interval(gt=0, le=400)] = 100
    fit: str | None = None
    """The largest it may become ("1920x1080"), with black bars to that very size where bars says so."""
    bars: bool = False
    fill: str | None = None
    """That size, what juts out cut off."""
    exact: str | None = None
    """That size, whatever becomes of the proportions. Nothing but exact makes a frame larger than the source, unless
    enlarge says so."""
    enlarge: bool = False
    square_pixels: bool = False
    """Anamorphic frames get square ones."""
    scaling: Scaling = "good"
    """The quality of sizing."""
    rate: str | float | None = None
    """Frames a second, where not the source's: frames are repeated or passed over. Sides are made even where codecs
    ask."""
    first_number: Annotated[int, Interval(ge=0, le=99_999_999)] = 1
    digits: Annotated[int, Interval(ge=1, le=10)] = 4
    source_numbers: bool = False
    """Of numbered images."""
    with_presets: tuple[str, ...] = ()
    """Presets made along in the same folder, as the audio beside frames. Without video only the audio is written,
    without audio only the picture."""
    video: Video | None = None
    audio: Audio | None = None
    burn_in: tuple[BurnIn, ...] = ()
    watermark: tuple[Watermark, ...] = ()
    look: LookSettings | None = None

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
            raise ValueError(f"audio.codec: {self.container} takes {', '.join(sorted(audios)) or 'no audio'}")
        if self.video is None and (self.burn_in or self.watermark or self.look or self.sizing or self.rate):
            raise ValueError("video: without it there is no picture to size, to colour or to write on")
        if self.audio and self.container == "wav" and self.audio.tracks == "all":
            raise ValueError('audio.tracks: wav holds one track: give "merged", "mixed" or "first"')
        self._check_sizing()
        if self.rate is not None:
            self._check_rate()

    def _check_copy(self) -> None:
        for key in ("container", "video", "audio", "fit", "fill", "exact", "rate", "look"):
            if getattr(self, key) is not None:
                raise ValueError(f"{key}: copy re-encodes nothing; leave it out")
        if self.burn_in or self.watermark or self.size_percent != 100:
            raise ValueError("copy: a copied picture cannot be sized or written on")

    def _check_rate(self) -> None:
        try:
            FrameRate.parse(str(self.rate))
        except RateError as error:
            raise ValueError(f"rate: {error.message}") from None

    def _check_sizing(self) -> None:
        given = [key for key in ("fit", "fill", "exact") if getattr(self, key) is not None]
        if self.size_percent != 100:
            given.insert(0, "size_percent")
        if len(given) > 1:
            raise ValueError(f"{given[1]}: give either {given[0]} or {given[1]}")
        if self.bars and not self.fit:
            raise ValueError("bars: they go with fit")
        if self.video and self.video.codec == "exr" and (self.burn_in or self.watermark):
            raise ValueError(
                "burn_in: images in linear light are not written on; leave burn_in and watermark out"
            )
        if not given or given[0] == "size_percent":
            return
        box = self.box_px
        if box is None:
            text = getattr(self, given[0])
            raise ValueError(f"{given[0]}: width and height in pixels, as 1920x1080, not “{text}”")
        assert self.video
        if problem := self.video.unfit_size(*box):
            raise ValueError(f"{given[0]}: {problem}")

    @property
    def sizing(self) -> str | None:
        """Which box the picture is brought into: "fit", "fill" or "exact"; "percent"; None where it stays."""
        boxes = ("fit", "fill", "exact")
        named = next((key for key in boxes if getattr(self, key) is not None), None)
        return named or ("percent" if self.size_percent != 100 else None)

    @property
    def box_px(self) -> tuple[int, int] | None:
        """Width and height of fit, fill or exact, in pixels."""
        match = _SIZE.fullmatch(self.fit or self.fill or self.exact or "")
        return (int(match[1]), int(match[2])) if match else None

    @property
    def frame_rate(self) -> FrameRate | None:
        """The rate it is written at, where that is not the source's."""
        return None if self.rate is None else _rate_said(str(self.rate))

    @property
    def is_sequence(self) -> bool:
        """Whether it writes numbered images into a folder."""
        return self.container in SEQUENCES

    @property
    def extension(self) -> str:
        """The file name's extension, dot included; empty for folders of images, and for copies, which keep theirs."""
        return "" if self.container is None or self.is_sequence else f".{self.container}"

    @property
    def usual_bitrate_mbps(self) -> float:
        """About the bitrate of 1920x1080 at 25 frames a second, or of the largest size where that is smaller."""
        width, height = self.box_px or (1920, 1080)
        scale = self.size_percent / 100
        frame = self.bytes_per_frame(
            round(min(width, 1920) * scale), round(min(height, 1080) * scale), Fraction(25)
        )
        return float(frame * 25 * 8 / 1_000_000)

    def bytes_per_frame(self, width_px: int, height_px: int, rate: Fraction, tracks: int = 1) -> Fraction:
        """About how much a file grows with each frame, by what such frames and audio tracks take on average."""
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
