"""Finding presets by name: those of the job, the user's own folder, then the built-in ones; or by a file's path."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any

from boxkite.core.errors import PresetError, setting
from boxkite.core.files.reading import is_file, path_from
from boxkite.core.presets.inheriting import BASED_ON, merged
from boxkite.core.suggest import did_you_mean

if TYPE_CHECKING:  # the help of a command needs a shelf, and none of its presets
    from boxkite.core.presets.model import Preset

FOLDER_VARIABLE = "BOXKITE_PRESETS"
_MOST_BASES = 20
_FILES_IN = ("watermark", "burn_in", "look")
_TABLES = ("video", "audio", *_FILES_IN)
_FILE_KEYS = ("image", "font", "file", "config")


@dataclass(frozen=True)
class PresetFile:
    """Where a preset is kept."""

    name: str
    path: Path
    built_in: bool
    tables: Mapping[str, Any] | None = field(default=None, compare=False)
    """Its tables, where it is part of a job file and not a separate file."""

    @property
    def key(self) -> str:
        """The prefix of its keys in messages."""
        return "" if self.tables is None else f"presets.{self.name}"


def own_folder() -> Path:
    """The user's own folder of presets; $BOXKITE_PRESETS names another."""
    if named := os.environ.get(FOLDER_VARIABLE):
        return path_from(named)
    import platformdirs

    return Path(platformdirs.user_config_dir("boxkite")) / "presets"


def built_in_folder() -> Path:
    """The folder of the presets that come with Box Kite."""
    from importlib import resources

    return Path(str(resources.files("boxkite.core.presets"))) / "builtin"


def list_presets() -> list[PresetFile]:
    """Every preset that can be named, own ones first; an own one hides a built-in one of its name."""
    found: dict[str, PresetFile] = {}
    for folder, built_in in ((own_folder(), False), (built_in_folder(), True)):
        for path in sorted(folder.glob("*.toml"), key=lambda path: path.stem):
            found.setdefault(path.stem, PresetFile(path.stem, path, built_in))
    return list(found.values())


@dataclass(frozen=True)
class Shelf:
    """The presets within reach of a job."""

    own: tuple[PresetFile, ...] = ()
    """Those it brings along, by name."""
    changes: Mapping[str, Any] = field(default_factory=dict)
    """Keys set from outside, as {"review.video.quality": 20} for one preset or {"video.quality": 20} for all."""

    def find(self, name: str) -> PresetFile:
        """The preset of a name or of a path to a .toml file. Raises PresetError with the nearest names."""
        if name.lower().endswith(".toml"):
            path = path_from(name)
            if not is_file(path):
                raise PresetError("there is no such preset file", path=path)
            return PresetFile(path.stem, path, built_in=False)
        listed = [*self.own, *list_presets()]
        for preset in listed:
            if preset.name == name:
                return preset
        names = list(dict.fromkeys(preset.name for preset in listed))
        raise PresetError(
            f"there is no preset “{name}”",
            hint=did_you_mean(name, names) or f"there are: {', '.join(names)}",
        )

    def load(self, name: str) -> Preset:
        """Read and check a preset by name or path. Raises PresetError with file, table and key."""
        return self.read(self.find(name))

    def read(self, file: PresetFile) -> Preset:
        """Read and check a preset, what it is based on and what was set from outside put together."""
        from boxkite.core.presets.reading import checked, trusted

        if file.name in _TABLES:
            raise PresetError(
                f"“{file.name}” is a table of presets, so no preset can have that name",
                path=file.path,
                key=file.key,
                hint="give it another name",
            )
        changes = self.changes_of(file.name)
        if file.built_in and not changes:
            return trusted(file.name, self._tables(file, ()))
        preset = checked(file.name, self._tables(file, ()), file.path, file.key)
        if changes:
            tables = self._tables(file, ())
            for key, value in changes.items():
                tables = merged(tables, _nested(key.split("."), value))
            preset = checked(file.name, tables, setting("set"), file.name)
        return preset

    def changes_of(self, name: str) -> dict[str, Any]:
        """The changes to one preset from outside, by its own keys."""
        found = {}
        for key, value in self.changes.items():
            first, _, rest = key.partition(".")
            if first in _TABLES:
                found[key] = value
            elif first == name:
                found[rest] = value
            elif first not in {preset.name for preset in [*self.own, *list_presets()]}:
                found[key] = value
        return found

    def _tables(self, file: PresetFile, above: Sequence[PresetFile]) -> dict[str, Any]:
        """The tables of a preset, merged with those it is based on."""
        from boxkite.core.presets.reading import checked, read_tables

        if file in above or len(above) > _MOST_BASES:
            chain = " → ".join(one.name for one in [*above, file])
            raise PresetError(
                f"these presets are based on each other: {chain}", path=above[0].path, key=BASED_ON
            )
        tables = dict(file.tables) if file.tables is not None else read_tables(file.path)
        tables = with_files(tables, lambda text: str(file.path.parent / path_from(text)))
        if BASED_ON not in tables:
            return tables
        base_name = tables.pop(BASED_ON)
        if not isinstance(base_name, str):
            raise PresetError(
                "this is the name of a preset, in quotes", path=file.path, key=_below(file, BASED_ON)
            )
        base = self._base(file, base_name)
        below = self._tables(base, [*above, file])
        if not base.built_in:
            checked(base.name, below, base.path, base.key)
        return merged(below, tables, path=file.path, above=file.key)

    def _base(self, file: PresetFile, name: str) -> PresetFile:
        """The base of a preset: built-in presets have built-in bases; a base of the same name is the one it hides."""
        if file.built_in:
            return PresetFile(name, built_in_folder() / f"{name}.toml", built_in=True)
        if name == file.name:
            built_in = PresetFile(name, built_in_folder() / f"{name}.toml", built_in=True)
            hidden = [
                one for one in list_presets() if one.name == name and (one.path != file.path or file.tables)
            ]
            return next(iter(hidden), built_in if built_in.path.is_file() else file)
        if name.lower().endswith(".toml"):
            name = str(file.path.parent / path_from(name))
        try:
            return self.find(name)
        except PresetError as error:
            raise PresetError(
                error.message, path=file.path, key=_below(file, BASED_ON), hint=error.hint
            ) from None


def _below(file: PresetFile, key: str) -> str:
    """A key of a preset as messages name it: with the table of the job file it stands in."""
    return f"{file.key}.{key}" if file.key else key


def with_files(tables: Mapping[str, Any], change: Callable[[str], str]) -> dict[str, Any]:
    """The tables of a preset with the paths of the files in them changed."""

    def changed(value: Any) -> Any:
        if isinstance(value, list):
            return [changed(one) for one in value]
        if not isinstance(value, dict):
            return value
        return {
            key: change(inner) if key in _FILE_KEYS and isinstance(inner, str) else inner
            for key, inner in value.items()
        }

    return {key: changed(value) if key in _FILES_IN else value for key, value in tables.items()}


def names_file(key: str) -> bool:
    """Whether a setting, by its whole key as review.watermark.image, is the path of a file."""
    *above, last = key.split(".")
    return last in _FILE_KEYS and bool(above) and above[-1] in _FILES_IN


def files_of(preset: Preset) -> Iterator[tuple[str, Path]]:
    """(key, path) of every file that a preset names."""
    for key, value in flat_items(preset_as_json(preset)):
        if key.rpartition(".")[2] in _FILE_KEYS and key.partition(".")[0] in _FILES_IN:
            yield key, Path(value)


def _nested(keys: Sequence[str], value: Any) -> dict[str, Any]:
    return {keys[0]: value if len(keys) == 1 else _nested(keys[1:], value)}


def preset_as_json(preset: Preset) -> dict[str, Any]:
    """A preset as plain values, those that are not set left out."""

    def plain(value: Any) -> Any:
        if isinstance(value, dict):
            return {key: plain(inner) for key, inner in value.items() if inner is not None}
        if isinstance(value, list | tuple):
            return [plain(inner) for inner in value]
        return str(value) if isinstance(value, Path) else value

    return dict(plain(asdict(preset)))


def flat_items(values: Mapping[str, Any]) -> Iterator[tuple[str, Any]]:
    """Every setting as (table.key, value), those that are not set left out."""

    def walk(prefix: str, value: Any) -> Iterator[tuple[str, Any]]:
        if isinstance(value, Mapping):
            for key, inner in value.items():
                yield from walk(f"{prefix}.{key}" if prefix else key, inner)
        elif isinstance(value, list | tuple) and any(isinstance(inner, Mapping) for inner in value):
            for index, inner in enumerate(value, start=1):
                yield from walk(f"{prefix}.{index}", inner)
        elif value is not None:
            yield prefix, value

    yield from walk("", values)
