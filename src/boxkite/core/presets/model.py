"""Presets as data, and the checks that one is consistent before anything is decoded."""

from __future__ import annotations

import re
from dataclasses import dataclass, replace
from fractions import Fraction
from functools import cached_property, lru_cache
from pathlib import Path
from typing import Annotated, Any, ClassVar, Literal

from boxkite.core.errors import RateError
from boxkite.core.presets.bounds import Interval, Len
from boxkite.core.presets.codecs import (
    CODECS_OF,
    SEQUENCES,
    Container,
    dnxhr_frame_bytes,
)
from boxkite.core.presets.coding import STRICT, Audio, Video
from boxkite.core.presets.overlays import NO_LOOK, BurnIn, LookSettings, Watermark
from boxkite.core.timebase import FrameRate

Scaling = Literal["fast", "good", "best"]
_SIZE = re.compile(r"(\d{2,5})x(\d{2,5})", re.ASCII)


@lru_cache(maxsize=64)
def _rate_said(text: str) -> FrameRate:
    """A rate as a preset says it; it is asked for with every frame."""
    return FrameRate.parse(text)


@dataclass(frozen=True, kw_only=True)
class Preset:
    """A whole recipe."""

    __pydantic_config__: ClassVar[dict[str, Any]] = STRICT

    name: str = ""
    summary: Annotated[str, Len(0, 200)] = ""
    good_for: Annotated[str, Len(0, 200)] = ""
    plays: Annotated[str, Len(0, 200)] = ""
    """A preset: format, purpose and players. size_percent scales both sides of the picture."""
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

    def with_watermark(self, image: Path) -> Preset:
        """The same with another image as its first watermark."""
        first = replace(next(iter(self.watermark), Watermark(image=image)), image=image, text=None)
        return replace(self, watermark=(first, *self.watermark[1:]))

    def with_look(self, file: Path) -> Preset:
        """The same with the look of another file."""
        return replace(self, look=replace(self.look or LookSettings(), file=file))

    def without_look(self) -> Preset:
        """The same without any, one beside the source included."""
        return replace(self, look=NO_LOOK)

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
    def takes_watermark(self) -> bool:
        """Whether a watermark can be laid over what it writes: frames, not copied and not in linear light."""
        return self.video is not None and self.video.codec != "exr"

    @cached_property
    def is_sequence(self) -> bool:
        """Whether it writes numbered images into a folder."""
        return self.container in SEQUENCES

    @cached_property
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
