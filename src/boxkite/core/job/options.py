"""The options of a job as they are written, on the command line, in a job file or in the library."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from pathlib import Path
from typing import Any

from msgspec import Struct, field
from msgspec.structs import force_setattr

from boxkite.core.errors import PlanError
from boxkite.core.job.after import check_steps
from boxkite.core.job.job import FIELD_OF, OF_OTHERWISE, OPTIONS, Job
from boxkite.core.presets.inheriting import BASED_ON
from boxkite.core.presets.library import PresetFile, Shelf
from boxkite.core.suggest import did_you_mean


class JobOptions(Struct, frozen=True):
    """Options that are written, by key; what is not written is not among them."""

    written: Mapping[str, Any] = field(default_factory=dict)
    """Texts, whole numbers, yes or no, tuples of texts; presets and otherwise: tables."""

    def __post_init__(self) -> None:
        kept = {key: value for key, value in self.written.items() if value not in (None, (), {}, [])}
        force_setattr(self, "written", {key: kept[key] for key in OPTIONS if key in kept})

    def get(self, key: str, default: Any = ()) -> Any:
        """The written value of an option, or the default."""
        return self.written.get(key, default)

    def over(self, below: JobOptions) -> JobOptions:
        """These options, and those of `below` that are not among them; presets of both."""
        presets = {**below.get("presets", {}), **self.get("presets", {})}
        return JobOptions({**below.written, **self.written, "presets": presets})

    def replaced(self, **changes: Any) -> JobOptions:
        """The same but for some options, by key with _ for -."""
        return JobOptions(
            {**self.written, **{key.replace("_", "-"): value for key, value in changes.items()}}
        )


def options_from_tables(tables: Mapping[str, Any], path: Path | str) -> JobOptions:
    """The options that tables say. path: where they stand, for messages. Raises PlanError with the key."""
    written: dict[str, Any] = {}
    for key, value in tables.items():
        if key not in OPTIONS:
            raise PlanError(f"there is no key “{key}”", path=path, hint=did_you_mean(key, OPTIONS) or
                            f"keys: {', '.join(OPTIONS)}")  # fmt: skip
        if key == "presets":
            written[key] = _presets(value, path)
        elif key == "otherwise":
            written[key] = _otherwise(value, path)
        elif key == "after":
            written[key] = check_steps(value, path)
        else:
            written[key] = OPTIONS[key].check_kind(value, path)
    return JobOptions(written)


def _presets(value: Any, path: Path | str) -> dict[str, Mapping[str, Any]]:
    if not isinstance(value, Mapping):
        raise PlanError("presets are tables, as [presets.mill-web]", path=path, key="presets")
    for name, tables in value.items():
        if not isinstance(tables, Mapping):
            raise PlanError("a preset is a table, as [presets.mill-web]", path=path, key=f"presets.{name}")
    return dict(value)


def _otherwise(value: Any, path: Path | str) -> tuple[dict[str, Any], ...]:
    if not isinstance(value, list) or not all(isinstance(one, Mapping) for one in value):
        raise PlanError("these are tables, as [[otherwise]]", path=path, key="otherwise")
    found = []
    for one in value:
        for key in one:
            if key not in OF_OTHERWISE:
                raise PlanError(f"there is no key “{key}” in [[otherwise]]", path=path,
                                hint=did_you_mean(key, OF_OTHERWISE) or f"keys: {', '.join(OF_OTHERWISE)}")  # fmt: skip
        found.append({key: OPTIONS[key].check_kind(inner, path) for key, inner in one.items()})
    return tuple(found)


def job_from_options(
    options: JobOptions,
    *,
    origin: Path | None = None,
    changes: Mapping[str, Any] | None = None,
    user: str = "",
    now: datetime | None = None,
) -> Job:
    """The job that options describe. origin: the job file its presets stand in. changes: to presets, see Shelf.

    Raises a RequestError for values that are none.
    """
    values = {
        FIELD_OF[key]: OPTIONS[key].value_of(written)
        for key, written in options.written.items()
        if key != "presets"
    }
    own = tuple(
        PresetFile(name, origin or Path("job"), built_in=False, tables=tables)
        for name, tables in options.get("presets", {}).items()
    )
    needed: dict[str, Any] = {"paths": (), "outputs": (), "user": user}
    if now:
        needed["now"] = now
    return Job(**needed | values | {"presets": Shelf(own, changes or {})})


def with_preset_changes(options: JobOptions, changes: Mapping[str, Any]) -> JobOptions:
    """The options with changes to presets written into presets of the job's own, as a job file keeps them.

    changes: by key, as {"review.video.quality": 20} for one preset, {"fit": "1280x720"} for all that are named.
    """
    if not changes:
        return options
    presets = {name: dict(tables) for name, tables in options.get("presets", {}).items()}
    named = {text.partition(":")[0] for text in options.get("to")}
    for key, value in changes.items():
        first, _, rest = key.partition(".")
        for name in [first] if first in named else sorted(named):
            tables = presets.setdefault(name, {BASED_ON: name})
            *above, last = (rest if first in named else key).split(".")
            for table in above:
                tables = tables.setdefault(table, {})
            tables[last] = value
    return options.replaced(presets=presets)
