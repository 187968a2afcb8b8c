"""What is said to the standard error, and text from strangers made safe to show."""

import sys


def printable(text: str) -> str:
    """Text from strangers with everything left out that would command the terminal."""
    return "".join(sign if sign.isprintable() else "\N{REPLACEMENT CHARACTER}" for sign in text)


def print_error(message: str, hint: str = "") -> None:
    """One line to the standard error, and a second with what to do."""
    sys.stderr.write(f"boxkite: {printable(message)}\n" + (f"  {printable(hint)}\n" if hint else ""))
