"""The record of a batch as one file, for another machine: its files, its plan, its log and what was made of it."""

from __future__ import annotations

import base64
import json
from collections.abc import Callable
from datetime import datetime
from pathlib import Path
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from boxkite.core.batch.packing import pack, unpack
from boxkite.core.errors import PlanError, RecordsError
from boxkite.core.files.document import DocumentError, read_document, write_document
from boxkite.core.files.reading import read_bytes
from boxkite.core.files.writing import create_file
from boxkite.core.job.after import with_step_paths
from boxkite.core.records.batch_lock import is_held
from boxkite.core.records.handovers import Handover, handovers_of
from boxkite.core.records.journal import Journal
from boxkite.core.records.record import BatchRecord, Entry, FileRecord
from boxkite.core.records.steps import StepRecord, steps_of
from boxkite.core.records.store import Records
from boxkite.core.settings import mapped, read_settings, unmapped

VERSION = 1
_MOST_BYTES = 1 << 30
_NOT_MOVED = ("command_line", "asked")
"""Settings of a batch that tell how it was asked for: they may name what only its own machine may know."""


class SavedBatch(Struct, frozen=True):
    """All that is on record of a batch."""

    batch: BatchRecord
    entries: tuple[Entry, ...]
    handovers: tuple[Handover, ...]
    steps: tuple[StepRecord, ...]
    plan: str
    """The packed plan in base 64; empty where none is kept."""


def save_batch(records: Records, name: str, into: Path, *, machine: str = "") -> str:
    """Write the record of a batch to a new file; the batch's name.

    machine: that it is for, whose names for folders are written by the rules of the settings. Raises RecordsError for a
    batch that is being run, PlanError where the file is there already.
    """
    batch = records.batch(name)
    if is_held(records.folder, batch.name):
        raise RecordsError(f"batch {batch.name} is being run", hint="save it when it has ended")
    rules = read_settings().paths
    change: Callable[[str], str] = (lambda path: mapped(path, rules, machine)) if machine else str
    settings = {key: value for key, value in batch.settings.items() if key not in _NOT_MOVED}
    saved = SavedBatch(
        replace(batch, settings=settings, process=0, stop=""),
        tuple(entry for _, entry in Journal(records, batch.name).entries()),
        tuple(handovers_of(records, batch.name)),
        tuple(steps_of(records, batch.name)),
        base64.b64encode(records.packed_plan(batch.name)).decode("ascii"),
    )
    content = write_document(_with_paths(saved, change), SavedBatch, VERSION)
    try:
        into.parent.mkdir(parents=True, exist_ok=True)
        create_file(into, content)
    except FileExistsError:
        raise PlanError(
            "it exists already; nothing was overwritten", path=into, hint="name another"
        ) from None
    except OSError as error:
        raise PlanError(
            f"it cannot be written: {(error.strerror or str(error)).lower()}", path=into
        ) from None
    return batch.name


def load_batch(records: Records, path: Path, *, name: str = "") -> tuple[str, bool]:
    """Take the record of a batch in: one that was saved, or what status prints as JSON.

    name: what it is called here; else as before, with its machine where that name is taken. Folders are named as they
    are called here, by the rules of the settings. Returns its name and whether it was taken in; a batch that is on
    record already is not, twice. Raises RecordsError for a file that is none.
    """
    saved = _read(path)
    rules, machine = read_settings().paths, saved.batch.machine
    saved = _with_paths(saved, lambda text: unmapped(text, rules, machine))
    known = records.ask("select name, machine, started from batch")
    begun = (saved.batch.machine, saved.batch.started)
    for batch, made_on, started in known:
        if (made_on, datetime.fromisoformat(started)) == begun:
            return batch, False
    names = {batch for batch, *_ in known}
    wanted = name or saved.batch.name
    if wanted in names and not name:
        wanted = f"{saved.batch.machine or 'other'}-{saved.batch.name}"
    if wanted in names:
        raise RecordsError(f"there is a batch “{wanted}” already", hint="give it another name")
    _store(records, wanted, saved)
    return wanted, True


def _read(path: Path) -> SavedBatch:
    try:
        content = read_bytes(path, _MOST_BYTES)
    except OSError as error:
        raise RecordsError(f"it cannot be read: {error.strerror or error}", path=path) from None
    try:
        plain = json.loads(content)
        if isinstance(plain, dict) and {"batch", "files", "machine"} <= plain.keys():
            return _of_status(plain)
        return read_document(content, SavedBatch, VERSION)
    except DocumentError as error:
        raise RecordsError(f"this is no saved batch: {error}", path=path) from None
    except (ValueError, KeyError, TypeError, RecursionError):
        raise RecordsError("this is no saved batch, and not what status prints as JSON", path=path) from None


def _of_status(plain: dict[str, Any]) -> SavedBatch:
    """A batch by what status tells of it: enough to verify and to send its files, not to make more of them."""
    files = tuple(
        FileRecord(
            int(one["number"]), Path(str(one["path"])), str(one["name"]), Path(str(one["source"])), "",
            int(one["in_frame"]), int(one["out_frame"]), str(one["preset"]), "", marker=str(one["marker"] or ""),
            clip=str(one["clip"] or ""), state=str(one["state"]), checksum=str(one["checksum"] or ""),
            size_bytes=int(one["size_bytes"]), frames=int(one["frames"]), frames_done=int(one["frames_done"]),
            started=str(one["started"] or ""), ended=str(one["ended"] or ""), failure=str(one["failure"] or ""),
        )
        for one in plain["files"]
    )  # fmt: skip
    batch = BatchRecord(
        str(plain["batch"]), datetime.fromisoformat(str(plain["started"])), str(plain["machine"]), "", None, files,
        seconds=float(plain["seconds"]), folders=tuple(Path(str(one)) for one in plain["folders"]),
    )  # fmt: skip
    return SavedBatch(batch, (), (), (), "")


def _with_paths(saved: SavedBatch, change: Callable[[str], str]) -> SavedBatch:
    """The same with every path in it changed, those in the plan too."""

    def changed(path: Path) -> Path:
        return Path(change(str(path)))

    files = tuple(
        replace(one, path=changed(one.path), source=changed(one.source),
                partial=changed(one.partial) if one.partial else None)
        for one in saved.batch.files
    )  # fmt: skip
    batch = replace(saved.batch, files=files, folders=tuple(map(changed, saved.batch.folders)))
    handovers = tuple(replace(one, path=changed(one.path) if one.path else None) for one in saved.handovers)
    plan = base64.b64decode(saved.plan, validate=True)
    if plan:
        plan = pack(unpack(plan, lambda text: Path(change(text))))
    return SavedBatch(
        batch, saved.entries, handovers, tuple(_step_with_paths(one, change) for one in saved.steps),
        base64.b64encode(plan).decode("ascii"),
    )  # fmt: skip


def _step_with_paths(step: StepRecord, change: Callable[[str], str]) -> StepRecord:
    table = {key: tuple(value) if isinstance(value, list) else value for key, value in step.options.items()}
    (changed,) = with_step_paths([{"step": step.kind, **table}], change)
    options = {
        key: list(value) if isinstance(value, tuple) else value
        for key, value in changed.items()
        if key != "step"
    }
    return replace(step, options=options, paths=tuple(map(change, step.paths)))


def _store(records: Records, name: str, saved: SavedBatch) -> None:
    """Note it in one step."""
    records.take_in(
        name, saved.batch, entries=saved.entries, packed_plan=base64.b64decode(saved.plan),
        handovers=[(one.at, one.who, one.kind, one.path, one.note) for one in saved.handovers],
        steps=[(one.number, one.kind, json.dumps(one.options), one.state, json.dumps(one.paths), one.outcome, one.at)
               for one in saved.steps],
    )  # fmt: skip
