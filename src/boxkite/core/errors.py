"""The one tree of exceptions. Each says what is wrong, where, and what to do about it."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from pathlib import Path

_OPENS, _CLOSES = "\ue010", "\ue011"
_SETTING = re.compile(f"{_OPENS}([a-z-]+){_CLOSES}")


def setting(name: str) -> str:
    """A setting of a job or a command as a message names it: every face writes it as its users do (see spoken)."""
    return f"{_OPENS}{name}{_CLOSES}"


def spoken(text: str, as_written: Callable[[str], str] = str) -> str:
    """A message with its settings as those who read it write them: as keys, or as options of the command line."""
    return _SETTING.sub(lambda found: as_written(found[1]), text) if _OPENS in text else text


class BoxkiteError(Exception):
    """Anything Box Kite refuses or cannot do, worded for the person who asked.

    message: what is wrong, one line. hint: what to do, one line or empty.
    path, line, key: where it is wrong, as far as that is known; line counts from 1. details: a line for each
    of several things that are wrong at once.
    """

    exit_status = 2

    def __init__(
        self,
        message: str,
        *,
        hint: str = "",
        path: Path | str | None = None,
        line: int | None = None,
        key: str | None = None,
        details: Sequence[str] = (),
    ) -> None:
        super().__init__(message)
        self.details = tuple(details)
        self.message = message
        self.hint = hint
        self.path = path
        self.line = line
        self.key = key

    @property
    def text(self) -> str:
        """Where and what, in one line without the hint; settings as errors.setting marks them."""
        where = [str(part) for part in (self.path, self.line) if part is not None]
        prefix = ":".join(where) + ": " if where else ""
        key = f"{self.key}: " if self.key else ""
        return f"{prefix}{key}{self.message}"

    def __str__(self) -> str:
        """Everything, for whoever uses the library: where, what, a line for each detail, what to do."""
        return spoken("\n".join([self.text, *self.details, *([self.hint] if self.hint else [])]))


class RequestError(BoxkiteError):
    """The request cannot be met as it stands; nothing was written."""


class RateError(RequestError):
    """Not a frame rate, or not one this kind of timecode is defined for."""


class TimecodeError(RequestError):
    """Not a timecode, or one that does not exist at its rate."""


class FootageError(RequestError):
    """A file that cannot be used as a source, with the reason."""


class InaccessibleError(FootageError):
    """A file that the system does not let be read."""


class ChangedError(FootageError):
    """A source is not what it was when the plan was made."""


class MarksError(RequestError):
    """A list of marks that cannot be read or placed."""


class PatternError(RequestError):
    """A name pattern that cannot be understood, or that makes no usable name.

    column counts characters of the pattern from 1; None where the whole pattern is meant.
    """

    def __init__(self, message: str, *, pattern: str = "", column: int | None = None, hint: str = "") -> None:
        super().__init__(message, hint=hint)
        self.pattern = pattern
        self.column = column


class NameTooLongError(PatternError):
    """A pattern that makes a name longer than file systems take."""


class PresetError(RequestError):
    """A preset that does not exist or does not hold together."""


class LookError(RequestError):
    """A look that cannot be read or worked out."""


class PlanError(RequestError):
    """A plan that would lose, overwrite or misname something."""


class NoKeyframeError(PlanError):
    """A shot cannot be copied, as no keyframe is before it."""


class RecordsError(RequestError):
    """The record of a batch that is not there or cannot be used."""


class RenderError(BoxkiteError):
    """One file could not be made; the others go on."""

    exit_status = 1


class SendError(BoxkiteError):
    """A destination could not be used, or files could not be sent there."""

    exit_status = 1


class DamagedError(RenderError):
    """The source could not be decoded where it was needed."""


class VerificationError(RenderError):
    """A finished file does not hold what it should."""
