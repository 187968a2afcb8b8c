"""Reading preset files, with errors that name file, table and key; and their schema, for editors."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Mapping
from dataclasses import fields
from functools import cache
from pathlib import Path
from typing import TYPE_CHECKING, Any

from boxkite.core.errors import PresetError
from boxkite.core.files.reading import read_bytes
from boxkite.core.presets.coding import Audio, Video
from boxkite.core.presets.explaining import example_of, explained
from boxkite.core.presets.inheriting import BASED_ON, WITHOUT
from boxkite.core.presets.model import Preset
from boxkite.core.presets.overlays import BurnIn, LookSettings, Watermark
from boxkite.core.suggest import did_you_mean

if TYPE_CHECKING:
    from pydantic import TypeAdapter, ValidationError

_TABLES: dict[str, type] = {
    "video": Video,
    "audio": Audio,
    "burn_in": BurnIn,
    "watermark": Watermark,
    "look": LookSettings,
}
_SEVERAL = ("watermark",)
"""Tables of which there may be several, or one."""
_MOST_BYTES = 1_000_000
_KEY_FIRST = re.compile(r"([a-z_]+(?:\.[a-z_]+)*): ")


def read_tables(path: Path) -> dict[str, Any]:
    """The tables of a TOML file. Raises PresetError."""
    try:
        return tomllib.loads(read_bytes(path, _MOST_BYTES).decode("utf-8"))
    except OSError as error:
        raise PresetError(f"it cannot be read: {error.strerror or error}", path=path) from None
    except (tomllib.TOMLDecodeError, UnicodeDecodeError, RecursionError) as error:
        raise PresetError(f"this is not TOML: {error}", path=path) from None


def checked(name: str, tables: Mapping[str, Any], path: Path | str, key: str = "") -> Preset:
    """A preset from its tables. path, key: where they stand, for messages. Raises PresetError."""
    if "name" in tables:
        raise PresetError(
            "a preset is called as its file is", path=path, key="name", hint="leave the key name out"
        )
    if WITHOUT in tables:
        raise PresetError(f"it goes with {BASED_ON}", path=path, key=WITHOUT)
    from pydantic import ValidationError

    try:
        return _adapter().validate_python({"name": name, **_listed(tables)})
    except ValidationError as error:
        raise _as_preset_error(error, path, key, tables) from None


@cache
def _adapter() -> TypeAdapter[Preset]:
    """What checks presets: making it takes 0.01 s."""
    from pydantic import TypeAdapter

    return TypeAdapter(Preset)


def trusted(name: str, tables: Mapping[str, Any]) -> Preset:
    """A preset that comes with Box Kite, from its tables; tests check those once for all, which takes longer."""
    made: dict[str, Any] = _listed(tables)
    for key, table in _TABLES.items():
        if key in made:
            inner = made[key]
            made[key] = tuple(table(**one) for one in inner) if isinstance(inner, list) else table(**inner)
    return Preset(name=name, **made)


def _listed(tables: Mapping[str, Any]) -> dict[str, Any]:
    """The tables, those of which there may be several as lists."""
    return {
        key: [value] if key in _SEVERAL and isinstance(value, Mapping) else value
        for key, value in tables.items()
    }


def _as_preset_error(
    error: ValidationError, path: Path | str, key: str, tables: Mapping[str, Any]
) -> PresetError:
    first = error.errors()[0]
    location = [str(part) for part in first["loc"]]
    if len(location) > 1 and location[0] in _SEVERAL and location[1] == "0":
        del location[1]
    message = str(first["msg"]).removeprefix("Value error, ")
    hint = ""
    if first["type"] == "value_error" and (match := _KEY_FIRST.match(message)):
        location += match[1].split(".")
        message = message[match.end() :]
        hint = example_of(location[-1], tables.get("video", {}))
    if first["type"] == "unexpected_keyword_argument":
        table = location[0] if len(location) > 1 else ""
        model = _TABLES.get(table, Preset)
        keys = [one.name for one in fields(model) if one.name != "name"]
        keys += [] if table else [BASED_ON, WITHOUT]
        message = f"there is no key “{location[-1]}”" + (f" in [{table}]" if table else "")
        hint = did_you_mean(location[-1], keys) or f"keys: {', '.join(keys)}"
    elif first["type"] == "missing":
        message = "this key is missing"
    elif first["type"] != "value_error":
        table = location[0] if len(location) > 1 and location[0] in _TABLES else ""
        names = [part for part in location if not part.isdigit()]
        own = names[1] if table and len(names) > 1 else names[0]
        beside = tables.get(table, {}) if table else tables
        message, hint = explained(
            _TABLES.get(table, Preset), own, first["input"], beside if isinstance(beside, Mapping) else {}
        )
        while location[-1].isdigit():
            location.pop()
    return PresetError(message, path=path, key=".".join([*([key] if key else []), *location]), hint=hint)


def preset_schema() -> dict[str, Any]:
    """The JSON Schema (draft 2020-12) of preset files, for editors that complete and check them."""
    from pydantic import TypeAdapter

    schema = TypeAdapter(Preset).json_schema()
    schema["$schema"] = "https://json-schema.org/draft/2020-12/schema"
    schema["title"] = "Box Kite preset"
    properties = schema["properties"]
    del properties["name"]
    properties[BASED_ON] = {"type": "string", "description": "the preset whose settings this one begins with"}
    properties[WITHOUT] = {
        "type": "array",
        "items": {"type": "string"},
        "description": "tables and keys of that preset which are left out",
    }
    return schema
