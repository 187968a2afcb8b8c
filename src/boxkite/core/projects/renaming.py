"""Renaming many files as one step: all of them or none, on record, and undone at will.

The record is on the disk before the first name is changed, and holds all that is needed to go back from any state:
where each file was, under which hidden name it passes, what it is, and what each table held. So whoever comes next
after a kill (the next renaming, an undo, the status) gives every file its old name, wherever it is by then.
"""

from __future__ import annotations

import contextlib
import os
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from datetime import datetime
from functools import partial
from pathlib import Path
from typing import Literal

from filelock import FileLock, Timeout
from msgspec import Struct
from msgspec.structs import replace

from boxkite.core.errors import BoxkiteError, PlanError, RecordsError
from boxkite.core.files.document import DocumentError, read_document, write_document
from boxkite.core.files.moving import move, sync_folder
from boxkite.core.files.reading import read_bytes
from boxkite.core.files.volumes import has_stable_inodes
from boxkite.core.files.writing import create_file, replace_file
from boxkite.core.notices.notice import Notice
from boxkite.core.notices.projects import (
    NOT_RENAMED_BACK,
    OLD_NAME_TAKEN,
    RENAMING_UNDONE,
    RENAMINGS_UNREADABLE,
)
from boxkite.core.projects.renamed_tables import TableChange, plan_tables, undo_table, write_table
from boxkite.core.projects.unfinished import renames_folder

State = Literal["begun", "done", "undoing", "undone"]
VERSION = 1
_MOST_BYTES = 1 << 28
_MOST_KEPT = 1000
_LOCK_SECONDS = 2.0


class Move(Struct, frozen=True):
    """One file."""

    old: Path
    between: Path
    new: Path
    """Its path before, on the way and after. The rest tells it from any other file."""
    size_bytes: int
    modified_ns: int
    inode: int
    """0 where the volume makes inodes up."""

    def is_at(self, path: Path) -> bool:
        """Whether the file lies there."""
        try:
            found = path.lstat()
        except OSError:
            return False
        if self.inode:
            return found.st_ino == self.inode
        return (found.st_size, found.st_mtime_ns) == (self.size_bytes, self.modified_ns)

    def is_unchanged_at(self, path: Path) -> bool:
        """Whether it lies there and nobody has written to it."""
        found = path.lstat()
        return (found.st_size, found.st_mtime_ns) == (self.size_bytes, self.modified_ns)


class RenameRecord(Struct, frozen=True):
    """One renaming."""

    name: str
    order: int
    """Counts renamings, whatever the clock says."""
    state: State
    moves: tuple[Move, ...]
    names: Mapping[str, str]
    """By each name in tables, the new one."""
    tables: tuple[TableChange, ...] = ()
    """Tables that were updated."""

    @property
    def was_cut_short(self) -> bool:
        """Whether it stopped on its way, and is going to be undone."""
        return self.state in ("begun", "undoing")


def rename(
    moves: Iterable[tuple[Path, Path]], names: Mapping[str, str], tables: Sequence[Path]
) -> tuple[RenameRecord, list[Notice]]:
    """Give files their new names, and tables that name them too; whatever fails, all names are as before.

    Files pass through a hidden name in their folder, so that they may swap names. A renaming that was interrupted is
    undone first, of which there is a notice. Raises PlanError when a file cannot be renamed, RecordsError when no
    record can be kept, MarksError for a table that cannot be read.
    """
    with _alone():
        notices = _undo_those_cut_short()
        known = _records()
        name = _new_name(known)
        record = RenameRecord(
            name,
            max((one.order for one in known), default=0) + 1,
            "begun",
            tuple(
                _move_of(old.absolute(), new.absolute(), name, number)
                for number, (old, new) in enumerate(moves)
                if old != new
            ),
            dict(names),
        )
        with _tables_locked(tables):
            record = replace(record, tables=plan_tables(tables, names))
            _keep(record, create_file)
            try:
                _forward(record)
                record = replace(record, state="done")
                _keep(record, replace_file)
            except BaseException as error:
                problems = _back(record)
                if isinstance(error, OSError):
                    left = "; ".join(one.marked for one in problems) or "every name is as it was"
                    raise PlanError(
                        f"it cannot be renamed: {error.strerror or error}; {left}", path=error.filename
                    ) from None
                raise
    return record, notices


def undo(name: str | None = None) -> tuple[RenameRecord, list[Notice]]:
    """Give back the old names of a renaming, by its name; None for the last that stands. Also notices of problems.

    One that was interrupted is undone from wherever it stopped. Raises RecordsError for one that is not there,
    PlanError when a file is gone, was changed, or its old name is taken; nothing is renamed then.
    """
    with _alone():
        standing = [one for one in _records() if one.state != "undone"]
        record = next((one for one in reversed(standing) if name in (None, one.name)), None)
        if record is None:
            known = ", ".join(one.name for one in standing[-5:])
            what = f"there is no renaming “{name}”" if name else "there is nothing to undo"
            raise RecordsError(what, hint=f"there are: {known}" if known else "none was done on this machine")
        with _tables_locked(_tables_of(record)):
            if record.state == "done":
                _check_undo(record)
                record = replace(record, state="undoing")
                _keep(record, replace_file)
            return replace(record, state="undone"), _back(record)


def undo_those_cut_short() -> list[Notice]:
    """Undo the renamings that were interrupted, unless one is under way; notices of what was done."""
    try:
        if not any(one.was_cut_short for one in _records()):
            return []
        with _alone():
            return _undo_those_cut_short()
    except PlanError:  # another process is renaming just now, or writing one of the tables
        return []
    except RecordsError as error:
        return [RENAMINGS_UNREADABLE(reason=f"{error.text}; {error.hint}" if error.hint else error.text)]


def _undo_those_cut_short() -> list[Notice]:
    notices = []
    cut_short = [one for one in reversed(_records()) if one.was_cut_short]
    with _tables_locked([path for record in cut_short for path in _tables_of(record)]):
        for record in cut_short:
            problems = _back(record)
            notices.append(RENAMING_UNDONE(name=record.name, files=len(record.moves)))
            notices += problems
    return notices


def _tables_of(record: RenameRecord) -> list[Path]:
    return [Path(one.path) for one in record.tables]


@contextlib.contextmanager
def _alone() -> Iterator[None]:
    """One renaming at a time on this machine; the lock goes with its process. Raises PlanError, RecordsError."""
    folder = renames_folder()
    try:
        folder.mkdir(parents=True, exist_ok=True)
        with FileLock(folder / ".renaming.lock", timeout=_LOCK_SECONDS):
            yield
    except Timeout:
        raise PlanError("another renaming is under way", hint="wait until it has ended") from None


@contextlib.contextmanager
def _tables_locked(tables: Sequence[Path]) -> Iterator[None]:
    """Keep marks from being changed meanwhile, as those who change them do. Raises PlanError where one is."""
    with contextlib.ExitStack() as stack:
        for path in sorted({table.absolute() for table in tables if table.is_file()}):
            lock = FileLock(path.with_name(f".{path.name}.lock"), timeout=_LOCK_SECONDS)
            try:
                stack.enter_context(lock)
            except Timeout:
                raise PlanError(
                    "another program is writing this table", path=path, hint="wait until it has ended"
                ) from None
            except OSError:
                pass  # a folder that cannot be written to has no writers
        yield


def _move_of(old: Path, new: Path, name: str, number: int) -> Move:
    found = old.lstat()
    inode = found.st_ino if has_stable_inodes(old.parent) else 0
    between = old.with_name(f".boxkite-rename-{name}-{number}")
    return Move(old, between, new, found.st_size, found.st_mtime_ns, inode)


def _forward(record: RenameRecord) -> None:
    """Give every file its new name, then every table. Raises OSError, MarksError."""
    for one in record.moves:
        move(one.old, one.between)
    _sync(record)
    for one in record.moves:
        move(one.between, one.new)
    _sync(record)
    for change in record.tables:
        write_table(change)


def _back(record: RenameRecord) -> list[Notice]:
    """Give every file and table its old name or text, wherever they are by now, and keep that; notices of problems.

    What could not be done this time is left to the next who looks.
    """
    problems: list[Notice] = []
    left: list[Notice] = []
    for one in record.moves:
        if one.is_at(one.between):
            if one.inode:  # killed between the two steps of a move, on a volume that needs two
                for other in (one.new, one.old):
                    if one.is_at(other):
                        _try(left, other.unlink, other)
        elif not one.is_at(one.old) and one.is_at(one.new):
            _try(left, partial(move, one.new, one.between), one.new)
    _try(left, partial(_sync, record), renames_folder())
    for one in record.moves:
        if os.path.lexists(one.between):
            _try(left, partial(_place_back, one, problems), one.old)
        elif one.is_at(one.new) and not one.is_at(one.old):
            _try(left, partial(move, one.new, one.old), one.old)
    _try(left, partial(_sync, record), renames_folder())
    for change in record.tables:
        _try(left, partial(undo_table, change, record.names), Path(change.path))
    is_back = not any(os.path.lexists(one.between) for one in record.moves)
    _keep(replace(record, state="undone" if is_back and not left else "undoing"), replace_file)
    return [*left, *problems]


def _try(left: list[Notice], act: Callable[[], None], path: Path) -> None:
    """Do one of several things that do not depend on each other; what is no longer there needs nothing."""
    try:
        act()
    except FileNotFoundError:
        pass
    except BoxkiteError as error:
        left.append(NOT_RENAMED_BACK(reason=error.text))
    except OSError as error:
        left.append(NOT_RENAMED_BACK(reason=(error.strerror or str(error)).lower()).of(str(path)))


def _place_back(one: Move, problems: list[Notice]) -> None:
    """Give a file its old name; where somebody has taken that, another that can be seen."""
    for number in range(_MOST_KEPT):
        target = one.old.with_name(f"{one.old.stem} (kept {number}){one.old.suffix}") if number else one.old
        with contextlib.suppress(FileExistsError):
            move(one.between, target)
            if number:
                problems.append(OLD_NAME_TAKEN(path=str(one.old), name=target.name))
            return


def _sync(record: RenameRecord) -> None:
    for folder in dict.fromkeys(one.old.parent for one in record.moves):
        with contextlib.suppress(FileNotFoundError):
            sync_folder(folder)


def _check_undo(record: RenameRecord) -> None:
    problems = []
    leaving = {one.new for one in record.moves}
    for one in record.moves:
        if not os.path.lexists(one.new):
            problems.append(f"{one.new} is no longer there")
        elif not one.is_unchanged_at(one.new):
            problems.append(f"{one.new} has been changed since")
        elif one.old not in leaving and os.path.lexists(one.old) and not one.old.samefile(one.new):
            problems.append(f"{one.old} is there again")
    if problems:
        raise PlanError(
            f"{record.name} cannot be undone completely; nothing was renamed", details=problems[:40]
        )


def _new_name(known: Sequence[RenameRecord]) -> str:
    day = f"{datetime.now():%Y-%m-%d}"
    numbers = [int(one.name.rpartition(".")[2]) for one in known if one.name.startswith(f"{day}.")]
    return f"{day}.{max(numbers, default=0) + 1}"


def _records() -> list[RenameRecord]:
    """All renamings on record, in the order in which they were done. Raises RecordsError."""
    found = []
    folder = renames_folder()
    for path in sorted(folder.glob("*.json")) if folder.is_dir() else []:
        if path.name.startswith("."):
            continue
        try:
            found.append(read_document(read_bytes(path, _MOST_BYTES), RenameRecord, VERSION))
        except OSError as error:
            raise RecordsError(f"the record of a renaming cannot be read: {error}", path=path) from None
        except DocumentError as error:
            raise RecordsError(
                f"the record of a renaming cannot be read: {error}", path=path,
                hint="move it away to go on without it",
            ) from None  # fmt: skip
    return sorted(found, key=lambda one: one.order)


def _keep(record: RenameRecord, write: Callable[[Path, bytes], None]) -> None:
    """Write the record so that it is on the disk before the next step. Raises RecordsError."""
    path = renames_folder() / f"{record.name}.json"
    try:
        write(path, write_document(record, RenameRecord, VERSION))
    except OSError as error:
        raise RecordsError(
            f"the renaming cannot be kept on record: {error.strerror or error}", path=path.parent
        ) from None
