"""The values of tokens, and the forms each kind of value takes."""

from __future__ import annotations

import re
from collections import ChainMap
from collections.abc import Callable, Mapping
from datetime import datetime
from functools import lru_cache
from typing import Any

from msgspec import Struct

from boxkite.core.files.names import slug
from boxkite.core.timebase import Timecode

_DATE_PARTS = {"YYYY": "%Y", "YY": "%y", "MM": "%m", "DD": "%d", "hh": "%H", "mm": "%M", "ss": "%S"}
_DATE_FORM = re.compile("|".join(_DATE_PARTS))
_WIDTH = re.compile(r"0{1,9}|0{0,8}1", re.ASCII)
"""Digits that say how many there are at least: zeros, the last of them perhaps a 1."""
_DIGITS = re.compile(r"\d{1,9}", re.ASCII)
_FROM = re.compile(r"from(\d{1,9})", re.ASCII)
_MAX = re.compile(r"max(\d{1,4})", re.ASCII)
_STEP = re.compile(r"step(\d{1,6})", re.ASCII)
_PER = re.compile(r"per\s+(.+)")
_VERSION_END = re.compile(r"[\s._-]*(?<![^\W_])v\d+$", re.IGNORECASE)
TEXT_FORMS = ("slug", "upper", "lower", "max20", "unversioned")
SUBFOLDER = "subfolder"
"""A counter may start again per token, or per folder that the name makes."""


class FormError(ValueError):
    """A form that this value does not take; says which it does."""


class Text(Struct, frozen=True):
    """Plain text, possibly empty."""

    text: str

    def shown(self) -> str:
        """The value when no form is asked for."""
        return self.text

    def formed(self, *forms: str) -> str:
        """The value in the forms of its kind. Raises FormError."""
        raise FormError(f"“{forms[0]}” is not a form of a text")


class Number(Struct, frozen=True):
    """A whole number; zeros give its width."""

    number: int

    def shown(self) -> str:
        """The number without padding."""
        return str(self.number)

    def formed(self, *forms: str) -> str:
        """The number with at least as many digits as the form. Raises FormError."""
        form = _only(forms)
        if not _WIDTH.fullmatch(form):
            raise FormError(_ambiguous(form) or f"“{form}” is not a form of a number: give zeros, as 000")
        return f"{self.number:0{len(form)}d}"


def _nothing_within(word: str) -> int:
    raise KeyError(word)


class Counter(Struct, frozen=True):
    """A place among the shots of a plan, counted from 0."""

    number: int
    within: Callable[[str], int] = _nothing_within
    """The place among those shots that have the same value of a token, or the same subfolder. It raises KeyError for a
    word that is neither."""

    def shown(self) -> str:
        """The place, counted from 1, without padding."""
        return str(self.number + 1)

    def formed(self, *forms: str) -> str:
        """By zeros (its width), "from10", "step10" and "per scene", in any order. Raises FormError."""
        width, start, step, within = _counting(forms)
        place = self._within(within) if within else self.number
        return f"{start + place * step:0{width}d}"

    def _within(self, word: str) -> int:
        try:
            return self.within(word)
        except KeyError:
            raise FormError(
                f"a counter starts again per token, or per {SUBFOLDER}; “{word}” is none"
            ) from None


@lru_cache(maxsize=64)
def _counting(forms: tuple[str, ...]) -> tuple[int, int, int, str]:
    """Width, first number, step of a counter, and what it starts again with. Raises FormError."""
    width, start, step, within = 1, 1, 1, ""
    for form in forms:
        if _WIDTH.fullmatch(form):
            width = len(form)
        elif match := _FROM.fullmatch(form):
            start = int(match[1])
        elif match := _STEP.fullmatch(form):
            step = int(match[1])
            if not step:
                raise FormError("a counter's step is at least 1")
        elif match := _PER.fullmatch(form):
            within = match[1].strip()
        else:
            raise FormError(
                _ambiguous(form, start=True)
                or f"“{form}” is not a form of a counter: it takes zeros, as 001, from10, step10, and per scene"
            )
    return width, start, step, within


class FrameTime(Struct, frozen=True):
    """A place or a length in time: frames, and the timecode that is written for it."""

    frames: int
    timecode: Timecode

    def shown(self) -> str:
        """The timecode with characters that file names take: 01-00-10-05."""
        return self.timecode.file_safe()

    def formed(self, *forms: str) -> str:
        """As "frames" or "timecode", or frames of so many digits. Raises FormError."""
        form = _only(forms)
        if form == "frames":
            return str(self.frames)
        if form == "timecode":
            return self.shown()
        if _WIDTH.fullmatch(form):
            return f"{self.frames:0{len(form)}d}"
        raise FormError(
            _ambiguous(form)
            or f"“{form}” is not a form of a time: it takes frames, timecode or zeros, as 00000"
        )


class ReadTime(FrameTime, frozen=True):
    """The same for text that is no file name."""

    def shown(self) -> str:
        """The timecode as it is read: 01:00:10:05."""
        return str(self.timecode)


class Date(Struct, frozen=True):
    """A date and time of day."""

    moment: datetime
    usual: str = "YYYY-MM-DD"

    def shown(self) -> str:
        """The date, or the time of day, in its usual form."""
        return self.formed(self.usual)

    def formed(self, *forms: str) -> str:
        """By a form of YYYY, YY, MM, DD, hh, mm and ss. Raises FormError."""
        form = _only(forms)
        if not _DATE_FORM.search(form):
            raise FormError(f"“{form}” is not a form of a date: put it together from YYYY MM DD hh mm ss")
        return _DATE_FORM.sub(lambda match: self.moment.strftime(_DATE_PARTS[match[0]]), form)


def _ambiguous(form: str, *, start: bool = False) -> str:
    """What to write instead of digits that are no width; empty for other forms. start: whether they could be one."""
    if not _DIGITS.fullmatch(form):
        return ""
    number = int(form)
    digits = number if len(form) <= 2 and 1 < number < 10 else len(form)
    width = f"{'0' * digits} gives at least {digits} digits"
    if start:
        return f"“{form}” may mean two things: {width}, from{number} begins with {number}"
    return f"“{form}” is not a width: {width}"


def _only(forms: tuple[str, ...]) -> str:
    """The one form that a value of this kind takes at a time. Raises FormError."""
    if len(forms) > 1:
        raise FormError(f"“{forms[1]}” cannot follow “{forms[0]}”")
    return forms[0]


Value = Text | Number | Counter | FrameTime | Date
Values = Mapping[str, Value]


class LayeredValues(ChainMap[str, Value]):
    """Values over others; the first that has a token counts."""

    def get(self, key: str, default: Any = None) -> Any:
        """The value of a token, or the default: without the steps of its parent's, as it is asked for so often."""
        for values in self.maps:
            if (found := values.get(key)) is not None:
                return found
        return default


def text_form(form: str, text: str) -> str | None:
    """The text in one of the forms that every value takes; None where the form is not one of them."""
    if form == "slug":
        return slug(text)
    if form == "upper":
        return text.upper()
    if form == "lower":
        return text.lower()
    if form == "unversioned":
        return _VERSION_END.sub("", text)
    if match := _MAX.fullmatch(form):
        return text[: int(match[1])].rstrip()
    return None


def ends_in_version(text: str) -> bool:
    """Whether a text ends as versions are written: "dip_v2", "dip v003"."""
    return bool(_VERSION_END.search(text))


@lru_cache(maxsize=256)
def _own_forms(forms: tuple[str, ...]) -> int:
    """How many of some forms stand before those of text."""
    return next(
        (place for place, form in enumerate(forms) if text_form(form, "") is not None),
        len(forms),
    )


def in_forms(value: Value, forms: tuple[str, ...]) -> str:
    """A value in all its forms, one after the other; its own kind's forms come first. Raises FormError.

    An empty value stays empty whatever the forms.
    """
    if not forms or (isinstance(value, Text) and not value.text):
        return value.shown()
    own = _own_forms(forms)
    text = value.formed(*forms[:own]) if own else value.shown()
    for form in forms[own:]:
        changed = text_form(form, text)
        if changed is None:
            raise FormError(f"“{form}” must stand before the forms of text ({', '.join(TEXT_FORMS)})")
        text = changed
    return text
