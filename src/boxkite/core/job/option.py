"""An option of a job: all that is known of it, declared beside the field of the job that holds its value."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import MISSING, field
from pathlib import Path
from typing import Any, Literal

from msgspec import Struct

from boxkite.core.errors import PlanError, setting
from boxkite.core.files.reading import path_from
from boxkite.core.suggest import did_you_mean

Kind = Literal["text", "texts", "number", "yes or no", "tables"]
"""How an option is written in a job file: a text, a list of texts, a whole number, true or false, tables."""

PLANNING = ("plan", "preview", "run")
"""The commands that take a whole job."""


class Option(Struct, frozen=True):
    """An option of a job, as it is written on the command line, in a job file and in the library."""

    key: str
    """In a job file; with two dashes before it, on the command line."""
    kind: Kind
    help: str
    """One line without a full stop; other options in it as errors.setting marks them."""
    group: str
    """The heading it stands under."""
    metavar: str = ""
    """Placeholder for its value in the help."""
    allowed: tuple[str, ...] = ()
    """The values it takes; empty where they are no fixed ones."""
    default: str = ""
    """The default as a phrase; empty where there is none."""
    commands: tuple[str, ...] = PLANNING
    """The commands that take it."""
    is_path: bool = False
    """Whether its value is a path, which a job file counts from its own folder."""
    with_saved_plan: bool = False
    """Whether it may be given beside a saved plan, whose table says all the others."""
    read: Callable[[Any], Any] | None = None
    """From what is written to the value of the job; raises a RequestError. None: as it is."""

    @property
    def is_repeatable(self) -> bool:
        """Whether it may be given several times."""
        return self.kind == "texts"

    @property
    def description(self) -> str:
        """Its help with its default and whether it is repeatable."""
        notes = [f"default: {self.default}"] if self.default else []
        notes += ["repeatable"] if self.is_repeatable else []
        return f"{self.help} ({'; '.join(notes)})" if notes else self.help

    def value_of(self, written: Any) -> Any:
        """The job's value for what is written. Raises RequestError."""
        if self.allowed and self.kind == "text":
            check_allowed(self.key, written, self.allowed)
        return self.read(written) if self.read else written

    def check_kind(self, written: Any, path: Path | str) -> Any:
        """A value of a job file in the type this option takes; a number is as good as a text that says it.

        path: where it stands, for the message. Raises PlanError with the key.
        """
        if self.kind == "tables":
            return written
        if self.kind == "texts":
            listed = written if isinstance(written, list) else [written]
            if not all(isinstance(one, str) for one in listed):
                raise PlanError('give a text or a list of texts, as ["one", "two"]', path=path, key=self.key)
            return tuple(listed)
        is_number = isinstance(written, int | float) and not isinstance(written, bool)
        if self.kind == "yes or no" and not isinstance(written, bool):
            raise PlanError("give true or false, without quotes", path=path, key=self.key)
        if self.kind == "number" and not (is_number and isinstance(written, int)):
            raise PlanError("give a whole number, without quotes", path=path, key=self.key)
        if self.kind == "text" and is_number:
            return str(written)
        if self.kind == "text" and not isinstance(written, str):
            raise PlanError("give a text, in quotes", path=path, key=self.key)
        return written


def option(
    key: str,
    kind: Kind,
    help_text: str,
    *,
    group: str,
    value: Any = None,
    factory: Callable[[], Any] | None = None,
    is_required: bool = False,
    **rest: Any,
) -> Any:
    """A field of the job with its option. value, factory: of the field where nothing is written; rest: see Option."""
    metadata = {"option": Option(key, kind, help_text, group, **rest)}
    if is_required:
        return field(metadata=metadata)
    if factory:
        return field(default_factory=factory, metadata=metadata)
    return field(default=value, metadata=metadata)


def options_of(job: type) -> dict[str, tuple[str, Option]]:
    """The options that a class declares, by key, each with the name of its field, in their order."""
    declared: Mapping[str, Any] = job.__dataclass_fields__  # type: ignore[attr-defined]
    found = {name: one.metadata.get("option") for name, one in declared.items()}
    return {option.key: (name, option) for name, option in found.items() if option}


def default_of(job: type, name: str) -> Any:
    """The value of a field where nothing is written; an empty one where it must be written."""
    one = job.__dataclass_fields__[name]  # type: ignore[attr-defined]
    if one.default_factory is not MISSING:
        return one.default_factory()
    return () if one.default is MISSING else one.default


def check_allowed(key: str, written: str, allowed: Sequence[str]) -> None:
    """Raises PlanError where a value is not among those an option takes, with those that it does."""
    if written not in allowed:
        raise PlanError(
            f"{setting(key)}: there is no “{written}”, choose from {', '.join(allowed)}",
            hint=did_you_mean(written, allowed),
        )


def read_path(text: str) -> Path | None:
    """The path a text means; None for an empty text."""
    return path_from(text) if text else None


def read_paths(texts: Sequence[str]) -> tuple[Path, ...]:
    """The paths that texts mean."""
    return tuple(path_from(text) for text in texts)


def read_listed(texts: Sequence[str]) -> tuple[str, ...]:
    """Each of the values once; commas separate several."""
    parts = (part.strip() for text in texts for part in text.split(","))
    return tuple(dict.fromkeys(part for part in parts if part))
