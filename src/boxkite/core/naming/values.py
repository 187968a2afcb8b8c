"""What a token can stand for, and the forms each kind of value takes."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime

from boxkite.core.naming.filename import slug
from boxkite.core.timebase import Timecode

_DATE_PARTS = {"YYYY": "%Y", "YY": "%y", "MM": "%m", "DD": "%d", "hh": "%H", "mm": "%M", "ss": "%S"}
_DATE_FORM = re.compile("|".join(_DATE_PARTS))
_DIGITS = re.compile(r"\d{1,9}", re.ASCII)
_MAX = re.compile(r"max(\d{1,4})", re.ASCII)
TEXT_FORMS = ("slug", "upper", "lower", "max20")


class FormError(ValueError):
    """A form that this value does not take; says which it does."""


@dataclass(frozen=True)
class Text:
    """Plain text, possibly empty."""

    text: str

    def shown(self) -> str:
        """The value when no form is asked for."""
        return self.text

    def formed(self, form: str) -> str:
        """The value in a form of its own kind. Raises FormError."""
        raise FormError(f"“{form}” is not a form of a text")


@dataclass(frozen=True)
class Number:
    """A whole number; digits give its width. A counter also starts where its digits say."""

    number: int
    counts: bool = False

    def shown(self) -> str:
        """The number without padding, a counter from 1."""
        return str(self.number + 1 if self.counts else self.number)

    def formed(self, form: str) -> str:
        """The number with at least as many digits as the form. Raises FormError."""
        if not _DIGITS.fullmatch(form):
            raise FormError(f"“{form}” is not a form of a number: give digits, as 001")
        number = self.number + int(form) if self.counts else self.number
        return f"{number:0{len(form)}d}"


@dataclass(frozen=True)
class Moment:
    """A place or a length in time: frames, and the timecode that is written for it."""

    frames: int
    timecode: Timecode

    def shown(self) -> str:
        """The timecode with signs that file names take: 01-00-10-05."""
        return self.timecode.file_safe()

    def formed(self, form: str) -> str:
        """As "frames" or "timecode", or frames of so many digits. Raises FormError."""
        if form == "frames":
            return str(self.frames)
        if form == "timecode":
            return self.shown()
        if _DIGITS.fullmatch(form):
            return f"{self.frames:0{len(form)}d}"
        raise FormError(f"“{form}” is not a form of a time: it takes frames, timecode or digits, as 00000")


@dataclass(frozen=True)
class Date:
    """A date and time of day."""

    moment: datetime
    usual: str = "YYYY-MM-DD"

    def shown(self) -> str:
        """The date, or the time of day, in its usual form."""
        return self.formed(self.usual)

    def formed(self, form: str) -> str:
        """By a form of YYYY, YY, MM, DD, hh, mm and ss. Raises FormError."""
        if not _DATE_FORM.search(form):
            raise FormError(f"“{form}” is not a form of a date: put it together from YYYY MM DD hh mm ss")
        return _DATE_FORM.sub(lambda match: self.moment.strftime(_DATE_PARTS[match[0]]), form)


Value = Text | Number | Moment | Date
Values = Mapping[str, Value]


def text_form(form: str, text: str) -> str | None:
    """The text in one of the forms that every value takes; None where the form is not one of them."""
    if form == "slug":
        return slug(text)
    if form == "upper":
        return text.upper()
    if form == "lower":
        return text.lower()
    if match := _MAX.fullmatch(form):
        return text[: int(match[1])].rstrip()
    return None


def in_forms(value: Value, forms: tuple[str, ...]) -> str:
    """A value in all its forms, one after the other; its own kind's forms come first. Raises FormError.

    An empty value stays empty whatever the forms.
    """
    text: str | None = None
    for form in forms:
        if isinstance(value, Text) and not value.text:
            return ""
        current = value.shown() if text is None else text
        changed = text_form(form, current)
        if changed is None:
            if text is not None:
                raise FormError(f"“{form}” must stand before the forms of text ({', '.join(TEXT_FORMS)})")
            changed = value.formed(form)
        text = changed
    return value.shown() if text is None else text
