"""The user's own settings: what holds for every batch on this machine, in one TOML file."""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from fnmatch import fnmatchcase
from pathlib import Path, PurePosixPath, PureWindowsPath
from typing import Any

from msgspec import Struct, field

from boxkite.core.errors import RequestError
from boxkite.core.files.reading import path_from
from boxkite.core.files.toml import read_toml
from boxkite.core.suggest import did_you_mean

FILE_VARIABLE = "BOXKITE_SETTINGS"


class PathRule(Struct, frozen=True):
    """A folder as it is called here, and as other machines call it."""

    here: str
    there: str
    machines: str = "*"
    """Their names, * and ? are wildcards."""

    def applied(self, path: str, machine: str) -> str | None:
        """The path as a machine calls it; None where the rule is not about it."""
        if not fnmatchcase(machine.casefold(), self.machines.casefold()):
            return None
        parts, own = _parts(path), _parts(self.here)
        if parts[: len(own)] != own:
            return None
        separator = "\\" if "\\" in self.there else "/"
        return separator.join([self.there.rstrip("/\\"), *parts[len(own) :]])


class DestinationSettings(Struct, frozen=True):
    """A place files are sent to, by a name of the user's; nothing in it is secret."""

    url: str
    user: str = ""
    certificate: str = ""
    """A file of certificates to trust, for a server with its own."""
    profile: str = ""
    endpoint: str = ""
    """Of S3."""


class Settings(Struct, frozen=True):
    """Defaults for options that are not given."""

    cluster: str = ""
    workers: int | None = None
    turn: str = ""
    when_ended: str = ""
    web_hook: str = ""
    paths: tuple[PathRule, ...] = field(default=())
    """How other machines call the folders of this one."""
    destinations: Mapping[str, DestinationSettings] = field(default_factory=dict)
    """Where finished files are sent, by name."""


_KEY_OF = {name.replace("_", "-"): name for name in Settings.__struct_fields__}


def settings_file() -> Path:
    """Where the settings are; $BOXKITE_SETTINGS names another file."""
    if named := os.environ.get(FILE_VARIABLE):
        return path_from(named)
    import platformdirs

    return Path(platformdirs.user_config_dir("boxkite")) / "settings.toml"


def read_settings() -> Settings:
    """The settings; those of nobody where there is no file. Raises RequestError that names file and key."""
    path = settings_file()
    try:
        tables = read_toml(path)
    except FileNotFoundError:
        return Settings()
    values: dict[str, Any] = {}
    for key, value in tables.items():
        if key not in _KEY_OF:
            hint = did_you_mean(key, _KEY_OF) or f"keys: {', '.join(_KEY_OF)}"
            raise RequestError(f"there is no key “{key}”", path=path, hint=hint)
        read = {"paths": _rules, "destinations": _destinations}.get(key)
        values[_KEY_OF[key]] = read(value, path) if read else _checked(key, value, path)
    return Settings(**values)


def _checked(key: str, value: Any, path: Path) -> Any:
    wanted = int if key == "workers" else str
    if not isinstance(value, wanted) or isinstance(value, bool):
        kind = "a whole number, without quotes" if wanted is int else "a text in quotes"
        raise RequestError(f"this is {kind}", path=path, key=key)
    return value


def _rules(value: Any, path: Path) -> tuple[PathRule, ...]:
    rules = []
    for rule in value if isinstance(value, list) else [value]:
        known = {"here", "there", "machines"}
        if (
            not isinstance(rule, dict)
            or not {"here", "there"} <= rule.keys() <= known
            or not all(isinstance(text, str) and text for text in rule.values())
        ):
            raise RequestError(
                "each of these has here and there, and may have machines", path=path, key="paths",
                hint='[[paths]], then here = "/mnt/media" and there = "M:\\\\media" on separate lines',
            )  # fmt: skip
        rules.append(PathRule(**rule))
    return tuple(rules)


def _destinations(value: Any, path: Path) -> dict[str, DestinationSettings]:
    known = DestinationSettings.__struct_fields__
    found = {}
    for name, table in value.items() if isinstance(value, dict) else [("", value)]:
        key = f"destinations.{name}" if name else "destinations"
        if not isinstance(table, dict) or not isinstance(table.get("url"), str):
            raise RequestError("a destination is a table with a url", path=path, key=key,
                               hint='[destinations.client], then url = "https://…" on a separate line')  # fmt: skip
        for inner, text in table.items():
            if inner not in known:
                hint = did_you_mean(inner, known) or f"keys: {', '.join(known)}; passwords never stand here"
                raise RequestError(f"there is no key “{inner}”", path=path, key=key, hint=hint)
            if not isinstance(text, str):
                raise RequestError("this is a text in quotes", path=path, key=f"{key}.{inner}")
        own = table.get("certificate")
        counted = {"certificate": str(path.absolute().parent / path_from(own))} if own else {}
        if "://" not in table["url"]:
            counted["url"] = str(path.absolute().parent / path_from(table["url"]))
        found[name] = DestinationSettings(**{**table, **counted})
    return found


def mapped(path: str, rules: Sequence[PathRule], machine: str) -> str:
    """A path as a machine calls it: by the first rule that is about it, else as it is called here."""
    return next((found for rule in rules if (found := rule.applied(path, machine)) is not None), path)


def unmapped(path: str, rules: Sequence[PathRule], machine: str) -> str:
    """A path of another machine as it is called here: by the first rule for that machine that is about it."""
    for rule in rules:
        turned = PathRule(rule.there, rule.here, rule.machines)
        if (found := turned.applied(path, machine)) is not None:
            return found
    return path


def _parts(path: str) -> list[str]:
    """The parts of an absolute path of either kind of system."""
    is_windows = "\\" in path or PureWindowsPath(path).drive
    kind = PureWindowsPath if is_windows else PurePosixPath
    return [part.strip("\\/") or "/" for part in kind(path).parts]
