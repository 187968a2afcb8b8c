"""Why a setting is refused, in our own words: what it takes, in which direction it goes, and an example."""

from __future__ import annotations

import types
from collections.abc import Mapping, Sequence
from dataclasses import fields
from typing import Annotated, Any, Literal, Union, get_args, get_origin, get_type_hints

from boxkite.core.errors import setting
from boxkite.core.presets.bounds import Interval, Len
from boxkite.core.presets.codecs import quality_scale
from boxkite.core.suggest import did_you_mean

_DIRECTIONS = {
    "size_percent": "100 keeps the size, 50 halves both sides",
    "opacity": "0 is invisible, 1 is solid",
    "box_opacity": "0 is no box, 1 is a solid one",
    "height_percent": "of the picture's height",
    "width_percent": "of the picture's width",
    "nudge": "percent of the width and of the height, to the right and downwards",
    "bitrate_mbps": "megabits a second, more is better",
    "bitrate_kbps": "kilobits a second, more is better",
    "keyframe_seconds": "seconds from keyframe to keyframe at most",
    "expected_bits_per_pixel": "only for the sizes a plan shows",
    "loudness_lufs": "EBU R 128; -23 for broadcast, -14 to -16 for the web, higher is louder",
    "most_peak_dbtp": "decibels below full scale",
    "first_number": "of the first image",
    "digits": "of the numbers of images",
}
_EXAMPLES = {
    "size_percent": 50, "opacity": 0.5, "box_opacity": 0.5, "height_percent": 4.5, "width_percent": 18,
    "nudge": [2, -1.5], "bitrate_mbps": 8, "bitrate_kbps": 192, "keyframe_seconds": 2, "expected_bits_per_pixel": 0.1,
    "loudness_lufs": -23, "most_peak_dbtp": -1, "first_number": 1001, "digits": 4, "quality": 20, "passes": 2,
}  # fmt: skip


def explained(model: type, key: str, value: Any, table: Mapping[str, Any]) -> tuple[str, str]:
    """(message, hint) for a value that a key of a settings class does not take.

    table: the other settings beside it, as far as the explanation depends on them.
    """
    hints = get_type_hints(model, include_extras=True)
    wanted = next((hints[one.name] for one in fields(model) if one.name == key), str)
    taken, interval, length = _taken(wanted)
    codec = str(table.get("codec", ""))
    if key == "quality" and (scale := quality_scale(codec)):
        return f"a number from {scale}, not {_quoted(value)}", f"as quality = {_middle(codec)}"
    direction = f" ({_DIRECTIONS[key]})" if key in _DIRECTIONS else ""
    example = _EXAMPLES.get(key)
    hint = f"as {key} = {_as_toml(example)}" if example is not None else ""
    if isinstance(taken, tuple):
        words = [str(word) for word in taken]
        return f"one of {', '.join(words)}, not {_quoted(value)}", did_you_mean(str(value), words)
    if taken is bool:
        return f"true or false, not {_quoted(value)}", f"as {key} = true"
    if taken in (int, float):
        kind = "a whole number" if taken is int else "a number"
        return f"{kind}{_range(interval)}{direction}, not {_quoted(value)}", hint
    if taken is tuple:
        return f"two numbers from -100 to 100{direction}, not {_quoted(value)}", hint
    if length is not None:
        return f"text of {length.min_length} to {length.max_length} characters, in double quotes", hint
    if taken is dict and isinstance(value, Mapping):
        several = f"there may be several of these: each is a table [[{key}]] in the preset's file"
        return several, f"presets new NAME {setting('based-on')} PRESET writes one to add them to"
    if taken is dict:
        return f"this is a table, [{key}], not {_quoted(value)}", ""
    return f"text in double quotes, not {_quoted(value)}", hint


def example_of(key: str, video: Any) -> str:
    """How a key is given, as a hint; empty where it needs none."""
    if key == "quality" and isinstance(video, Mapping) and quality_scale(str(video.get("codec", ""))):
        return f"as quality = {_middle(str(video.get('codec')))}"
    return f"as {key} = {_as_toml(_EXAMPLES[key])}" if key in _EXAMPLES else ""


def _taken(wanted: Any) -> tuple[Any, Interval | None, Len | None]:
    """(type, or the words of a choice; range; length) of an annotation, None left aside."""
    interval: Interval | None = None
    length: Len | None = None
    while True:
        if get_origin(wanted) is Annotated:
            wanted, *extra = get_args(wanted)
            interval = next((one for one in extra if isinstance(one, Interval)), interval)
            length = next((one for one in extra if isinstance(one, Len)), length)
        elif get_origin(wanted) in (Union, types.UnionType):
            wanted = next(one for one in get_args(wanted) if one is not type(None))
        elif get_origin(wanted) is Literal:
            return get_args(wanted), interval, length
        else:
            break
    if get_origin(wanted) is tuple:
        inner = get_args(wanted)[0]
        return dict if hasattr(inner, "__dataclass_fields__") else tuple, interval, length
    if isinstance(wanted, type) and hasattr(wanted, "__dataclass_fields__"):
        return dict, interval, length
    return wanted, interval, length


def _range(interval: Interval | None) -> str:
    if interval is None:
        return ""
    low = interval.ge if interval.ge is not None else interval.gt
    if interval.gt is not None:
        return f" above {_short(low)}" + (
            f" and up to {_short(interval.le)}" if interval.le is not None else ""
        )
    return f" from {_short(low)} to {_short(interval.le)}"


def _short(number: Any) -> str:
    return f"{number:,}" if isinstance(number, int) else f"{number:g}"


def _quoted(value: Any) -> str:
    return f"“{value}”" if isinstance(value, str) else str(value)[:60]


def _as_toml(value: Any) -> str:
    return f"[{', '.join(map(str, value))}]" if isinstance(value, Sequence) else str(value)


def _middle(codec: str) -> int:
    """A good quality of a codec."""
    return {"h264": 20, "hevc": 22, "av1": 30, "vp9": 31}.get(codec, 90)
