"""Renaming many files as one step: all of them or none, on record, and undone at will."""

from __future__ import annotations

import json
import os
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import asdict, dataclass, replace
from datetime import datetime
from pathlib import Path

from boxkite.core.errors import PlanError, RecordsError
from boxkite.core.records.checksum import file_stamp
from boxkite.core.records.store import state_folder
from boxkite.core.renaming.tables import TableChange, rename_in_tables, undo_tables

_DOING, _PLACING, _DONE, _UNDONE = "leaving", "placing", "done", "undone"


@dataclass(frozen=True)
class RenameRecord:
    """One renaming. moves: (old, the hidden name in between, new, size and time of change) of every file.

    names: by each name in tables, the new one. tables: those that were kept in step.
    """

    name: str
    state: str
    moves: tuple[tuple[str, str, str, str], ...]
    names: Mapping[str, str]
    tables: tuple[TableChange, ...] = ()


def records_folder() -> Path:
    """Where renamings are on record, one file each."""
    return state_folder() / "renames"


def rename(
    moves: Iterable[tuple[Path, Path]], names: Mapping[str, str], tables: Sequence[Path]
) -> RenameRecord:
    """Give files their new names, and tables that name them too; whatever fails, all names are as before.

    Files pass through a hidden name in their folder, so that they may swap names. Raises PlanError when a file
    cannot be renamed or an earlier renaming was cut short, RecordsError when no record can be kept.
    """
    if unfinished := [one for one in _records() if one.state in (_DOING, _PLACING)]:
        raise PlanError(
            f"an earlier renaming was cut short ({unfinished[0].name})",
            hint=f"boxkite rename --undo {unfinished[0].name} puts every name back as it was",
        )
    name = _new_name()
    planned = tuple(
        (str(old.absolute()), str(old.absolute().with_name(f".boxkite-{name}-{number}")), str(new.absolute()),
         file_stamp(old))
        for number, (old, new) in enumerate(moves) if old != new
    )  # fmt: skip
    record = RenameRecord(name, _DOING, planned, dict(names))
    _keep(record)
    try:
        for old, between, _, _ in planned:
            _move(old, between)
        record = replace(record, state=_PLACING)
        _keep(record)
        for _, between, new, _ in planned:
            _move(between, new)
        changed = rename_in_tables(tables, names)
    except BaseException as error:
        _put_back(record)
        _keep(replace(record, state=_UNDONE))
        if isinstance(error, OSError):
            raise PlanError(
                f"it cannot be renamed: {error.strerror or error}; every name is as it was",
                path=error.filename,
            ) from None
        raise
    record = replace(record, state=_DONE, tables=changed)
    _keep(record)
    return record


def undo(name: str | None = None) -> RenameRecord:
    """Give back the old names of a renaming, by its name; None for the last that stands.

    Raises RecordsError for one that is not there, PlanError when a file is gone, was changed, or its old name is
    taken; nothing is renamed then.
    """
    standing = [one for one in _records() if one.state != _UNDONE]
    record = next((one for one in reversed(standing) if name in (None, one.name)), None)
    if record is None:
        known = ", ".join(one.name for one in standing[-5:])
        what = f"no renaming “{name}” stands" if name else "there is nothing to undo"
        raise RecordsError(what, hint=f"there are: {known}" if known else "none was done on this machine")
    if record.state == _DONE:
        _check_undo(record)
    _put_back(record)
    undo_tables(record.tables, record.names)
    record = replace(record, state=_UNDONE)
    _keep(record)
    return record


def _check_undo(record: RenameRecord) -> None:
    problems = []
    leaving = {new for _, _, new, _ in record.moves}
    for old, _, new, stamp in record.moves:
        path = Path(new)
        if not path.exists():
            problems.append(f"{new} is not there any more")
        elif file_stamp(path) != stamp:
            problems.append(f"{new} has been changed since")
        elif old not in leaving and Path(old).exists() and not Path(old).samefile(path):
            problems.append(f"{old} is there again")
    if problems:
        raise PlanError(
            f"{record.name} cannot be undone as a whole; nothing was renamed", details=problems[:40]
        )


def _put_back(record: RenameRecord) -> None:
    """Give every file its old name, wherever it is by now.

    No file is placed at its new name before all of them have left their old ones. So until the record says that
    they are being placed, a file that is not in between is at its old name, and from then on at its new one.
    """
    placing = record.state != _DOING
    for _, between, new, _ in record.moves:
        if not placing or not _is_there(new):
            continue
        if not _is_there(between):
            _move(new, between)
        elif Path(new).samefile(between):
            Path(new).unlink()  # killed between the two steps of a move
    for old, between, _, _ in record.moves:
        if not _is_there(between):
            continue
        if _is_there(old) and Path(old).samefile(between):
            Path(between).unlink()
        else:
            _move(between, old)


def _is_there(path: str) -> bool:
    return os.path.lexists(path)


def _move(old: str, new: str) -> None:
    """Rename one file, never over another. Raises OSError."""
    try:
        os.link(old, new, follow_symlinks=False)
        Path(old).unlink()
    except FileExistsError:
        raise
    except OSError:
        # Volumes without hard links: the check and the rename are two steps there.
        if _is_there(new) and not Path(new).samefile(old):
            raise FileExistsError(17, "there is a file of that name", new) from None
        Path(old).rename(new)


def _new_name() -> str:
    day = f"{datetime.now():%Y-%m-%d}"
    numbers = [int(one.name.rpartition(".")[2]) for one in _records() if one.name.startswith(f"{day}.")]
    return f"{day}.{max(numbers, default=0) + 1}"


def _records() -> list[RenameRecord]:
    """All renamings on record, the oldest first. Raises RecordsError."""
    found = []
    folder = records_folder()
    for path in folder.glob("*.json") if folder.is_dir() else []:
        try:
            values = json.loads(path.read_text(encoding="ascii"))
            tables = tuple(TableChange(**one) for one in values.pop("tables"))
            moves = tuple((old, between, new, stamp) for old, between, new, stamp in values.pop("moves"))
            found.append(RenameRecord(**values, moves=moves, tables=tables))
        except (OSError, ValueError, TypeError, KeyError) as error:
            raise RecordsError(f"the record of a renaming cannot be read: {error}", path=path) from None
    return sorted(found, key=lambda one: (one.name.partition(".")[0], int(one.name.rpartition(".")[2])))


def _keep(record: RenameRecord) -> None:
    """Write the record so that it is on the disk before the next step."""
    folder = records_folder()
    path = folder / f"{record.name}.json"
    partial = folder / f".{record.name}.{os.getpid()}"
    try:
        folder.mkdir(parents=True, exist_ok=True)
        with partial.open("w", encoding="ascii") as file:
            json.dump(asdict(record), file)
            file.flush()
            os.fsync(file.fileno())
        partial.replace(path)
    except OSError as error:
        raise RecordsError(
            f"the renaming cannot be kept on record: {error.strerror or error}; nothing was renamed",
            path=folder,
        ) from None
