"""Writing a preset that was tuned as a new one."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

import tomli_w

from boxkite.core.errors import PresetError
from boxkite.core.files.names import safe_component
from boxkite.core.files.reading import path_from
from boxkite.core.files.writing import create_file
from boxkite.core.presets.inheriting import BASED_ON, WITHOUT
from boxkite.core.presets.library import PresetFile, Shelf, own_folder


def make_preset(
    name: str, based_on: str | None, changes: Mapping[str, Any], path: Path | None = None
) -> Path:
    """Write a preset based on another, with some of its keys changed, as {"video.quality": 18}; checked first.

    path: where to, instead of the user's own folder. Returns where it was written. Raises PresetError.
    """
    if safe_component(name) != name or len(name) < 2 or ":" in name or "/" in name or "." in name:
        raise PresetError(
            f"“{name}” is no name for a preset", hint="letters, digits and dashes, two at least: mill-web"
        )
    path = path or own_folder() / f"{name}.toml"
    if path.exists():
        raise PresetError(
            "there is a preset already; nothing was changed", path=path, hint="give another name"
        )
    tables: dict[str, Any] = {BASED_ON: based_on} if based_on else {}
    for key, value in changes.items():
        _put(tables, key, value)
    Shelf().read(PresetFile(name, path, built_in=False, tables=tables))
    if based_on and based_on.lower().endswith(".toml"):
        tables[BASED_ON] = str(path_from(based_on).absolute())
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        create_file(path, tomli_w.dumps(tables).encode("utf-8"))
    except OSError as error:
        raise PresetError(f"it cannot be written: {error.strerror or error}", path=path) from None
    return path


def _put(tables: dict[str, Any], key: str, value: Any) -> None:
    *above, last = key.split(".")
    for table in above:
        tables = tables.setdefault(table, {})
        if not isinstance(tables, dict):
            raise PresetError(f"{key}: “{table}” is not a table")
    if last == WITHOUT and isinstance(value, str):
        value = [word.strip() for word in value.split(",")]
    tables[last] = value
