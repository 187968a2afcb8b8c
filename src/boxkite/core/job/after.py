"""What a job has done once all its files are made: steps of some kinds, each with its options, declared here once."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any, Literal

from msgspec import Struct, field

from boxkite.core.errors import PlanError
from boxkite.core.job.manifest_forms import MANIFEST_FORMS
from boxkite.core.suggest import did_you_mean

Kind = Literal["text", "texts", "number", "yes or no"]
_EXISTING = ("stop", "number", "replace")


class StepOption(Struct, frozen=True):
    """An option of a step."""

    kind: Kind
    help: str
    is_path: bool = False
    """Whether a job file counts it from its own folder."""
    is_built_in_or_path: bool = False
    """Whether it is a path where it ends in .toml, else the name of something built in."""
    is_required: bool = False
    allowed: tuple[str, ...] = ()


class Step(Struct, frozen=True):
    """One step."""

    kind: str
    """The name of the command that does the same."""
    options: Mapping[str, Any] = field(default_factory=dict)
    """As they are written, by key: texts, whole numbers, true or false, lists of texts."""

    def get(self, key: str, default: Any = "") -> Any:
        """An option, or the default."""
        return self.options.get(key, default)


def _into(what: str) -> StepOption:
    return StepOption("text", f"{what}; @batch and @date may stand in it", is_path=True, is_required=True)


_TABLES = StepOption("texts", "tables about the files or sources", is_path=True)
_TITLE = StepOption("text", "heading")
_LINES = StepOption("texts", "patterns of the lines below each file")
_TAKEN = StepOption("text", "where the name is taken", allowed=_EXISTING)
_PRESET = StepOption("text", "only files of this preset")
STEPS: dict[str, dict[str, StepOption]] = {
    "verify": {"deep": StepOption("yes or no", "decode every file and compare it with its source")},
    "manifest": {"form": StepOption("text", "form of the manifest", allowed=MANIFEST_FORMS)},
    "contact-sheet": {
        "into": _into("the file, .pdf or .png"), "title": _TITLE, "line": _LINES, "preset": _PRESET,
        "frames": StepOption("number", "1 or 3 frames of each file"),
        "page": StepOption("text", "size of the pages", allowed=("a4", "a3", "letter", "screen")),
        "portrait": StepOption("yes or no", "upright pages"),
        "columns": StepOption("number", "files side by side"), "metadata": _TABLES, "existing": _TAKEN,
    },
    "review-page": {
        "into": _into("the folder"), "title": _TITLE, "line": _LINES, "metadata": _TABLES,
        "section": StepOption("text", "pattern of the headings"),
        "existing": StepOption("text", "where there is a page", allowed=("stop", "replace")),
    },
    "catalogue": {
        "into": _into("the file, .csv, .tsv or .xlsx"), "metadata": _TABLES, "existing": _TAKEN,
        "columns": StepOption("text", "a .toml file of columns, or stock or delivery", is_built_in_or_path=True),
    },
    "relink": {
        "into": _into("the edit"), "preset": _PRESET, "existing": _TAKEN,
        "edit": StepOption("text", "the edit to begin with; without it one of the shots", is_path=True),
        "tracks": StepOption("text", "keep only these tracks, as V1,A1"),
        "rate": StepOption("text", "frame rate of an edit decision list"),
    },
    "shot-folders": {
        "into": _into("where the folders go"), "metadata": _TABLES,
        "tree": StepOption("text", "a .toml file of the tree, or shots", is_built_in_or_path=True),
        "review": StepOption("texts", "saved reviews", is_path=True),
    },
    "send": {
        "to": StepOption("texts", "folders, URLs, names of destinations", is_required=True),
        "only": StepOption("texts", "light, new, circled, keyword:WORD …"),
        "names": StepOption("text", "pattern of the names there"),
        "files-only": StepOption("yes or no", "nothing that is beside the files"), "metadata": _TABLES,
        "existing": StepOption("text", "where another file is", allowed=("stop", "skip", "number", "replace")),
        "check": StepOption("text", "how it is checked", allowed=("checksum", "size")),
        "workers": StepOption("number", "files on their way at the same time"),
    },
}  # fmt: skip
"""The options of each kind of step, by key."""
_SAID = {"text": "a text, in quotes", "texts": "a text or a list of texts", "number": "a whole number",
         "yes or no": "true or false, without quotes"}  # fmt: skip


def check_steps(value: Any, path: Path | str) -> tuple[dict[str, Any], ...]:
    """The tables of [[after]] with their values in the types they are kept in. Raises PlanError with the key."""
    if not isinstance(value, list | tuple) or not all(isinstance(one, Mapping) for one in value):
        raise PlanError("these are tables, as [[after]]", path=path, key="after")
    return tuple(_checked(one, f"after, step {number}", path) for number, one in enumerate(value, start=1))


def _checked(table: Mapping[str, Any], where: str, path: Path | str) -> dict[str, Any]:
    kind = table.get("step")
    if kind not in STEPS:
        hint = did_you_mean(str(kind), STEPS) if kind else ""
        raise PlanError(f"there is no step “{kind}”" if kind else 'it needs step = "…"', path=path, key=where,
                        hint=hint or f"steps: {', '.join(STEPS)}")  # fmt: skip
    options = STEPS[kind]
    checked: dict[str, Any] = {"step": kind}
    for key, value in table.items():
        if key == "step":
            continue
        if key not in options:
            raise PlanError(f"there is no key “{key}” for {kind}", path=path, key=where,
                            hint=did_you_mean(key, options) or f"keys: {', '.join(options)}")  # fmt: skip
        checked[key] = _value(options[key], value, f"{where}: {key}", path)
    for key, option in options.items():
        if option.is_required and not checked.get(key):
            raise PlanError(f"it needs {key}", path=path, key=where, hint=f"{key}: {option.help}")
    return checked


def _value(option: StepOption, value: Any, where: str, path: Path | str) -> Any:
    if option.kind == "texts" and isinstance(value, str):
        value = [value]
    is_right = {
        "text": isinstance(value, str),
        "texts": isinstance(value, list | tuple) and all(isinstance(one, str) for one in value),
        "number": isinstance(value, int) and not isinstance(value, bool),
        "yes or no": isinstance(value, bool),
    }[option.kind]
    if not is_right:
        raise PlanError(f"this is {_SAID[option.kind]}", path=path, key=where)
    if option.allowed and value not in option.allowed:
        raise PlanError(f"there is no “{value}”, choose from {', '.join(option.allowed)}", path=path, key=where,
                        hint=did_you_mean(value, option.allowed))  # fmt: skip
    return tuple(value) if option.kind == "texts" else value


def read_steps(tables: Any) -> tuple[Step, ...]:
    """The steps that checked tables say."""
    return tuple(
        Step(one["step"], {key: list(value) if isinstance(value, tuple) else value
                         for key, value in one.items() if key != "step"})
        for one in tables
    )  # fmt: skip


def with_step_paths(tables: Any, change: Callable[[str], str]) -> tuple[dict[str, Any], ...]:
    """The tables with every path in them changed."""
    return tuple(_with_paths(one, change) for one in tables)


def _with_paths(table: Mapping[str, Any], change: Callable[[str], str]) -> dict[str, Any]:
    changed = dict(table)
    options = STEPS[table["step"]]
    for key, value in table.items():
        option = options.get(key)
        if option is None:
            continue
        if option.is_path or (option.is_built_in_or_path and str(value).lower().endswith(".toml")):
            changed[key] = tuple(map(change, value)) if isinstance(value, tuple) else change(value)
    if table["step"] == "send":
        from boxkite.core.settings import read_settings

        named = read_settings().destinations
        changed["to"] = tuple(one if "://" in one or one in named else change(one) for one in table["to"])
    return changed


def step_schema() -> dict[str, Any]:
    """The JSON Schema of an entry of [[after]]."""
    types: dict[str, dict[str, Any]] = {
        "text": {"type": "string"}, "number": {"type": "integer"}, "yes or no": {"type": "boolean"},
        "texts": {"type": ["string", "array"], "items": {"type": "string"}},
    }  # fmt: skip
    kinds = []
    for kind, options in STEPS.items():
        properties = {
            key: {
                "description": one.help,
                **types[one.kind],
                **({"enum": list(one.allowed)} if one.allowed else {}),
            }
            for key, one in options.items()
        }
        required = ["step", *(key for key, one in options.items() if one.is_required)]
        kinds.append({"type": "object", "properties": {"step": {"const": kind}, **properties},
                      "required": required, "additionalProperties": False})  # fmt: skip
    return {"oneOf": kinds}
