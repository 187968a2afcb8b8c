"""Finding presets by name: the user's own folder first, then the built-in ones; or by the path of a file."""

from __future__ import annotations

import os
import tomllib
from collections.abc import Iterator
from dataclasses import asdict, dataclass, fields, replace
from importlib import resources
from pathlib import Path
from typing import Any

from pydantic import TypeAdapter, ValidationError

from boxkite.core.errors import PresetError
from boxkite.core.presets.model import Audio, Lettering, Preset, Video, Watermark
from boxkite.core.suggest import did_you_mean

FOLDER_VARIABLE = "BOXKITE_PRESETS"
_TABLES: dict[str, type] = {
    "video": Video,
    "audio": Audio,
    "burn_in": Lettering,
    "watermark": Watermark,
}


@dataclass(frozen=True)
class PresetFile:
    """Where a preset is kept."""

    name: str
    path: Path
    built_in: bool


def own_folder() -> Path:
    """The user's own folder of presets; $BOXKITE_PRESETS names another."""
    if named := os.environ.get(FOLDER_VARIABLE):
        return Path(named).expanduser()
    import platformdirs

    return Path(platformdirs.user_config_dir("boxkite")) / "presets"


def built_in_folder() -> Path:
    """The folder of the presets that come with Box Kite."""
    return Path(str(resources.files("boxkite.core.presets"))) / "builtin"


def list_presets() -> list[PresetFile]:
    """Every preset that can be named, own ones first; an own one hides a built-in one of its name."""
    found: dict[str, PresetFile] = {}
    for folder, built_in in ((own_folder(), False), (built_in_folder(), True)):
        for path in sorted(folder.glob("*.toml")) if folder.is_dir() else []:
            found.setdefault(path.stem, PresetFile(path.stem, path, built_in))
    return list(found.values())


def find_preset(name: str) -> PresetFile:
    """The preset of a name or of a path to a .toml file. Raises PresetError with the nearest names."""
    if name.lower().endswith(".toml"):
        path = Path(name).expanduser()
        if not path.is_file():
            raise PresetError("there is no such preset file", path=path)
        return PresetFile(path.stem, path, built_in=False)
    listed = list_presets()
    for preset in listed:
        if preset.name == name:
            return preset
    names = [preset.name for preset in listed]
    raise PresetError(
        f"there is no preset “{name}”", hint=did_you_mean(name, names) or f"there are: {', '.join(names)}"
    )


def load_preset(name: str) -> Preset:
    """Read and check a preset by name or path. Raises PresetError with file, table and key."""
    return read_preset(find_preset(name))


def read_preset(file: PresetFile) -> Preset:
    """Read and check a preset file. Raises PresetError with file, table and key."""
    try:
        data = tomllib.loads(file.path.read_text(encoding="utf-8"))
    except OSError as error:
        raise PresetError(f"it cannot be read: {error.strerror or error}", path=file.path) from None
    except (tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
        raise PresetError(f"this is not TOML: {error}", path=file.path) from None
    if "name" in data:
        raise PresetError(
            "a preset is called as its file is", path=file.path, key="name", hint="leave the key name out"
        )
    try:
        preset = TypeAdapter(Preset).validate_python({"name": file.name, **data})
    except ValidationError as error:
        raise _as_preset_error(error, file.path) from None
    if preset.watermark and preset.watermark.image:
        image = file.path.parent / preset.watermark.image.expanduser()
        preset = replace(preset, watermark=replace(preset.watermark, image=image))
    return preset


def _as_preset_error(error: ValidationError, path: Path) -> PresetError:
    first = error.errors()[0]
    location = [str(part) for part in first["loc"]]
    message = str(first["msg"]).removeprefix("Value error, ")
    hint = ""
    if first["type"] == "unexpected_keyword_argument":
        table = location[0] if len(location) > 1 else ""
        model = _TABLES.get(table, Preset)
        keys = [one.name for one in fields(model) if one.name != "name"]
        message = f"there is no key “{location[-1]}”" + (f" in [{table}]" if table else "")
        hint = did_you_mean(location[-1], keys) or f"keys: {', '.join(keys)}"
    elif first["type"] == "missing":
        message = "this key is missing"
    return PresetError(message, path=path, key=".".join(location), hint=hint)


def preset_as_json(preset: Preset) -> dict[str, Any]:
    """A preset as plain values, those that are not set left out."""

    def plain(value: Any) -> Any:
        if isinstance(value, dict):
            return {key: plain(inner) for key, inner in value.items() if inner is not None}
        if isinstance(value, list | tuple):
            return [plain(inner) for inner in value]
        return str(value) if isinstance(value, Path) else value

    return dict(plain(asdict(preset)))


def flat_items(preset: Preset) -> Iterator[tuple[str, Any]]:
    """Every setting as (table.key, value), those that are not set left out."""

    def walk(prefix: str, value: Any) -> Iterator[tuple[str, Any]]:
        if isinstance(value, dict):
            for key, inner in value.items():
                yield from walk(f"{prefix}.{key}" if prefix else key, inner)
        elif isinstance(value, list | tuple):
            for index, inner in enumerate(value, start=1):
                yield from walk(f"{prefix}.{index}", inner)
        elif value is not None:
            yield prefix, value

    yield from walk("", preset_as_json(preset))
