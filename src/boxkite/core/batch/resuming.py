"""Going on with a batch: what is missing of it, and what has changed since it was planned."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from boxkite.core.batch.packing import Packed, unpack
from boxkite.core.batch.recording import Work, stamp_of, versions
from boxkite.core.errors import BoxkiteError, PlanError, RecordsError
from boxkite.core.job.job import Job
from boxkite.core.plan.planning import Outputs
from boxkite.core.plan.recipes import Recipes
from boxkite.core.plan.rows import Row
from boxkite.core.records.checksum import file_checksum
from boxkite.core.records.journal import Journal
from boxkite.core.records.record import BatchRecord, FileRecord
from boxkite.core.records.store import Records
from boxkite.core.render.publishing import discard_all_of

_MOST_NAMED = 3


@dataclass(frozen=True)
class Rest:
    """What is left of a batch. done: files that are proved and stay as they are. said: what has changed since."""

    work: Work
    record: BatchRecord
    done: int
    said: tuple[str, ...]


def rest_of(records: Records, name: str, *, accept_changes: bool = False, missing: bool = False) -> Rest:
    """Work out what is left of a batch that nobody runs, and set its journal right.

    Files that had got their name when the batch was killed count as proved if they hold what was proved. What
    was left half-made is removed. accept_changes: make files of sources that have changed. missing: make files
    again that were proved and are not there any more. Raises RecordsError, and PlanError for folders that have gone.
    """
    record = records.batch(name)
    packed = _unpacked(records, record)
    rows = {row.number: row for row in packed.rows}
    _check_folders(packed.rows, record)
    journal = Journal(records, record.name)
    files = [_settled(file, journal) for file in record.files]
    said = [*_other_versions(record), *_other_presets(packed.job, packed.rows)]
    proved = [file for file in files if file.state == "proved"]
    gone = [file for file in proved if not file.path.exists()]
    if gone and missing:
        journal.planned_again([file.number for file in gone], "it was not there any more")
        proved = [file for file in proved if file not in gone]
    elif gone:
        said.append(
            f"{_named(gone)} {'was' if len(gone) == 1 else 'were'} proved and is not there any more;"
            " --missing makes it again"
        )
    kept = {file.number for file in proved}
    left = [file for file in files if file.number not in kept]
    discard_all_of(file.path for file in left)
    refused = _refused(left, rows, accept_changes=accept_changes)
    work = Work(
        rows=tuple(rows[file.number] for file in left if file.number not in refused),
        threads={file.number: file.threads for file in left},
        seconds=record.seconds,
        refused=tuple((rows[number], reason) for number, reason in refused.items()),
    )
    return Rest(work, record, len(kept), tuple(said))


def _unpacked(records: Records, record: BatchRecord) -> Packed:
    made_by = record.settings.get("version", "an earlier version")
    hint = f"it was planned by Box Kite {made_by}: run its job anew, with --existing skip for what is done already"
    content = records.packed_plan(record.name)
    if not content:
        raise RecordsError(f"batch {record.name} cannot be gone on with", hint=hint)
    try:
        return unpack(content)
    except RecordsError as error:
        raise RecordsError(f"batch {record.name}: {error}", hint=hint) from None


def _check_folders(rows: Sequence[Row], record: BatchRecord) -> None:
    """A volume that is not there must not become a folder of the disk below it."""
    gone = [folder for folder in record.folders if not folder.is_dir()]
    begun = any(file.attempts for file in record.files)
    if gone and begun:
        raise PlanError(
            "this output folder is not there any more",
            path=gone[0],
            hint="connect its volume again, or make the folder anew, and resume",
        )


def _settled(file: FileRecord, journal: Journal) -> FileRecord:
    """A file's record after a kill: one that had got its name, or was about to, is looked at."""
    if file.state == "ready":
        try:
            is_named = file_checksum(file.path) == file.checksum
        except OSError:
            is_named = False
        if is_named:
            journal.proved(
                file.number, checksum=file.checksum, size_bytes=file.size_bytes, seconds=file.seconds,
                warnings=file.warnings,
            )  # fmt: skip
            return replace(file, state="proved")
    if file.state in ("ready", "started"):
        journal.planned_again([file.number], "the batch was interrupted")
        return replace(file, state="planned")
    return file


def _refused(files: Sequence[FileRecord], rows: Mapping[int, Row], *, accept_changes: bool) -> dict[int, str]:
    """Rows that cannot be made as they were planned, by number, each with its reason."""
    stamps: dict[str, str] = {}
    recipes = Recipes()
    found = {}
    for file in files:
        stamp = stamp_of(file.source, stamps)
        if not stamp:
            found[file.number] = (
                f"its source is not there: {file.source}; bring it back, then go on with boxkite resume"
            )
            continue
        try:
            same_recipe = recipes.of(rows[file.number]) == file.recipe
        except OSError as error:
            found[file.number] = (
                f"{error.filename or 'a file it needs'} cannot be read: {error.strerror or error}"
            )
            continue
        changed = "its source" if stamp != file.stamp else "" if same_recipe else "its watermark or look"
        if changed and not accept_changes:
            found[file.number] = (
                f"{changed} has changed since the batch was planned; plan it anew, or resume --accept-changes"
            )
    return found


def _other_versions(record: BatchRecord) -> list[str]:
    now = versions()
    said = []
    if record.settings.get("version") not in (None, now["version"]):
        said.append(
            f"it was planned by Box Kite {record.settings['version']}, this is {now['version']}:"
            " what is made now may differ from what is there"
        )
    if record.settings.get("codecs") not in (None, now["codecs"]):
        said.append(
            "the codec libraries are of other versions than when it began: what is made now may differ"
        )
    return said


def _other_presets(job: Job | None, rows: Sequence[Row]) -> list[str]:
    """Which presets are not what they were; the batch keeps to them as they were."""
    if job is None:
        return []
    used = {row.preset.name: row.preset for row in rows if not row.exact}
    said = []
    try:
        outputs = Outputs(job)
        now = {preset.name: preset for _, preset in outputs.of(job.outputs)}
        for one in job.exceptions:
            now |= {preset.name: preset for _, preset in outputs.of(one.outputs)}
        changed = [name for name, preset in used.items() if now.get(name) != preset]
        said += [f"preset {name} has changed since: the batch goes on with it as it was" for name in changed]
    except BoxkiteError as error:
        said.append(
            f"its presets cannot be read any more ({error}): the batch goes on with them as they were"
        )
    return said


def _named(files: Sequence[FileRecord]) -> str:
    names = ", ".join(file.path.name for file in files[:_MOST_NAMED])
    return names + (f" and {len(files) - _MOST_NAMED} more" if len(files) > _MOST_NAMED else "")
