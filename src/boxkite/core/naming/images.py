"""Patterns that say where the number of an image stands: folder and base name apart."""

from __future__ import annotations

import re
from typing import NamedTuple

from boxkite.core.errors import PatternError
from boxkite.core.naming.pattern import Pattern

FRAME = "frame"
FRAME_MARK = "\ue001"
"""Stands for the number of an image in its name."""
_WIDTH = re.compile(r"@\(frame:(0+1?)\)", re.IGNORECASE)
_JOINT = re.compile(rf"[-._ ]*{FRAME_MARK}")


class ImageName(NamedTuple):
    """Where images go: their folder, and the name of each with FRAME_MARK for its number; empty for the usual one."""

    folder: str
    image: str


def has_frame(pattern: Pattern) -> bool:
    """Whether a pattern says where the number of an image stands."""
    return any(choice.name.casefold() == FRAME for choice in pattern.choices)


def frame_digits(pattern: Pattern) -> int:
    """The digits that a pattern asks for, as four in @(frame:0000); 0 where it does not say."""
    found = _WIDTH.search(pattern.text)
    return len(found[1]) if found else 0


def written_image(image: str, digits: int) -> str:
    """The name of an image as a table has it: # for each digit of its number."""
    return image.replace(FRAME_MARK, "#" * max(1, digits))


def read_image(text: str) -> tuple[str, int]:
    """(name with FRAME_MARK, digits) of what written_image wrote; ("", 0) for a name without #."""
    found = re.search("#+", text)
    return (text[: found.start()] + FRAME_MARK + text[found.end() :], len(found[0])) if found else ("", 0)


def split_name(name: str, pattern: Pattern, *, is_sequence: bool) -> ImageName:
    """A name with FRAME_MARK in it as folder and image; of a single file it goes, with what joins it to the name.

    Raises PatternError where a folder has the number.
    """
    folder, _, last = name.rpartition("/")
    if FRAME_MARK in folder:
        raise PatternError("a folder cannot have the number of an image", pattern=pattern.text)
    if FRAME_MARK not in last:
        return ImageName(name, "")
    if not is_sequence:
        return ImageName(_JOINT.sub("", name), "")
    return ImageName(folder or _JOINT.sub("", last), last)
