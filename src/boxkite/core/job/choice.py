"""A choice among shots as it is typed: circled, keyword:vat, number:3-7."""

from __future__ import annotations

import re

from msgspec import Struct

from boxkite.core.errors import PlanError, setting
from boxkite.core.suggest import did_you_mean

ALONE = ("circled", "marked")
"""Choices without a value."""
KINDS = ("keyword", "track", "name", "number", "length")
"""Choices with a value, beside every token."""
_RANGE = re.compile(r"(\d{1,7})(-(\d{1,7})?)?", re.ASCII)
_HINT = (
    f'as {setting("only")} circled, {setting("only")} keyword:vat, {setting("only")} "name:loft*",'
    f" {setting('only')} number:3-7, {setting('only')} length:2s-"
)


class Choice(Struct, frozen=True):
    """One choice as it was typed: what to look at, and the values that fit, any of them."""

    text: str
    kind: str
    values: tuple[str, ...] = ()

    @classmethod
    def parse(cls, text: str, option: str) -> Choice:
        """Read "circled", "marked" or KIND:VALUE[,VALUE…]. Raises PlanError."""
        kind, colon, rest = text.strip().partition(":")
        kind = kind.strip()
        if not colon and kind in ALONE:
            return cls(text, kind)
        values = tuple(value.strip() for value in rest.split(",") if value.strip())
        if not colon or not kind or not values:
            hint = did_you_mean(kind, [*ALONE, *KINDS]) if not colon else ""
            raise PlanError(f"{option} {text}: say what to look at and which value", hint=hint or _HINT)
        if kind == "number" and not all(_RANGE.fullmatch(value) for value in values):
            raise PlanError(f"{option} {text}: numbers are written as 3, 3-7 or 12-", hint=_HINT)
        return cls(text, kind, values)

    def has_number(self, number: int) -> bool:
        """Whether a number is among those of a choice by number."""
        return any(_in_range(number, value) for value in self.values)


def _in_range(number: int, text: str) -> bool:
    match = _RANGE.fullmatch(text)
    assert match
    first = int(match[1])
    if not match[2]:
        return number == first
    return first <= number and (not match[3] or number <= int(match[3]))
