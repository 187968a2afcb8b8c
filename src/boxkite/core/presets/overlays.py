"""A preset's burn-ins, watermarks and colours."""

from __future__ import annotations

import re
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated, Any, ClassVar, Literal

from boxkite.core.presets.bounds import Interval, Len
from boxkite.core.presets.coding import STRICT

Position = Literal[
    "top left", "top", "top right", "left", "centre", "right", "bottom left", "bottom", "bottom right"
]
Nudge = Annotated[float, Interval(ge=-100, le=100)]
_COLOUR = re.compile(r"#[0-9a-fA-F]{6}", re.ASCII)


@dataclass(frozen=True, kw_only=True)
class BurnIn:
    """Text burnt into the picture."""

    __pydantic_config__: ClassVar[dict[str, Any]] = STRICT

    text: Annotated[str, Len(1, 500)]
    """A pattern; @timecode, @frame, @recordtimecode and @shotframe run along."""
    position: Position = "bottom left"
    nudge: tuple[Nudge, Nudge] = (0.0, 0.0)
    """Moved by so many percent of the picture's width and height, as (2, -1.5)."""
    height_percent: Annotated[float, Interval(ge=1, le=30)] = 4.5
    """Of the picture's height."""
    colour: str = "#ffffff"
    opacity: Annotated[float, Interval(gt=0, le=1)] = 0.9
    box_colour: str = "#000000"
    """"#rrggbb"."""
    box_opacity: Annotated[float, Interval(ge=0, le=1)] = 0.55
    font: Path | None = None
    """A font file, instead of the one that comes along."""

    def __post_init__(self) -> None:
        _check_colour("colour", self.colour)
        _check_colour("box_colour", self.box_colour)


@dataclass(frozen=True, kw_only=True)
class Watermark:
    """A text or an image with transparency laid over the picture."""

    __pydantic_config__: ClassVar[dict[str, Any]] = STRICT

    text: Annotated[str, Len(1, 100)] | None = None
    image: Path | None = None
    position: Position = "right"
    nudge: tuple[Nudge, Nudge] = (0.0, 0.0)
    """As of burn-ins."""
    colour: str = "#ffffff"
    """Of a text."""
    width_percent: Annotated[float, Interval(ge=1, le=100)] = 18
    """Of the picture's width."""
    opacity: Annotated[float, Interval(gt=0, le=1)] = 0.5

    def __post_init__(self) -> None:
        if (self.text is None) == (self.image is None):
            raise ValueError("give either text or image")
        _check_colour("colour", self.colour)


def _check_colour(key: str, colour: str) -> None:
    if not _COLOUR.fullmatch(colour):
        raise ValueError(f'{key}: a colour is written "#rrggbb", as "#ffcc00", not “{colour}”')


@dataclass(frozen=True, kw_only=True)
class LookSettings:
    """How the picture's colours are changed, in this order."""

    __pydantic_config__: ClassVar[dict[str, Any]] = STRICT

    cdl: bool = True
    """The shot's own colour decision, from its edit, its table of metadata or a file beside it."""
    sidecar: bool = True
    """A look file beside the footage, of its name."""
    file: Path | None = None
    """A look file for all shots."""
    from_space: str | None = None
    to_space: str | None = None
    """From one colour space of `config` (an OpenColorIO file, else the one that comes with the library) to another, at
    last."""
    config: Path | None = None

    def __post_init__(self) -> None:
        if (self.from_space is None) != (self.to_space is None):
            raise ValueError("to_space: from_space and to_space go together")
        if self.config and not self.from_space:
            raise ValueError("config: it goes with from_space and to_space")


NO_LOOK = LookSettings(cdl=False, sidecar=False)
"""The picture keeps its colours, whatever lies beside the footage."""
