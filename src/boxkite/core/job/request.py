"""A job as it is asked for: paths, a job file among them, options over it, and single settings over both."""

from __future__ import annotations

import tomllib
from collections.abc import Mapping, Sequence
from dataclasses import fields
from pathlib import Path
from typing import Any

from msgspec import Struct

from boxkite.core.errors import PlanError, RequestError, setting
from boxkite.core.files.reading import path_from
from boxkite.core.job.file import is_job_file, read_job_file
from boxkite.core.job.job import OPTIONS, Job
from boxkite.core.job.options import JobOptions, job_from_options, options_from_tables, with_preset_changes
from boxkite.core.presets.library import list_presets, names_file
from boxkite.core.suggest import did_you_mean


class JobRequest(Struct, frozen=True):
    """A request: options and the job file they override."""

    options: JobOptions
    origin: Path | None = None
    """The job file among the paths."""
    preset_changes: Mapping[str, Any] | None = None
    """Settings of presets, as {"review.video.quality": 20} for one, {"fit": "1280x720"} for all that are named."""

    def job(self, user: str = "") -> Job:
        """The job. user: who asks, for @user. Raises RequestError where it names no footage, or has a wrong value."""
        if not self.options.get("paths"):
            raise RequestError(
                "no footage is named", hint="name files, folders, a timeline, or a job file (.toml)"
            )
        return job_from_options(self.options, origin=self.origin, changes=self.preset_changes, user=user)

    def job_on(self, paths: Sequence[Path], metadata: Sequence[Path] = (), user: str = "") -> Job:
        """The job on footage that comes from elsewhere, instead of any that it names.

        metadata: tables beside those it names.
        """
        tables = (*self.options.get("metadata"), *map(str, metadata))
        options = self.options.replaced(paths=tuple(map(str, paths)), metadata=tables)
        return job_from_options(options, origin=self.origin, changes=self.preset_changes, user=user)

    @property
    def own_paths(self) -> tuple[str, ...]:
        """The footage that it names itself."""
        return tuple(self.options.get("paths") or ())

    @property
    def as_saved(self) -> JobOptions:
        """The options with the changes to presets among them, as a job file keeps them."""
        return with_preset_changes(self.options, self.preset_changes or {})


def read_request(
    paths: Sequence[str], given: Mapping[str, Any] | None = None, settings: Sequence[str] = ()
) -> JobRequest:
    """Put a request together. given: written values of options by key, which go over those of a job file.

    settings: KEY=VALUE of options and of presets, which go over both. Raises RequestError.
    """
    files = [path_from(path) for path in paths if is_job_file(Path(path))]
    if len(files) > 1:
        raise RequestError("one job file at a time", hint=f"leave out {files[1]}")
    written = {key: tuple(one) if isinstance(one, list) else one for key, one in (given or {}).items()}
    written["paths"] = tuple(path for path in paths if not is_job_file(Path(path)))
    below = read_job_file(files[0]) if files else JobOptions()
    pairs = dict(read_setting(text) for text in settings)
    own = options_from_tables({key: value for key, value in pairs.items() if key in OPTIONS}, setting("set"))
    options = own.over(JobOptions(written).over(below))
    changes = {key: value for key, value in pairs.items() if key not in OPTIONS}
    _check_preset_settings(changes, options)
    return JobRequest(options, files[0] if files else None, changes)


def request_of_file(path: Path, settings: Sequence[str] = ()) -> JobRequest:
    """The request of a job file alone. Raises PlanError for what is none."""
    if not is_job_file(path):
        raise PlanError("this is no job file (.toml)", path=path)
    return read_request([str(path)], settings=settings)


def read_setting(text: str) -> tuple[str, Any]:
    """Read video.quality=18 into the key and a value as TOML has it; what is no TOML value is plain text.

    Raises RequestError.
    """
    key, equals, value = text.partition("=")
    if not equals or not key.strip() or not all(part.strip() for part in key.split(".")):
        example = f"as {setting('set')} video.quality=18"
        raise RequestError(f"{setting('set')} {text}: give a key and a value", hint=example)
    try:
        found: Any = tomllib.loads(f"value = {value.strip()}")["value"]
    except tomllib.TOMLDecodeError:
        found = value.strip()
    if names_file(key.strip()) and isinstance(found, str):
        found = str(path_from(found).absolute())  # wherever the job is saved, and whoever runs it
    return key.strip(), found


def _check_preset_settings(changes: Mapping[str, Any], options: JobOptions) -> None:
    """Raises RequestError for a setting that is neither an option of a job nor one of a preset."""
    from boxkite.core.presets.model import Preset

    names = [*options.get("presets", {}), *(file.name for file in list_presets())] if changes else []
    keys = [one.name for one in fields(Preset)] if changes else []
    for key, value in changes.items():
        first = key.partition(".")[0]
        if first not in names and first not in keys:
            raise RequestError(
                f"{setting('set')} {key}={value}: “{first}” is no option of a job, no preset and no setting of one",
                hint=did_you_mean(first, [*OPTIONS, *keys, *names]),
            )
