"""Time as whole frames over a fraction: rates, timecode (SMPTE ST 12-1, ST 12-3), spans, conversions."""

from __future__ import annotations

import re
from fractions import Fraction
from functools import cached_property, lru_cache
from typing import Literal

from msgspec import Struct
from msgspec.structs import force_setattr

from boxkite.core.errors import RateError, TimecodeError, setting

HOURS_PER_DAY = 24
SECONDS_PER_DAY = HOURS_PER_DAY * 3600

_USUAL_NAMES: dict[str, Fraction] = {
    "23.976": Fraction(24000, 1001),
    "24": Fraction(24),
    "25": Fraction(25),
    "29.97": Fraction(30000, 1001),
    "30": Fraction(30),
    "47.952": Fraction(48000, 1001),
    "48": Fraction(48),
    "50": Fraction(50),
    "59.94": Fraction(60000, 1001),
    "60": Fraction(60),
    "100": Fraction(100),
    "119.88": Fraction(120000, 1001),
    "120": Fraction(120),
}
_OTHER_SPELLINGS = {"23.98": "23.976", "47.95": "47.952"}
_NAME_OF = {fraction: name for name, fraction in _USUAL_NAMES.items()}

Rounding = Literal["nearest", "down", "up"]


class FrameRate(Struct, frozen=True, order=True, dict=True):
    """Frames per second as an exact fraction, above 0 and at most 1000."""

    fraction: Fraction

    def __post_init__(self) -> None:
        if not 0 < self.fraction <= 1000:
            raise RateError(f"{self.fraction} is not a frame rate", hint="rates lie above 0 and up to 1000")

    @cached_property
    def nominal(self) -> int:
        """Frames that timecode counts in a second: 30 at 29.97, 24 at 23.976."""
        return -(-self.fraction.numerator // self.fraction.denominator)

    @cached_property
    def dropped_per_minute(self) -> int:
        """Labels that drop-frame leaves out of each minute but every tenth; 0 where it is not defined.

        2 at 30000/1001 and 4 at 60000/1001 (ST 12-1), 8 at 120000/1001 (ST 12-3).
        """
        numerator, denominator = self.fraction.numerator, self.fraction.denominator
        can_drop = denominator == 1001 and numerator in (30000, 60000, 120000)
        return numerator // 15000 if can_drop else 0

    def __hash__(self) -> int:
        return self.fraction.numerator

    @classmethod
    def parse(cls, text: str) -> FrameRate:
        """Read "25", "29.97", "30000/1001". The usual decimal names mean their exact fractions.

        Raises RateError for anything else that is not a number or a fraction of whole numbers.
        """
        word = text.strip().lower().removesuffix("fps").strip()
        word = _OTHER_SPELLINGS.get(word, word)
        stripped = word.rstrip("0").rstrip(".") if "." in word else word
        if stripped in _USUAL_NAMES:
            return cls(_USUAL_NAMES[stripped])
        match = re.fullmatch(r"(\d{1,9})(?:\s*/\s*(\d{1,9})|\.(\d{1,9}))?", word, re.ASCII)
        if not match or (match[2] and int(match[2]) == 0):
            raise RateError(
                f"“{text}” is not a frame rate", hint="write 25, 29.97 or a fraction such as 30000/1001"
            )
        value = Fraction(int(match[1]), int(match[2])) if match[2] else Fraction(word)
        return cls(value)

    @staticmethod
    @lru_cache(maxsize=256)
    def near(value: Fraction) -> FrameRate:
        """The usual rate within one part in ten thousand of `value`, else `value` as it is."""
        for usual in _NAME_OF:
            if abs(value / usual - 1) <= Fraction(1, 10_000):
                return FrameRate(usual)
        return FrameRate(value)

    @property
    def can_drop(self) -> bool:
        """Whether drop-frame timecode is defined for this rate."""
        return self.dropped_per_minute > 0

    def __str__(self) -> str:
        name = _NAME_OF.get(self.fraction)
        if name:
            return name
        if self.fraction.denominator == 1:
            return str(self.fraction.numerator)
        return f"{self.fraction.numerator}/{self.fraction.denominator}"

    def seconds(self, frames: int) -> Fraction:
        """How long so many frames last."""
        return frames / self.fraction

    def frames_in(self, seconds: Fraction, rounding: Rounding = "nearest") -> int:
        """How many frames lie in so many seconds, rounded as asked."""
        return round_fraction(seconds * self.fraction, rounding)


def round_fraction(value: Fraction, rounding: Rounding = "nearest") -> int:
    """A fraction as a whole number; "nearest" sends halves up, so that equal steps stay equal."""
    if rounding == "down":
        return value.numerator // value.denominator
    if rounding == "up":
        return -(-value.numerator // value.denominator)
    return (2 * value.numerator + value.denominator) // (2 * value.denominator)


def convert_frames(
    frame: int, from_rate: FrameRate, to_rate: FrameRate, rounding: Rounding = "nearest"
) -> int:
    """The frame at `to_rate` that is on screen when `frame` of `from_rate` begins."""
    return round_fraction(frame * to_rate.fraction / from_rate.fraction, rounding)


def sample_at(frame: int, rate: FrameRate, sample_rate: int) -> int:
    """The audio sample at which a frame begins, counted from frame 0; neighbours never overlap or gap."""
    return round_fraction(frame * sample_rate / rate.fraction)


class Span(Struct, frozen=True, order=True):
    """Whole frames from `start` up to, not including, `end`."""

    start: int
    end: int

    def __post_init__(self) -> None:
        if self.end < self.start:
            raise TimecodeError(f"out (frame {self.end}) is before in (frame {self.start})")

    @property
    def length(self) -> int:
        """Number of frames, 0 for an empty span."""
        return self.end - self.start

    def clipped_to(self, other: Span) -> Span:
        """The part of this span inside the other; empty at the nearer end where they do not meet."""
        start = min(max(self.start, other.start), other.end)
        return Span(start, max(start, min(self.end, other.end)))


def uncovered(whole: Span, parts: list[Span]) -> list[Span]:
    """The spans of `whole` that no part covers, in order."""
    gaps, reached = [], whole.start
    for part in sorted(parts):
        if part.start > reached:
            gaps.append(Span(reached, min(part.start, whole.end)))
        reached = max(reached, part.end)
    if reached < whole.end:
        gaps.append(Span(reached, whole.end))
    return [gap for gap in gaps if gap.length]


def frames_per_day(rate: FrameRate, *, drop: bool) -> int:
    """Frames that timecode counts in 24 hours."""
    if not drop:
        return SECONDS_PER_DAY * rate.nominal
    _check_drop(rate, drop)
    return SECONDS_PER_DAY * rate.nominal - rate.dropped_per_minute * (24 * 60 - 24 * 6)


def _check_drop(rate: FrameRate, drop: bool) -> None:
    if drop and not rate.dropped_per_minute:
        raise RateError(
            f"drop-frame timecode is not defined at {rate} frames a second",
            hint="drop-frame belongs to 29.97, 59.94 and 119.88; write the frames after a colon",
        )


def frames_to_timecode(frame: int, rate: FrameRate, *, drop: bool) -> str:
    """Write a frame count as SMPTE ST 12-1 timecode, wrapping at 24 hours.

    frame: frames since 00:00:00:00, any whole number. drop: skip labels as ST 12-1 lays down (the first
    two, four or eight of each minute except every tenth), written with ";" before the frames.
    Raises RateError where drop-frame is not defined for the rate.
    """
    day = frames_per_day(rate, drop=drop)
    frame %= day
    if drop:
        skipped = rate.dropped_per_minute
        per_minute = 60 * rate.nominal - skipped
        per_ten = 10 * per_minute + skipped
        tens, rest = divmod(frame, per_ten)
        frame += tens * 9 * skipped
        if rest >= 60 * rate.nominal:
            frame += skipped * ((rest - 60 * rate.nominal) // per_minute + 1)
    seconds, frames = divmod(frame, rate.nominal)
    minutes, seconds = divmod(seconds, 60)
    hours, minutes = divmod(minutes, 60)
    digits = 2 if rate.nominal <= 100 else 3
    return f"{hours:02d}:{minutes:02d}:{seconds:02d}{';' if drop else ':'}{frames:0{digits}d}"


_TIMECODE = re.compile(r"(\d{1,2})([:;])(\d{2})([:;])(\d{2})([:;.,])(\d{2,3})", re.ASCII)
_THREE_FIELDS = re.compile(r"\d{1,2}[:;]\d{2}[:;]\d{2}", re.ASCII)


def is_timecode_like(text: str) -> bool:
    """Whether the text is shaped as a timecode of four fields, whatever its values."""
    return _TIMECODE.fullmatch(text.strip()) is not None


def timecode_to_frames(text: str, rate: FrameRate, *, drop: bool | None = None) -> tuple[int, bool]:
    """Read an ST 12-1 timecode as (frames since 00:00:00:00, whether it is drop-frame).

    A ";" before the frames means drop-frame, and so does a "." or "," where the rate has drop-frame. With only ":" it
    is drop-frame when `drop` says so.
    Raises TimecodeError for text that is no timecode, fields out of range and labels that drop-frame
    leaves out; RateError where drop-frame is not defined for the rate.
    """
    word = text.strip()
    match = _TIMECODE.fullmatch(word)
    if not match:
        hint = "a timecode is hours:minutes:seconds:frames, as 01:00:10:05"
        if _THREE_FIELDS.fullmatch(word):
            hint = (
                "it has three fields: add the frames; if you typed a “;”, the shell cut it off there: put the"
                " timecode in double quotes, or use “:”, which drop-frame sources accept too"
            )
        raise TimecodeError(f"“{text}” is not a timecode", hint=hint)
    hours_digits, _, minutes_digits, _, seconds_digits, separator, frames_digits = match.groups()
    hours, minutes = int(hours_digits), int(minutes_digits)
    seconds, frames = int(seconds_digits), int(frames_digits)
    is_drop = separator == ";" or bool(drop) or (separator in ".," and rate.can_drop)
    _check_drop(rate, is_drop)
    if hours >= 24 or minutes >= 60 or seconds >= 60:
        name, limit = ("hours", 24) if hours >= 24 else ("minutes", 60) if minutes >= 60 else ("seconds", 60)
        raise TimecodeError(f"“{text}”: {name} go up to {limit - 1}")
    if frames >= rate.nominal:
        raise TimecodeError(
            f"“{text}”: there is no frame {frames} at {rate} frames a second, they go up to {rate.nominal - 1}",
            hint=f"the list may have another rate: say it with {setting('marks-rate')}",
        )
    frame = ((hours * 60 + minutes) * 60 + seconds) * rate.nominal + frames
    if is_drop:
        skipped = rate.dropped_per_minute
        if seconds == 0 and frames < skipped and minutes % 10:
            raise TimecodeError(
                f"“{text}” does not exist: drop-frame leaves out frames 0 to {skipped - 1} of this minute"
            )
        total_minutes = hours * 60 + minutes
        frame -= skipped * (total_minutes - total_minutes // 10)
    return frame, is_drop


_MOST_COUNTED_IN_FILES = 255
"""Frames a second; a timecode track has 8 bits for them (QuickTime File Format, “Timecode Media”)."""


class Timecode(Struct, frozen=True):
    """A frame label: frames since midnight, with the rate and the way of counting it is written in."""

    frame: int
    rate: FrameRate
    drop: bool = False

    def __post_init__(self) -> None:
        force_setattr(self, "frame", self.frame % frames_per_day(self.rate, drop=self.drop))

    @classmethod
    def parse(cls, text: str, rate: FrameRate, *, drop: bool | None = None) -> Timecode:
        """Read a timecode; see timecode_to_frames for what is accepted and raised."""
        frame, is_drop = timecode_to_frames(text, rate, drop=drop)
        return cls(frame, rate, is_drop)

    def __str__(self) -> str:
        return frames_to_timecode(self.frame, self.rate, drop=self.drop)

    def for_file(self) -> dict[str, str]:
        """As metadata of a stream; empty where files cannot count so many frames a second."""
        return {"timecode": str(self)} if self.rate.nominal <= _MOST_COUNTED_IN_FILES else {}

    def __add__(self, frames: int) -> Timecode:
        return Timecode(self.frame + frames, self.rate, self.drop)

    def relabelled(self, rate: FrameRate, *, drop: bool) -> Timecode:
        """The same hours, minutes and seconds at another rate or way of counting; frames in proportion.

        A label that drop-frame leaves out becomes the next one that exists.
        """
        if rate == self.rate and drop == self.drop:
            return self
        _check_drop(rate, drop)
        hours, minutes, seconds, frames = (int(part) for part in re.split("[:;]", str(self)))
        frames = frames * rate.nominal // self.rate.nominal
        skipped = rate.dropped_per_minute if drop else 0
        if seconds == 0 and minutes % 10:
            frames = max(frames, skipped)
        text = f"{hours:02d}:{minutes:02d}:{seconds:02d}{';' if drop else ':'}{frames:02d}"
        return Timecode.parse(text, rate)

    def file_safe(self) -> str:
        """The timecode with characters every file system takes: 01-00-10-05."""
        return str(self).replace(":", "-").replace(";", "-")
