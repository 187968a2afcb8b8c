"""Going on with a batch: what is missing of it, and what has changed since it was planned."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from boxkite.core.batch.packing import Packed, unpack
from boxkite.core.batch.recording import Work, versions
from boxkite.core.errors import BoxkiteError, PlanError, RecordsError, setting
from boxkite.core.files.checksum import file_checksum
from boxkite.core.files.identity import FileIdentity
from boxkite.core.files.moving import sync_folder
from boxkite.core.files.sweeping import sweep
from boxkite.core.footage.opening import current_identity
from boxkite.core.footage.source import Source
from boxkite.core.job.job import Job
from boxkite.core.notices.batches import (
    OTHER_CODECS,
    OTHER_VERSION,
    PRESET_CHANGED,
    PRESETS_UNREADABLE,
    VERIFIED_BUT_GONE,
)
from boxkite.core.notices.notice import Notice
from boxkite.core.plan.clashes import check_inside, folders_of
from boxkite.core.plan.planning import Outputs
from boxkite.core.plan.recipes import Recipes
from boxkite.core.plan.rows import Row
from boxkite.core.records.journal import Journal
from boxkite.core.records.record import BatchRecord, FileRecord
from boxkite.core.records.store import Records
from boxkite.core.shots.shot import Composition, IndexedSource, Shot

_MOST_NAMED = 3


class Rest(Struct, frozen=True):
    """The rest of a batch that was interrupted."""

    work: Work
    record: BatchRecord
    done: int
    """Files that are verified and stay as they are."""
    notices: tuple[Notice, ...]
    """Changes since it was planned."""


def rest_of(records: Records, name: str, *, accept_changes: bool = False, missing: bool = False) -> Rest:
    """Work out what is left of a batch that nobody runs, and set its journal right.

    Files that had got their name when the batch was killed count as verified if they hold what was verified. What
    was left half-made is removed. accept_changes: make files of sources that have changed. missing: make files
    again that were verified and are gone. Raises RecordsError, and PlanError for folders that have gone.
    """
    record = records.batch(name)
    packed = _unpacked(records, record)
    rows = {row.number: row for row in packed.rows}
    _check_folders(packed.rows, record)
    check_inside(folders_of(packed.rows))
    journal = Journal(records, record.name)
    finished = [
        notice for folder in sorted({file.path.parent for file in record.files}) for notice in sweep(folder)
    ]
    files = [_settled(file, journal) for file in record.files]
    notices = [*finished, *_other_versions(record), *_other_presets(packed.job, packed.rows)]
    verified = [file for file in files if file.state == "verified"]
    gone = [file for file in verified if not file.path.exists()]
    if gone and missing:
        journal.planned_again([file.number for file in gone], "it was gone")
        verified = [file for file in verified if file not in gone]
    elif gone:
        names = [file.path.name for file in gone]
        notices.append(VERIFIED_BUT_GONE(count=len(gone), names=names))
    kept = {file.number for file in verified}
    left = [file for file in files if file.number not in kept]
    refused = _refused(left, rows, accept_changes=accept_changes)
    to_make = tuple(rows[file.number] for file in left if file.number not in refused)
    work = Work(
        rows=_accepted(to_make) if accept_changes else to_make,
        threads={file.number: file.threads for file in left},
        seconds=record.seconds,
        refused=tuple((rows[number], reason) for number, reason in refused.items()),
    )
    return Rest(work, record, len(kept), tuple(notices))


def _unpacked(records: Records, record: BatchRecord) -> Packed:
    made_by = record.settings.get("version", "an earlier version")
    hint = (
        f"it was planned by Box Kite {made_by}: run its job again, with {setting('existing')} skip"
        " for what is done already"
    )
    content = records.packed_plan(record.name)
    if not content:
        raise RecordsError(f"batch {record.name} cannot be resumed", hint=hint)
    try:
        return unpack(content)
    except RecordsError as error:
        raise RecordsError(f"batch {record.name}: {error.text}", hint=hint) from None


def _check_folders(rows: Sequence[Row], record: BatchRecord) -> None:
    """A volume that is not there must not become a folder of the disk below it."""
    gone = [folder for folder in record.folders if not folder.is_dir()]
    begun = any(file.attempts for file in record.files)
    if gone and begun:
        raise PlanError(
            "this output folder is no longer there",
            path=gone[0],
            hint="connect its volume again, or make the folder again, and resume",
        )


def _settled(file: FileRecord, journal: Journal) -> FileRecord:
    """A file's record after a kill: one that had got its name, or was about to, is looked at."""
    if file.state == "ready":
        try:
            is_named = file_checksum(file.path) == file.checksum
            if is_named:  # the kill may have come before its name was on the disk
                sync_folder(file.path.parent)
        except OSError:
            is_named = False
        if is_named:
            journal.verified(
                file.number, checksum=file.checksum, size_bytes=file.size_bytes, seconds=file.seconds,
                warnings=file.warnings,
            )  # fmt: skip
            return replace(file, state="verified")
    if file.state in ("ready", "started"):
        journal.planned_again([file.number], "the batch was interrupted")
        return replace(file, state="planned")
    return file


def _refused(files: Sequence[FileRecord], rows: Mapping[int, Row], *, accept_changes: bool) -> dict[int, str]:
    """Rows that cannot be made as they were planned, by number, each with its reason."""
    sources = _Sources()
    recipes = Recipes()
    found = {}
    for file in files:
        row = rows[file.number]
        reasons = [sources.problem(source, accept_changes) for source in row.shot.footage.sources]
        if reason := next((one for one in reasons if one), ""):
            found[file.number] = reason
            continue
        try:
            same_recipe = recipes.of(row) == file.recipe
        except OSError as error:
            found[file.number] = (
                f"{error.filename or 'a file it needs'} cannot be read: {error.strerror or error}"
            )
            continue
        if not same_recipe and not accept_changes:
            found[file.number] = (
                "its watermark or look has changed since the batch was planned;"
                f" plan it again, or resume {setting('accept-changes')}"
            )
    return found


class _Sources:
    """The sources of a batch as they are now, each looked at once."""

    def __init__(self) -> None:
        self._now: dict[int, FileIdentity | str] = {}
        self._alive: list[Source] = []

    def now(self, source: Source) -> FileIdentity | str:
        """The identity of a source, or why it has none."""
        if id(source) not in self._now:
            self._alive.append(source)
            try:
                self._now[id(source)] = current_identity(source)
            except FileNotFoundError:
                self._now[id(source)] = f"its source is missing: {source.path}; restore it, then resume"
            except OSError as error:
                self._now[id(source)] = f"its source cannot be read: {source.path}: {error.strerror or error}"
        return self._now[id(source)]

    def problem(self, source: Source, accept_changes: bool) -> str:
        """Why nothing can be made of a source; empty where it is what it was, or changes are accepted."""
        if source.identity is None:
            return ""
        now = self.now(source)
        if isinstance(now, str):
            return now
        if accept_changes or not (difference := source.identity.difference(now)):
            return ""
        return (
            f"its source has changed since the batch was planned: {difference};"
            f" plan it again, or resume {setting('accept-changes')}"
        )


def _accepted(rows: Sequence[Row]) -> tuple[Row, ...]:
    """Rows whose sources are taken as they are now."""
    sources = _Sources()
    renewed: dict[int, Any] = {}

    def of_source(source: Source) -> Source:
        now = sources.now(source) if source.identity else None
        return replace(source, identity=now) if isinstance(now, FileIdentity) else source

    def once(value: Any, make: Callable[[Any], Any]) -> Any:
        if id(value) not in renewed:
            renewed[id(value)] = make(value)
        return renewed[id(value)]

    def of_footage(footage: IndexedSource) -> IndexedSource:
        sound = footage.sound and replace(footage.sound, source=once(footage.sound.source, of_source))
        composition = footage.composition and _composition_of(
            footage.composition, lambda one: once(one, of_footage)
        )
        return replace(footage, source=once(footage.source, of_source), sound=sound, composition=composition)

    def of_shot(shot: Shot) -> Shot:
        return replace(shot, footage=once(shot.footage, of_footage))

    def of_row(row: Row) -> Row:
        return replace(row, shot=once(row.shot, of_shot), parts=tuple(of_row(part) for part in row.parts))

    return tuple(of_row(row) for row in rows)


def _composition_of(
    composition: Composition, of_footage: Callable[[IndexedSource], IndexedSource]
) -> Composition:
    tracks = tuple(
        tuple(replace(layer, footage=layer.footage and of_footage(layer.footage)) for layer in track)
        for track in composition.tracks
    )
    audio = tuple(replace(one, footage=of_footage(one.footage)) for one in composition.audio)
    return Composition(tracks, audio)


def _other_versions(record: BatchRecord) -> list[Notice]:
    now = versions()
    found = []
    if record.settings.get("version") not in (None, now["version"]):
        found.append(OTHER_VERSION(planned=str(record.settings["version"]), now=now["version"]))
    if record.settings.get("codecs") not in (None, now["codecs"]):
        found.append(OTHER_CODECS())
    return found


def _other_presets(job: Job | None, rows: Sequence[Row]) -> list[Notice]:
    """Which presets are not what they were; the batch keeps to them as they were."""
    if job is None:
        return []
    used = {row.preset.name: row.preset for row in rows if not row.exact}
    try:
        outputs = Outputs(job)
        now = {preset.name: preset for _, preset in outputs.of(job.outputs)}
        for one in job.exceptions:
            now |= {preset.name: preset for _, preset in outputs.of(one.outputs)}
        changed = [name for name, preset in used.items() if now.get(name) != preset]
        return [PRESET_CHANGED(preset=name) for name in changed]
    except BoxkiteError as error:
        return [PRESETS_UNREADABLE(reason=error.text)]
