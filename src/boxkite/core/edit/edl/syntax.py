"""Single words and fields of an EDL: frame code modes, fields between bars."""

from __future__ import annotations

import re

BAR_FIELD = re.compile(r"\|\s*([A-Z])\s*:", re.ASCII)


def counts_drop(mode: str) -> bool | None:
    """Whether a frame code mode is drop-frame; None for one that is not known."""
    word = re.sub(r"[\s_-]+", " ", mode.strip().upper())
    if word.startswith(("NON DROP", "NONDROP")) or word == "NDF":
        return False
    return True if word.startswith("DROP") or word == "DF" else None


def has_bar_fields(text: str) -> bool:
    """Whether a line is a marker as fields between bars: it begins with one, or has several."""
    return (
        bool(BAR_FIELD.match(text))
        or len(BAR_FIELD.findall(text)) > 1
        or "|M:" in text.upper().replace(" ", "")
    )


def bar_fields(text: str) -> tuple[str, dict[str, str]]:
    """(text before the first bar, values by their letter) of a line with fields between bars."""
    before, *parts = BAR_FIELD.split(text)
    fields = {key: value.strip() for key, value in zip(parts[::2], parts[1::2], strict=True)}
    return before.strip("* "), fields


def plain_colour(text: str) -> str:
    """The colour in a word of several, as "DarkGreen"; the text itself where there is no such word."""
    parts = re.findall(r"[A-Z][a-z]+", text)
    return (parts[-1] if parts else text).lower()
