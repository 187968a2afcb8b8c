"""Writing a preset that was tuned as a new one."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

import tomli_w

from boxkite.core.errors import PresetError, setting
from boxkite.core.files.names import safe_component
from boxkite.core.files.reading import path_from
from boxkite.core.files.writing import create_file, replace_file
from boxkite.core.presets.inheriting import BASED_ON, WITHOUT
from boxkite.core.presets.library import PresetFile, Shelf, list_presets, own_folder
from boxkite.core.presets.reading import read_tables


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


def change_preset(name: str, changes: Mapping[str, Any]) -> Path:
    """Change some keys of one of the user's own presets, in its file; checked first. A value of "" takes a key out.

    Comments in the file are not kept. Raises PresetError.
    """
    file = _own(name, "changed", f"{setting('based-on')} {name} makes one of your own that differs")
    tables = dict(read_tables(file.path))
    for key, value in changes.items():
        _put(tables, key, value)
    Shelf().read(PresetFile(file.name, file.path, built_in=False, tables=tables))
    try:
        replace_file(file.path, tomli_w.dumps(tables).encode("utf-8"))
    except OSError as error:
        raise PresetError(f"it cannot be written: {error.strerror or error}", path=file.path) from None
    return file.path


def remove_preset(name: str) -> Path:
    """Remove the file of one of the user's own presets. Raises PresetError where others are based on it."""
    file = _own(name, "removed", "only your own presets can be removed")
    based = [
        one.name
        for one in list_presets()
        if not one.built_in and _base_of(one) in (file.name, str(file.path))
    ]
    if based := [one for one in based if one != file.name]:
        raise PresetError(
            f"{', '.join(based)} {'is' if len(based) == 1 else 'are'} based on it; nothing was removed",
            path=file.path,
            hint=f"change {based[0]} first, or remove it too",
        )
    try:
        file.path.unlink()
    except OSError as error:
        raise PresetError(f"it cannot be removed: {error.strerror or error}", path=file.path) from None
    return file.path


def _own(name: str, what: str, hint: str) -> PresetFile:
    file = Shelf().find(name)
    if file.built_in:
        raise PresetError(f"“{name}” comes with Box Kite and cannot be {what}", hint=hint)
    return file


def _base_of(file: PresetFile) -> str:
    try:
        return str(read_tables(file.path).get(BASED_ON, ""))
    except PresetError:
        return ""


def _put(tables: dict[str, Any], key: str, value: Any) -> None:
    *above, last = key.split(".")
    for table in above:
        tables = tables.setdefault(table, {})
        if not isinstance(tables, dict):
            raise PresetError(f"{key}: “{table}” is not a table")
    if last == WITHOUT and isinstance(value, str):
        value = [word.strip() for word in value.split(",")]
    if value == "":
        tables.pop(last, None)
    else:
        tables[last] = value
