"""Values in the metadata of OpenTimelineIO's objects, as programs keep them: names, keywords, colour decisions."""

from __future__ import annotations

import math
from collections.abc import Iterator
from typing import Any

from boxkite.core.edit.timeline import ColourDecision

_MOST_LEAVES = 2000
_KEYS_OF = {
    "reel": ("reel", "reel_name", "reelname", "tape", "tapename", "tape name"),
    "scene": ("scene",),
    "shot": ("shot",),
    "take": ("take", "shottake"),
    "camera": ("camera",),
    "note": ("note", "comment", "comments", "lognote", "mastercomment1"),
    "keywords": ("keywords", "keyword"),
    "circled": ("circled", "good", "good take"),
    "enabled": ("enabled",),
    "event": ("event",),
}
_NAME_OF = {key: name for name, keys in _KEYS_OF.items() for key in keys}
_COUNTINGS = {
    "df": True,
    "drop": True,
    "dropframe": True,
    "ndf": False,
    "non-drop": False,
    "nondropframe": False,
}
_COUNTING_KEYS = frozenset({"displayformat", "tcformat", "timecodeformat"})


def states_drop(metadata: Any) -> bool | None:
    """Whether a timeline counts drop-frame, as the file it was read from says; None where it does not.

    Exchange XML says DF or NDF in displayformat or tcFormat.
    """
    for key, value in leaves(metadata or {}):
        name = key.casefold().lstrip("@")
        if name in _COUNTING_KEYS and isinstance(value, str):
            return _COUNTINGS.get(value.strip().casefold().replace(" ", ""))
    return None


def leaves(metadata: Any) -> Iterator[tuple[str, Any]]:
    """(key, value) of everything in nested metadata, outermost first, up to a bound."""
    waiting, seen = [metadata], 0
    while waiting and seen < _MOST_LEAVES:
        value = waiting.pop(0)
        if hasattr(value, "items"):
            for key, inner in value.items():
                seen += 1
                yield str(key), inner
                waiting.append(inner)


def values_of(item: Any) -> dict[str, str]:
    """The metadata of a clip and of its media, by our names."""
    reference = getattr(item, "media_reference", None)
    found: dict[str, str] = {}
    for metadata in (item.metadata, reference.metadata if reference else None):
        for key, value in leaves(metadata or {}):
            name = _NAME_OF.get(key.casefold())
            if name is None or name in found:
                continue
            if isinstance(value, (str, int, float, bool)):
                text = str(value).strip()
            elif hasattr(value, "__iter__") and not hasattr(value, "items"):
                text = ", ".join(str(one) for one in value if isinstance(one, str))
            else:
                continue
            if text:
                found[name] = text
    return found


def colour_decision_of(item: Any) -> tuple[ColourDecision | None, bool]:
    """ASC CDL values kept as {"cdl": {"asc_sop": {slope, offset, power}, "asc_sat": …}}, and whether they are right.

    One that is not right is not applied, not even in part.
    """
    decision = next(
        (value for key, value in leaves(item.metadata) if key == "cdl" and hasattr(value, "items")), None
    )
    if decision is None:
        return None, True
    known = ColourDecision()
    try:
        sop = decision.get("asc_sop") or {}
        parts = {
            key: tuple(float(part) for part in sop[key]) if key in sop else getattr(known, key)
            for key in ("slope", "offset", "power")
        }
        saturation = float(decision.get("asc_sat", 1.0))
    except (TypeError, ValueError, KeyError):
        return None, False
    numbers = [*(number for part in parts.values() for number in part), saturation]
    if any(len(part) != 3 for part in parts.values()) or not all(map(math.isfinite, numbers)):
        return None, False
    return ColourDecision(parts["slope"], parts["offset"], parts["power"], saturation), True  # type: ignore[arg-type]
