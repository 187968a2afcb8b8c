"""Words for the colours of markers, as lists write them before a name."""

from __future__ import annotations

import re

PLAIN_COLOURS = frozenset(
    [
        "RED",
        "GREEN",
        "BLUE",
        "CYAN",
        "MAGENTA",
        "YELLOW",
        "BLACK",
        "WHITE",
        "ORANGE",
        "PURPLE",
        "PINK",
        "GREY",
        "GRAY",
        "BROWN",
        "VIOLET",
    ]
)
"""Taken for a colour in upper or lower case."""
COLOURS = PLAIN_COLOURS | frozenset(
    [
        "TEAL",
        "NAVY",
        "LIME",
        "OLIVE",
        "MAROON",
        "AQUA",
        "FUCHSIA",
        "LAVENDER",
        "ROSE",
        "SKY",
        "MINT",
        "LEMON",
        "SAND",
        "COCOA",
        "CREAM",
        "TAN",
        "BEIGE",
        "INDIGO",
        "GOLD",
        "SILVER",
        "TURQUOISE",
        "CERULEAN",
        "IRIS",
        "CARIBBEAN",
        "FOREST",
        "MANGO",
        "PEACH",
        "CORAL",
        "AMBER",
        "CHOCOLATE",
        "LILAC",
        "CRIMSON",
    ]
)
"""Taken for a colour in capitals, and where a column holds nothing else."""
_SET_APART = re.compile(r"([A-Za-z]{3,12})(?:\t\s*| {2,})(.*)", re.ASCII)


def is_colour(word: str = "") -> bool:
    """Whether a word before a marker's name is taken for its colour."""
    return word in COLOURS or word.upper() in PLAIN_COLOURS


def colour_and_name(text: str = "") -> tuple[str, str]:
    """(colour, name) of what follows a marker's timecode; a first word that is no colour belongs to the name.

    A first word in capitals that a tab or several spaces set apart is a colour, whichever it is.
    """
    apart = _SET_APART.fullmatch(text.strip())
    if apart and (apart[1].isupper() or apart[1].upper() in COLOURS):
        return apart[1].lower(), apart[2].strip()
    first, _, name = text.strip().replace("\t", " ").partition(" ")
    return (first.lower(), name.strip()) if is_colour(first) else ("", text.strip())
