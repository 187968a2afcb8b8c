"""Messages on standard error, and untrusted text made safe to print."""

from __future__ import annotations

import sys
from collections.abc import Iterable

SETTING_OPENS = "\ue010"
"""As errors.setting writes it."""


def with_options(text: str) -> str:
    """A message of the core, its settings as the options of the command line."""
    if SETTING_OPENS not in text:
        return text
    from boxkite.core.errors import spoken  # few messages name a setting, and help is to come in a blink

    return spoken(text, lambda name: f"--{name}")


def printable(text: str) -> str:
    """Text from strangers with everything left out that would command the terminal; settings as options."""
    text = with_options(text)
    if text.isprintable():
        return text
    return "".join(
        character if character.isprintable() else "\N{REPLACEMENT CHARACTER}" for character in text
    )


def print_error(message: str, hint: str = "", details: Iterable[str] = ()) -> None:
    """One line to the standard error, one for each of several causes, and one with what to do."""
    lines = [f"boxkite: {printable(message)}", *(f"  {printable(line)}" for line in (*details, hint) if line)]
    sys.stderr.write("\n".join(lines) + "\n")
