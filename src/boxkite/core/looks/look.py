"""A look as data: the steps that are done to a frame's colours, in their order."""

from __future__ import annotations

from pathlib import Path

from msgspec import Struct

from boxkite.core.edit.timeline import ColourDecision


class DecisionStep(Struct, frozen=True):
    """A colour decision (ASC CDL)."""

    decision: ColourDecision
    origin: str
    """Where it comes from, as "edit" or the name of a file."""

    def __str__(self) -> str:
        return f"CDL of {self.origin}"


class FileStep(Struct, frozen=True):
    """A look file, of any kind that OpenColorIO reads."""

    path: Path

    def __str__(self) -> str:
        return self.path.name


class SpacesStep(Struct, frozen=True):
    """From one colour space to another."""

    from_space: str
    to_space: str
    config: Path | None = None
    """The OpenColorIO file that knows them, None for the built-in one."""

    def __str__(self) -> str:
        return f"{self.from_space} to {self.to_space}"


Look = tuple[DecisionStep | FileStep | SpacesStep, ...]
"""The steps in the order in which they are applied; empty where the picture keeps its colours."""


def look_words(look: Look) -> str:
    """A look as people read it."""
    return ", ".join(map(str, look))
