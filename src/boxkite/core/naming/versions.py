"""The version of a plan: one above the highest that lies in its folders, or the one that was asked for."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from pathlib import Path

from boxkite.core.errors import PatternError
from boxkite.core.naming.pattern import FolderBreak, LiteralText, OptionalPart, Part, Pattern, TokenPart
from boxkite.core.naming.values import Text

VERSION = "version"
MARK = "\ue000"
"""Stands for the number while names are only tried."""


class Open(Text, frozen=True):
    """A text that stays as it is whatever form is asked for."""

    def formed(self, *forms: str) -> str:
        """The text itself."""
        return self.text


def version_choices(pattern: Pattern) -> int:
    """How often a pattern names the version: in its folder and its name, perhaps."""
    return sum(choice.name.casefold() == VERSION for choice in pattern.choices)


def next_version(pattern: Pattern, tried: Iterable[tuple[Path, str]]) -> int:
    """One above the highest version found in any of the folders a plan writes to, at its first place in the pattern.

    tried: each output folder with a name below it, in which MARK stands for the version. Files and folders
    count whose name holds a number where the pattern has it, between the same characters.
    """
    number = _number_between(pattern)
    folders = {folder / above for folder, name in tried if (above := _above_version(name)) is not None}
    found = [
        int(match[1])
        for folder in folders
        if folder.is_dir()
        for entry in folder.iterdir()
        if not entry.name.startswith(".")
        for match in number.finditer(entry.stem if entry.is_file() else entry.name)
    ]
    return max(found, default=0) + 1


def _above_version(name: str) -> str | None:
    """The folders above the part of a name that holds the version; None where it is not in it."""
    above, found, _ = name.partition(MARK)
    return above.rpartition("/")[0] if found else None


def _number_between(pattern: Pattern) -> re.Pattern[str]:
    """The expression that finds the version in a file's name: the number with the pattern's text around it."""
    around = _around(pattern.parts)
    assert around
    before, after = around
    if isinstance(before, TokenPart):
        column = next(choice.column for choice in pattern.choices if choice.name.casefold() == VERSION)
        raise PatternError(
            "put a character before the version, or it cannot be separated from the text before it",
            pattern=pattern.text,
            column=column,
            hint="as _v@version",
        )
    begins = re.escape(before.text) if isinstance(before, LiteralText) else "^"
    if isinstance(before, LiteralText) and _begins_name(pattern.parts, before):
        begins = f"^{begins}"
    ends = re.escape(after.text) if isinstance(after, LiteralText) else r"(?!\d)" if after else "$"
    return re.compile(rf"{begins}(\d{{1,9}}){ends}", re.IGNORECASE)


def _around(parts: Sequence[Part]) -> tuple[Part | None, Part | None] | None:
    """The parts before and after the version; None where a name begins or ends there."""
    for index, part in enumerate(parts):
        if isinstance(part, OptionalPart) and (found := _around(part.parts)):
            return found
        if isinstance(part, TokenPart) and any(choice.name.casefold() == VERSION for choice in part.choices):
            before = parts[index - 1] if index else None
            after = parts[index + 1] if index + 1 < len(parts) else None
            return (
                None if isinstance(before, FolderBreak) else before,
                None if isinstance(after, FolderBreak) else after,
            )
    return None


def _begins_name(parts: Sequence[Part], own: LiteralText) -> bool:
    """Whether a name begins with this text of the pattern's own."""
    place = next((index for index, part in enumerate(parts) if part is own), None)
    return place is not None and (place == 0 or isinstance(parts[place - 1], FolderBreak))
