"""Laying what one preset says over what another does."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

from boxkite.core.errors import PresetError
from boxkite.core.suggest import did_you_mean

BASED_ON = "based_on"
WITHOUT = "without"
_EXCLUSIVE = {
    "quality": ("bitrate_mbps", "passes"),
    "bitrate_mbps": ("quality",),
    "speed": ("encoder_speed",),
    "encoder_speed": ("speed",),
    "size_percent": ("fit", "fill", "exact"),
    "fit": ("size_percent", "fill", "exact"),
    "fill": ("size_percent", "fit", "exact", "bars"),
    "exact": ("size_percent", "fit", "fill", "bars"),
    "text": ("image",),
    "image": ("text",),
}
"""Of each of these keys one only: setting one drops the others where they were inherited."""
_WHATEVER_THE_CODEC = {"scan"}
"""Keys that stay when another codec takes the place of the inherited one."""


def merged(
    base: Mapping[str, Any], own: Mapping[str, Any], path: Path | None = None, above: str = ""
) -> dict[str, Any]:
    """The base's tables with the own ones laid over them, key by key; lists are replaced whole.

    path, above: where the own ones stand, for messages.
    `without` in the own ones names tables of the base that are left out. Raises PresetError for one that is
    not there.
    """
    own = dict(own)
    left_out = own.pop(WITHOUT, [])
    key_said = f"{above}.{WITHOUT}" if above else WITHOUT
    if not isinstance(left_out, list):
        raise PresetError('this is a list of keys, as ["audio"]', path=path, key=key_said)
    for key in left_out:
        if key not in base:
            raise PresetError(f"there is no “{key}” to leave out", path=path, key=key_said,
                              hint=did_you_mean(str(key), base) or f"there are: {', '.join(base)}")  # fmt: skip
    return _laid_over({key: value for key, value in base.items() if key not in left_out}, own)


def _laid_over(base: Mapping[str, Any], own: Mapping[str, Any]) -> dict[str, Any]:
    result = dict(base)
    if "codec" in own and "codec" in base and own["codec"] != base["codec"]:
        result = {key: value for key, value in base.items() if key in _WHATEVER_THE_CODEC}
    for key, value in own.items():
        for other in _EXCLUSIVE.get(key, ()):
            if other not in own:
                result.pop(other, None)
        below = result.get(key)
        both_tables = isinstance(value, Mapping) and isinstance(below, Mapping)
        result[key] = _laid_over(below, value) if both_tables else value  # type: ignore[arg-type]
    return result
