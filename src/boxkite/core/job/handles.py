"""Handles: frames before and after a shot that go along with it."""

from __future__ import annotations

import re
from fractions import Fraction

from msgspec import Struct

from boxkite.core.errors import PlanError, setting
from boxkite.core.timebase import FrameRate


class Handles(Struct, frozen=True):
    """Extra frames at both ends: so many, or so many seconds; None for both is the whole of the media."""

    frames: int | None = None
    seconds: Fraction | None = None

    @classmethod
    def parse(cls, text: str) -> Handles:
        """Read "12", "0.5s" or "whole". Raises PlanError."""
        word = text.strip().lower()
        if word == "whole":
            return cls()
        if re.fullmatch(r"\d{1,6}", word, re.ASCII):
            return cls(frames=int(word))
        if match := re.fullmatch(r"(\d{1,5}(?:[.,]\d{1,6})?)\s*s", word, re.ASCII):
            return cls(seconds=Fraction(match[1].replace(",", ".")))
        raise PlanError(
            f"{setting('handles')} {text}: give frames, seconds with an “s” after them, or whole",
            hint=f"as {setting('handles')} 12, {setting('handles')} 0.5s, {setting('handles')} whole",
        )

    @property
    def are_whole(self) -> bool:
        """Whether all of the media is meant."""
        return self.frames is None and self.seconds is None

    def frames_at(self, rate: FrameRate, whole: int) -> int:
        """How many frames that is at a rate; whole: the frames of the source, for the whole of it."""
        if self.frames is not None:
            return self.frames
        return whole if self.seconds is None else rate.frames_in(self.seconds)


NO_HANDLES = Handles(frames=0)
