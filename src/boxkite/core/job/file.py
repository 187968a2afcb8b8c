"""Job files: TOML with the words of the command line, and presets of their own."""

from __future__ import annotations

import tomllib
from collections.abc import Mapping
from dataclasses import fields, replace
from pathlib import Path
from typing import Any

from boxkite.core.errors import PlanError
from boxkite.core.files.reading import path_from, read_bytes
from boxkite.core.files.writing import create_file
from boxkite.core.job.said import (
    FIELD_OF,
    OF_OTHERWISE,
    TAKES_LIST,
    TAKES_NUMBER,
    TAKES_YES_OR_NO,
    WORD_OF,
    JobWords,
    OtherwiseWords,
)
from boxkite.core.suggest import did_you_mean

_MOST_BYTES = 10_000_000
_PATHS = ("paths", "media", "metadata", "marks", "watermark", "look", "sound")


def is_job_file(path: Path) -> bool:
    """Whether a path is meant as a job file, by its ending."""
    return path.suffix.lower() == ".toml"


def read_job_file(path: Path) -> JobWords:
    """The words of a job file, its relative paths counted from its own folder. Raises PlanError with the key."""
    try:
        tables = tomllib.loads(read_bytes(path, _MOST_BYTES).decode("utf-8"))
    except FileNotFoundError:
        raise PlanError("there is no such job file", path=path) from None
    except OSError as error:
        raise PlanError(f"it cannot be read: {error.strerror or error}", path=path) from None
    except (tomllib.TOMLDecodeError, UnicodeDecodeError, RecursionError) as error:
        raise PlanError(f"this is not TOML: {error}", path=path) from None
    words = words_of_tables(tables, path)
    return _from_folder(words, path.absolute().parent)


def words_of_tables(tables: Mapping[str, Any], path: Path | str) -> JobWords:
    """The words that tables say. path: where they stand, for messages. Raises PlanError with the key."""
    said: dict[str, Any] = {}
    for key, value in tables.items():
        if key not in FIELD_OF:
            raise PlanError(f"there is no key “{key}”", path=path, hint=did_you_mean(key, FIELD_OF) or
                            f"keys: {', '.join(FIELD_OF)}")  # fmt: skip
        name = FIELD_OF[key]
        if name == "presets":
            said[name] = _presets(value, path)
        elif name == "otherwise":
            said[name] = _otherwise(value, path)
        else:
            said[name] = _value(name, key, value, path)
    return JobWords(**said)


def _value(name: str, key: str, value: Any, path: Path | str) -> Any:
    """A word's value in the type the job takes; a number is as good as a text that says it."""
    if name in TAKES_LIST:
        values = value if isinstance(value, list) else [value]
        if not all(isinstance(one, str) for one in values):
            raise PlanError('this is a text or a list of texts, as ["one", "two"]', path=path, key=key)
        return tuple(values)
    if name in TAKES_YES_OR_NO:
        if not isinstance(value, bool):
            raise PlanError("this is true or false, without quotes", path=path, key=key)
        return value
    if name in TAKES_NUMBER:
        if isinstance(value, bool) or not isinstance(value, int):
            raise PlanError("this is a whole number, without quotes", path=path, key=key)
        return value
    if isinstance(value, int | float) and not isinstance(value, bool):
        return str(value)
    if not isinstance(value, str):
        raise PlanError("this is a text, in quotes", path=path, key=key)
    return value


def _presets(value: Any, path: Path | str) -> dict[str, Mapping[str, Any]]:
    if not isinstance(value, Mapping):
        raise PlanError("presets are tables, as [presets.mill-web]", path=path, key="presets")
    for name, tables in value.items():
        if not isinstance(tables, Mapping):
            raise PlanError("a preset is a table, as [presets.mill-web]", path=path, key=f"presets.{name}")
    return dict(value)


def _otherwise(value: Any, path: Path | str) -> tuple[OtherwiseWords, ...]:
    if not isinstance(value, list) or not all(isinstance(one, Mapping) for one in value):
        raise PlanError("these are tables, as [[otherwise]]", path=path, key="otherwise")
    found = []
    for one in value:
        for key in one:
            if key not in OF_OTHERWISE:
                raise PlanError(f"there is no key “{key}” in [[otherwise]]", path=path,
                                hint=did_you_mean(key, OF_OTHERWISE) or f"keys: {', '.join(OF_OTHERWISE)}")  # fmt: skip
        said = {key: _value(key, f"otherwise.{key}", inner, path) for key, inner in one.items()}
        found.append(OtherwiseWords(**said))
    return tuple(found)


def _from_folder(words: JobWords, folder: Path) -> JobWords:
    """The words with relative paths counted from a folder."""

    def path(text: str) -> str:
        return str(folder / path_from(text))

    def output(text: str) -> str:
        preset, colon, target = text.partition(":")
        if preset.strip().lower().endswith(".toml"):
            preset = path(preset.strip())
        return f"{preset}{colon}{path(target.strip())}" if colon and target.strip() else text

    changed: dict[str, Any] = {}
    for name in _PATHS:
        value = getattr(words, name)
        if value:
            changed[name] = path(value) if isinstance(value, str) else tuple(map(path, value))
    changed["to"] = tuple(map(output, words.to))
    changed["otherwise"] = tuple(replace(one, to=tuple(map(output, one.to))) for one in words.otherwise)
    return replace(words, **changed)


def save_job(words: JobWords, path: Path) -> None:
    """Write the words as a job file; paths are written whole, or from its folder where they lie below it.

    Raises PlanError when there is something of that name already.
    """
    import tomli_w

    folder = path.absolute().parent
    tables: dict[str, Any] = {}
    for one in fields(JobWords):
        value = _shortened(one.name, getattr(words, one.name), folder)
        if value not in (None, (), {}, []):
            tables[WORD_OF[one.name]] = value
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        create_file(path, tomli_w.dumps(tables).encode("utf-8"))
    except FileExistsError:
        raise PlanError(
            "this file is there already; nothing was overwritten", path=path, hint="name another"
        ) from None
    except OSError as error:
        raise PlanError(f"it cannot be written: {error.strerror or error}", path=path) from None


def _shortened(name: str, value: Any, folder: Path) -> Any:
    def path(text: str) -> str:
        whole = path_from(text).absolute()
        return str(whole.relative_to(folder)) if whole.is_relative_to(folder) else str(whole)

    def output(text: str) -> str:
        preset, colon, target = text.partition(":")
        if preset.lower().endswith(".toml"):
            preset = path(preset)
        return f"{preset}{colon}{path(target)}"

    if name in _PATHS and value:
        return path(value) if isinstance(value, str) else [path(one) for one in value]
    if name == "to":
        return [output(one) for one in value]
    if name == "otherwise":
        tables = []
        for one in value:
            said = {**vars(one), "only": list(one.only), "to": [output(text) for text in one.to]}
            tables.append({key: inner for key, inner in said.items() if inner not in (None, [])})
        return tables
    return list(value) if isinstance(value, tuple) else value
