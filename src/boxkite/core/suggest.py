"""Finding the word that was probably meant."""

from __future__ import annotations

from collections.abc import Iterable
from difflib import get_close_matches


def nearest(word: str, known: Iterable[str], most: int = 3) -> list[str]:
    """The known words most like `word`, best first, case ignored; empty when nothing is alike."""
    by_folded = {name.casefold(): name for name in known}
    found = get_close_matches(word.casefold(), list(by_folded), n=most, cutoff=0.55)
    starts = [name for name in by_folded if len(word) > 2 and name.startswith(word.casefold())]
    return [by_folded[name] for name in dict.fromkeys([*found, *starts])][:most]


def did_you_mean(word: str, known: Iterable[str]) -> str:
    """A hint that names the nearest known words, or an empty string."""
    names = nearest(word, known)
    return f"did you mean {' or '.join(names)}?" if names else ""
