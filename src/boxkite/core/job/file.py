"""Job files: TOML with the options of a job as keys, and its own presets; and their schema, for editors."""

from __future__ import annotations

import tomllib
from collections.abc import Callable
from pathlib import Path
from typing import Any

from boxkite.core.errors import PlanError, spoken
from boxkite.core.files.reading import path_from, read_bytes, without_dots
from boxkite.core.files.writing import create_file
from boxkite.core.job.after import step_schema, with_step_paths
from boxkite.core.job.job import OF_OTHERWISE, OPTIONS
from boxkite.core.job.option import Option
from boxkite.core.job.options import JobOptions, options_from_tables
from boxkite.core.presets.library import with_files

_MOST_BYTES = 10_000_000
_JSON_TYPES: dict[str, dict[str, Any]] = {
    "text": {"type": ["string", "number"]},
    "texts": {"type": ["string", "array"], "items": {"type": "string"}},
    "number": {"type": "integer"},
    "yes or no": {"type": "boolean"},
}


def is_job_file(path: Path) -> bool:
    """Whether a path is meant as a job file, by its extension."""
    return path.suffix.lower() == ".toml"


def read_job_file(path: Path) -> JobOptions:
    """The options of a job file, its relative paths counted from its own folder. Raises PlanError with the key."""
    try:
        tables = tomllib.loads(read_bytes(path, _MOST_BYTES).decode("utf-8"))
    except FileNotFoundError:
        raise PlanError("there is no such job file", path=path) from None
    except OSError as error:
        raise PlanError(f"it cannot be read: {error.strerror or error}", path=path) from None
    except (tomllib.TOMLDecodeError, UnicodeDecodeError, RecursionError) as error:
        raise PlanError(f"this is not TOML: {error}", path=path) from None
    folder = path.absolute().parent
    return _with_paths(
        options_from_tables(tables, path), lambda text: str(without_dots(folder / path_from(text)))
    )


def save_job(options: JobOptions, path: Path) -> None:
    """Write the options as a job file; paths are written absolute, or from its folder where they lie below it.

    Raises PlanError when there is something of that name already.
    """
    import tomli_w

    folder = path.absolute().parent

    def as_saved(text: str) -> str:
        absolute = path_from(text).absolute()
        return str(absolute.relative_to(folder)) if absolute.is_relative_to(folder) else str(absolute)

    tables = {key: _as_toml(value) for key, value in _with_paths(options, as_saved).written.items()}
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        create_file(path, tomli_w.dumps(tables).encode("utf-8"))
    except FileExistsError:
        raise PlanError(
            "this file exists already; nothing was overwritten", path=path, hint="name another"
        ) from None
    except OSError as error:
        raise PlanError(f"it cannot be written: {error.strerror or error}", path=path) from None


def _as_toml(value: Any) -> Any:
    if isinstance(value, tuple):
        return [_as_toml(one) for one in value]
    if isinstance(value, dict):
        return {key: _as_toml(inner) for key, inner in value.items() if inner is not None}
    return value


def _with_paths(options: JobOptions, change: Callable[[str], str]) -> JobOptions:
    """The options with every path in them changed: of options that are paths, and of presets and folders in outputs."""

    def output(text: str) -> str:
        preset, colon, folder = text.partition(":")
        if preset.strip().lower().endswith(".toml"):
            preset = change(preset.strip())
        return f"{preset}{colon}{change(folder.strip())}" if colon and folder.strip() else text

    changed: dict[str, Any] = dict(options.written)
    for key, value in options.written.items():
        if OPTIONS[key].is_path:
            changed[key] = change(value) if isinstance(value, str) else tuple(map(change, value))
    changed["presets"] = {
        name: with_files(tables, change) if isinstance(tables, dict) else tables
        for name, tables in (options.get("presets") or {}).items()
    }
    if not changed["presets"]:
        del changed["presets"]
    changed["to"] = tuple(map(output, options.get("to")))
    changed["otherwise"] = tuple(
        {**one, "to": tuple(map(output, one["to"]))} if "to" in one else one
        for one in options.get("otherwise")
    )
    if options.get("after"):
        changed["after"] = with_step_paths(options.get("after"), change)
    return JobOptions(changed)


def job_schema() -> dict[str, Any]:
    """The JSON Schema (draft 2020-12) of job files, for editors that complete and check them."""
    plain = {key: _schema_of(one) for key, one in OPTIONS.items() if one.kind != "tables"}
    exception = {
        "type": "object",
        "properties": {key: plain[key] for key in OF_OTHERWISE},
        "required": ["only"],
        "additionalProperties": False,
    }
    tables = {
        "presets": {"type": "object", "additionalProperties": {"type": "object"}},
        "otherwise": {"type": "array", "items": exception},
        "after": {"type": "array", "items": step_schema()},
    }
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "Box Kite job",
        "type": "object",
        "properties": plain | {key: {"description": OPTIONS[key].help} | tables[key] for key in tables},
        "additionalProperties": False,
    }


def _schema_of(one: Option) -> dict[str, Any]:
    schema = {"description": spoken(one.description)} | _JSON_TYPES[one.kind]
    return schema | ({"enum": list(one.allowed)} if one.allowed else {})
