"""Burn-ins of a plan: their patterns filled in for each row, with characters where something runs along."""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple

from boxkite.core.naming.pattern import Pattern, check_tokens, plain_text, read_text_pattern
from boxkite.core.naming.values import LayeredValues, Text, Value
from boxkite.core.notices.files import GLYPHS_MISSING
from boxkite.core.notices.notice import Notice
from boxkite.core.plan.rows import LiveToken, PlannedBurnIn
from boxkite.core.presets.fonts import missing_glyphs
from boxkite.core.presets.model import Preset
from boxkite.core.presets.overlays import BurnIn
from boxkite.core.shots.tokens import TOKENS

_LIVE_CHARACTERS = {chr(place): running for place, running in enumerate(LiveToken, start=1)}
_LIVE_VALUES: dict[str, Value] = {
    running.value: Text(character) for character, running in _LIVE_CHARACTERS.items()
}


class _Read(NamedTuple):
    """A burn-in of a preset, read."""

    wanted: BurnIn
    pattern: Pattern
    alike: PlannedBurnIn | None
    """Where it is the same for all shots."""
    missing: tuple[Notice, ...]
    """What cannot be shown of that."""
    are_known: bool
    """Whether all its tokens are those that every shot has."""


class BurnIns:
    """Fills in the burn-ins of presets; what is the same for all shots is filled in once."""

    def __init__(self) -> None:
        self._read: dict[int, list[_Read]] = {}
        self._of_outputs: dict[int, tuple[Mapping[str, Value], Mapping[str, Value]]] = {}
        """By output: its values, and those with what runs along."""

    def of(
        self, preset: Preset, name: str, of_output: Mapping[str, Value], of_shot: Mapping[str, Value]
    ) -> tuple[tuple[PlannedBurnIn, ...], tuple[Notice, ...]]:
        """The burn-ins of a row called `name`, and what of them cannot be shown.

        Raises PatternError for a token that is not known, PresetError for a font that cannot be read.
        """
        if id(preset) not in self._read:
            self._read[id(preset)] = [_read(one) for one in preset.burn_in]
        own: dict[str, Value] = {}
        planned: list[PlannedBurnIn] = []
        warnings: list[Notice] = []
        for one, pattern, alike, missing, are_known in self._read[id(preset)]:
            if alike:
                planned.append(alike)
                warnings += missing
                continue
            own = own or {"name": Text(name.rpartition("/")[2])}
            if id(of_output) not in self._of_outputs:
                self._of_outputs[id(of_output)] = of_output, {**of_output, **_LIVE_VALUES}
            values = LayeredValues(own, self._of_outputs[id(of_output)][1], of_shot)  # type: ignore[arg-type]
            if not are_known:
                check_tokens(pattern, {*TOKENS, *values})
            text = plain_text(pattern, values)
            planned.append(PlannedBurnIn(_parts(text), one))
            warnings += _missing(text, one)
        return tuple(planned), tuple(warnings)


def _read(one: BurnIn) -> _Read:
    pattern = read_text_pattern(one.text)
    are_known = all(choice.name in {"name", *_LIVE_VALUES, *TOKENS} for choice in pattern.choices)
    alike = _always_alike(one, pattern)
    fixed = "".join(part for part in alike.parts if not isinstance(part, LiveToken)) if alike else ""
    return _Read(one, pattern, alike, _missing(fixed, one), are_known)


def _missing(text: str, of: BurnIn) -> tuple[Notice, ...]:
    """A notice of the characters that a burn-in's font does not have, if any."""
    characters = "" if text.isascii() else missing_glyphs(text, of.font)
    return (GLYPHS_MISSING(characters=characters),) if characters else ()


def _always_alike(wanted: BurnIn, pattern: Pattern) -> PlannedBurnIn | None:
    """The burn-in where it is the same for all shots but for what runs along; else None."""
    if all(choice.name in _LIVE_VALUES for choice in pattern.choices):
        return PlannedBurnIn(_parts(plain_text(pattern, _LIVE_VALUES)), wanted)
    return None


def _parts(text: str) -> tuple[str | LiveToken, ...]:
    if text.isprintable() or not any(character in text for character in _LIVE_CHARACTERS):
        return (text,)
    parts: list[str | LiveToken] = []
    for character in text:
        if character in _LIVE_CHARACTERS:
            parts.append(_LIVE_CHARACTERS[character])
        elif parts and not isinstance(parts[-1], LiveToken):
            parts[-1] += character
        else:
            parts.append(character)
    return tuple(parts)
