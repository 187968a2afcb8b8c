"""Times at the beginning of a line of text, and clock times as seconds."""

from __future__ import annotations

import re
from fractions import Fraction

_TIME = r"\d{1,2}[:;]\d{2}[:;]\d{2}[:;.,]\d{2,3}|(?:\d{1,2}:)?\d{1,3}:\d{2}(?:[.,]\d{1,6})?"
_LEADING = re.compile(rf"\s*[\[(]?\s*({_TIME})(?![\d:;])\s*[\])]?(.*)", re.ASCII | re.DOTALL)
_WHOLE = re.compile(_TIME, re.ASCII)
_CLOCK = re.compile(r"(?:(\d{1,3}):)?(\d{1,3}):(\d{2}(?:[.,]\d{1,9})?)", re.ASCII)


def is_time(text: str) -> bool:
    """Whether a text is a timecode or a clock time, and nothing else."""
    return _WHOLE.fullmatch(text.strip().removeprefix("'")) is not None


def starts_with_time(line: str) -> tuple[str, str] | None:
    """(time, what follows) of a line that begins with a timecode or a clock time; None for others.

    A clock time of three fields is written with a decimal point, so that it is not taken for a timecode.
    """
    found = _LEADING.match(line.lstrip(" \t,;"))
    if not found:
        return None
    time = found[1]
    if time.count(":") == 2 and not re.search("[;.,]", time):
        time += ".0"
    return time, found[2]


def to_seconds(text: str) -> Fraction | None:
    """Seconds of 1:02:03.5, 02:03,500 or 00:00:05.000; None for anything else."""
    found = _CLOCK.fullmatch(text.strip())
    if not found:
        return None
    hours, minutes, seconds = (Fraction((part or "0").replace(",", ".")) for part in found.groups())
    return (hours * 60 + minutes) * 60 + seconds
