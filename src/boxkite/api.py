"""Box Kite as a library: what `import boxkite` gives.

A job holds the request, with the keys of a job file. `plan` works out every file of it and writes nothing; `run`
makes them and `resume` finishes what was stopped; `inspect` tells what footage holds. Whatever is refused is a
BoxkiteError whose text says what is wrong, where, and what to do.
"""

from __future__ import annotations

import contextlib
import os
from collections.abc import Callable, Generator, Iterable, Mapping, Sequence
from pathlib import Path
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from boxkite.core.batch.events import Event, FileEnded
from boxkite.core.batch.executors.local import LocalExecutor
from boxkite.core.batch.recording import Batch, resume_batch, run_recorded
from boxkite.core.batch.resuming import rest_of
from boxkite.core.errors import (
    BoxkiteError,
    ChangedError,
    DamagedError,
    FootageError,
    LookError,
    MarksError,
    PatternError,
    PlanError,
    PresetError,
    RateError,
    RecordsError,
    RenderError,
    RequestError,
    TimecodeError,
    VerificationError,
    spoken,
)
from boxkite.core.files.reading import path_from
from boxkite.core.footage.find import find_sources
from boxkite.core.footage.source import Findings, Source
from boxkite.core.job.after import check_steps, read_steps
from boxkite.core.job.file import read_job_file
from boxkite.core.job.job import Job as _CoreJob
from boxkite.core.job.options import JobOptions, job_from_options, options_from_tables
from boxkite.core.notices.batches import STEP_FAILED
from boxkite.core.notices.notice import Notice
from boxkite.core.plan.planning import make_plan
from boxkite.core.plan.rows import Plan, Row
from boxkite.core.records.batch_lock import BatchLock
from boxkite.core.records.overview import unfinished
from boxkite.core.records.steps import has_steps_left
from boxkite.core.records.store import Records

__all__ = [
    "BoxkiteError",
    "ChangedError",
    "DamagedError",
    "Findings",
    "FootageError",
    "Job",
    "LookError",
    "MadeBatch",
    "MadeFile",
    "MarksError",
    "Notice",
    "Output",
    "PatternError",
    "Plan",
    "PlanError",
    "PresetError",
    "RateError",
    "RecordsError",
    "RenderError",
    "RequestError",
    "Row",
    "Source",
    "TimecodeError",
    "VerificationError",
    "inspect",
    "plan",
    "resume",
    "run",
]

PathLike = str | os.PathLike[str]


class Output(Struct, frozen=True):
    """An output: a preset, by its name or the path of its file, and the folder its files go to."""

    preset: str
    folder: PathLike


class Job:
    """A job: footage, where to cut, which shots to keep, names and outputs."""

    def __init__(
        self,
        paths: PathLike | Iterable[PathLike],
        outputs: Output | Iterable[Output] = (),
        *,
        presets: Mapping[str, Any] | None = None,
        **options: Any,
    ) -> None:
        """paths: files, folders, timelines, or one job file (.toml), which the other options override.

        presets: changes to presets, as {"review.video.quality": 20}. options: any key of a job file, with _ for -, as
        marks, names, by, handles, only, existing, except_, in_, out. A path may be a text. Raises RequestError for
        what does not hold, with what is allowed.
        """
        listed = [paths] if isinstance(paths, str | os.PathLike) else list(paths)
        texts = [os.fspath(path) for path in listed]
        sent = [outputs] if isinstance(outputs, Output) else list(outputs)
        tables = {name.rstrip("_").replace("_", "-"): _plain(value) for name, value in options.items()}
        tables["to"] = [f"{one.preset}:{os.fspath(one.folder)}" for one in sent]
        file = path_from(texts[0]) if len(texts) == 1 and texts[0].lower().endswith(".toml") else None
        if file is None:
            tables["paths"] = texts
        given = options_from_tables({key: value for key, value in tables.items() if value != []}, "Job")
        self._options = given.over(read_job_file(file) if file else JobOptions())
        self._core = job_from_options(self._options, origin=file, changes=dict(presets or {}))

    @property
    def options(self) -> dict[str, Any]:
        """The options that were given, by their keys in a job file."""
        return dict(self._options.written)

    @property
    def core(self) -> _CoreJob:
        """The job as the planning takes it."""
        return self._core


def _plain(value: Any) -> Any:
    """A value as a job file has it: paths as texts, several as a list."""
    if isinstance(value, os.PathLike):
        return os.fspath(value)
    if isinstance(value, tuple | list | set | frozenset):
        return [_plain(one) for one in value]
    return value


class MadeFile(Struct, frozen=True):
    """One file of a batch that has ended. frames, size_bytes, checksum (XXH3, 128 bits): of one that is verified."""

    path: Path
    frames: int = 0
    size_bytes: int = 0
    checksum: str = ""
    failure: str = ""
    """Why there is none; empty for one that is verified."""
    warnings: tuple[Notice, ...] = ()


class MadeBatch(Struct, frozen=True):
    """A batch that has ended."""

    name: str
    """By which it is resumed; empty where no record could be kept."""
    files: tuple[MadeFile, ...]
    not_begun: int = 0
    """How many files were not begun, as their disk had no room."""
    notices: tuple[Notice, ...] = ()
    """The notices that came up while it ran."""

    @property
    def is_complete(self) -> bool:
        """Whether every file that was to be made is there and verified."""
        return not self.not_begun and not any(file.failure for file in self.files)


def inspect(paths: PathLike | Iterable[PathLike]) -> Findings:
    """Find every source under some paths, the files that cannot be read, and the folders that cannot be entered."""
    listed = [paths] if isinstance(paths, str | os.PathLike) else list(paths)
    return find_sources([path_from(os.fspath(path)) for path in listed])


def plan(job: Job, progress: Callable[[str], None] = lambda label: None) -> Plan:
    """Work out every file of a job; nothing is written. progress gets what is being read.

    Raises RequestError for what is wrong with the job: sources, marks, names that clash or are taken, folders.
    """
    return make_plan(job.core, progress)


def run(
    plan: Plan,
    *,
    workers: int | None = None,
    manifest: str = "",
    after: Sequence[Mapping[str, Any]] = (),
    progress: Callable[[Event], None] = lambda event: None,
) -> MadeBatch:
    """Make the files of a plan and verify each before it gets its name. A file that fails does not stop the others.

    workers: shots made at the same time, None for one per core. manifest: its form, as "mhl" or "md5", to be written
    once all files are made, here or when the batch is resumed; after: more steps, as [[after]] of a job file has them.
    progress gets each event as it happens. Raises PlanError, before anything is made, for a folder that cannot be
    written to, or a step that cannot be done.
    """
    steps = read_steps(check_steps(list(after), "after"))
    if steps:
        from boxkite.core.handover.after.planning import plan_steps

        plan_steps(steps)
    batch = Batch(manifest=manifest, after=steps)
    with LocalExecutor(workers) as executor:
        made = _made(batch, run_recorded(plan, executor, batch), progress)
    with (
        Records() as records,
        BatchLock(records.folder, batch.name) if batch.name else contextlib.nullcontext(),
    ):
        return _with_steps(made, batch.name)


def resume(
    name: str = "",
    *,
    workers: int | None = None,
    accept_changes: bool = False,
    missing: bool = False,
    progress: Callable[[Event], None] = lambda event: None,
) -> MadeBatch:
    """Make what is missing of a batch that was stopped, killed or ran out of room.

    name: of the batch; empty for the last that is unfinished. accept_changes: make files of sources that have changed.
    missing: make files again that were verified and are gone. Raises RecordsError for a batch that is not there, is
    being run, or cannot be resumed.
    """
    with Records() as records:
        if not name:
            found = unfinished(records)
            if not found:
                raise RecordsError("no batch is unfinished")
            name = found[0].name
        name = records.batch(name, with_files=False).name
        with BatchLock(records.folder, name):
            rest = rest_of(records, name, accept_changes=accept_changes, missing=missing)
            batch = Batch(name=name, notices=list(rest.notices))
            with LocalExecutor(workers or rest.record.workers) as executor:
                executor.prepare(rest.work.rows)
                made = _made(batch, resume_batch(records, rest.work, executor, batch), progress)
            return _with_steps(made, name)


def _with_steps(made: MadeBatch, name: str) -> MadeBatch:
    """Do the steps that follow; one that fails is among the notices."""
    if not name:
        return made
    with Records() as records:
        if not has_steps_left(records, name):
            return made
    from boxkite.core.handover.after.running import run_steps  # loads all that steps need

    failed = [
        STEP_FAILED(kind=one.kind, reason=one.outcome) for one in run_steps(name, "") if one.state == "failed"
    ]
    return replace(made, notices=(*made.notices, *failed))


def _made(batch: Batch, events: Generator[Event, None, None], progress: Callable[[Event], None]) -> MadeBatch:
    """Follow a batch to its end."""
    ended: list[FileEnded] = []
    with contextlib.closing(events):
        for event in events:
            progress(event)
            if isinstance(event, FileEnded):
                ended.append(event)
    notices = [*([batch.problem] if batch.problem else []), *batch.notices]
    return MadeBatch(
        batch.name,
        tuple(_file(event) for event in sorted(ended, key=lambda event: event.row.number)),
        len(batch.out_of_space.rows) if batch.out_of_space else 0,
        tuple(notices),
    )


def _file(event: FileEnded) -> MadeFile:
    result = event.result
    warnings = result.warnings
    if result.verification is None:
        return MadeFile(event.row.path, failure=spoken(result.failure), warnings=warnings)
    verification = result.verification
    return MadeFile(
        event.row.path, verification.frames, verification.size_bytes, verification.checksum, warnings=warnings
    )
