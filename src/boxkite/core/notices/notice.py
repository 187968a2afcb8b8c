"""A notice is a kind with its values; its sentence is made here, for the terminal, JSON and the log alike."""

from __future__ import annotations

import string
from collections.abc import Mapping, Sequence
from importlib import import_module
from types import ModuleType
from typing import Any

from msgspec import Struct, field
from msgspec.structs import replace

from boxkite.core.errors import spoken

_MOST_LISTED = 8
_DECLARED: dict[str, Kind] = {}
_MODULES = ("batches", "edit", "files", "footage", "handover", "marks", "projects", "shots")
_LOADED: list[ModuleType] = []


class Notice(Struct, frozen=True):
    """Something to be known."""

    kind: str
    """The name of its kind."""
    values: Mapping[str, Any] = field(default_factory=dict)
    """Its values: texts, numbers, lists of texts."""
    about: str = ""
    """The file, timeline or shot it belongs to, where that is not clear from where it stands."""

    def __hash__(self) -> int:
        return hash((self.kind, self.about, str(self.values)))

    def __str__(self) -> str:
        """The sentence, options by their keys."""
        return spoken(self.marked)

    @property
    def marked(self) -> str:
        """The sentence, options as errors.setting marks them, for who writes them otherwise."""
        kind = kinds().get(self.kind)
        if kind is None or not kind.fields <= self.values.keys():  # of a record that another version wrote
            sentence = f"{self.kind} {dict(self.values)}"
        else:
            sentence = kind.with_values(self.values)
        return f"{self.about}: {sentence}" if self.about else sentence

    def is_a(self, *wanted: Kind) -> bool:
        """Whether it is of one of some kinds."""
        return any(self.kind == kind.name for kind in wanted)

    def of(self, about: str) -> Notice:
        """The same, about something that contains what it was about so far."""
        return replace(self, about=f"{about}: {self.about}" if self.about else about)


class Kind:
    """A kind of notice. Called with its values it makes one."""

    def __init__(self, name: str, sentence: str) -> None:
        """name: as JSON says it. sentence: with the values in braces, as str.format writes them; {frames:frame} counts
        with the noun, {names:list} lists.
        """
        assert name not in _DECLARED, name
        self.name = name
        self.sentence = sentence
        self._parts = [
            (literal, field, spec) for literal, field, spec, _ in string.Formatter().parse(sentence)
        ]
        self.fields = frozenset(field for _, field, _ in self._parts if field)
        """The names of its values."""
        _DECLARED[name] = self

    def __call__(self, **values: Any) -> Notice:
        """A notice of this kind."""
        return Notice(self.name, values)

    def with_values(self, values: Mapping[str, Any]) -> str:
        """The sentence with its values."""
        return "".join(
            literal + _formatted(values[field], spec or "") if field else literal
            for literal, field, spec in self._parts
        )


def _formatted(value: Any, spec: str) -> str:
    if spec == "list":
        return listed(value)
    is_noun = spec.replace(" ", "").isalpha() and spec not in ("d", "f", "g")
    return counted(value, spec) if is_noun else format(value, spec)


def counted(number: int, noun: str) -> str:
    """A number with its noun: 1 file, 2 files."""
    return f"{number} {noun}{'' if number == 1 else 's'}"


def listed(names: Sequence[object], most: int = _MOST_LISTED) -> str:
    """Names with commas; of very many only the first, with the number of the others."""
    shown = ", ".join(map(str, names[:most]))
    return shown + (f" and {len(names) - most} more" if len(names) > most else "")


def notice_from_json(plain: Any) -> Notice:
    """A notice of what notice_as_json made of it; of a text alone, as earlier records hold it, one of that text."""
    if isinstance(plain, dict) and isinstance(plain.get("values"), dict):
        return Notice(str(plain.get("kind")), plain["values"], str(plain.get("about", "")))
    return RECORDED(text=str(plain))


def kinds() -> Mapping[str, Kind]:
    """Every kind that is declared, by name."""
    if not _LOADED:
        _LOADED.extend(import_module(f"boxkite.core.notices.{name}") for name in _MODULES)
    return _DECLARED


def notice_as_json(notice: Notice) -> dict[str, Any]:
    """A notice as plain values: its kind, its values and its sentence, options as keys."""
    about = {"about": notice.about} if notice.about else {}
    values = {key: spoken(one) if isinstance(one, str) else one for key, one in notice.values.items()}
    return {"kind": notice.kind, **about, "values": values, "text": str(notice)}


RECORDED = Kind("recorded", "{text}")
"""A notice that an earlier version recorded as text."""
