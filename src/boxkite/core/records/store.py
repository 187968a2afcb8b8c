"""The records of all batches: one SQLite file in the user's state folder, or in $BOXKITE_STATE."""

from __future__ import annotations

import contextlib
import json
import os
import sqlite3
import time
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from datetime import datetime
from functools import cache
from pathlib import Path
from typing import TYPE_CHECKING, Any

from boxkite.core.errors import RecordsError
from boxkite.core.files.reading import path_from
from boxkite.core.records.tables import bring_up_to_date
from boxkite.core.suggest import did_you_mean

if TYPE_CHECKING:
    from boxkite.core.records.record import BatchRecord, Entry, FileRecord

FOLDER_VARIABLE = "BOXKITE_STATE"
LAST = "last"
_FILE = "batches.sqlite"
_OF_BATCH = (
    "id, name, started, machine, pattern, version, state, ended, seconds, process, stop, folders, settings"
)
_FILES_FOR_SPEED, _LATEST_FILES = 200, 20_000
_BUSY_SECONDS = 30


def state_folder() -> Path:
    """Where records are kept; $BOXKITE_STATE names another folder."""
    if named := os.environ.get(FOLDER_VARIABLE):
        return path_from(named)
    import platformdirs

    return Path(platformdirs.user_state_dir("boxkite"))


def _this_machine() -> str:
    import platform

    return platform.node()


def _opened(path: Path) -> sqlite3.Connection:
    """The store in write-ahead mode. Raises sqlite3.Error.

    Where several open a new store at once, SQLite does not wait for the one that switches it to that mode, whatever
    the timeout: it is asked again.
    """
    until = time.monotonic() + _BUSY_SECONDS
    while True:
        store = sqlite3.connect(path, timeout=_BUSY_SECONDS, isolation_level=None)
        try:
            store.execute("pragma journal_mode = wal")
            return store
        except sqlite3.Error as error:
            store.close()
            busy = getattr(error, "sqlite_errorcode", 0) & 0xFF == sqlite3.SQLITE_BUSY
            if not busy or time.monotonic() > until:
                raise
        time.sleep(0.02)


class Records:
    """The records of all batches. Use it as a context, or close it."""

    def __init__(self, folder: Path | None = None) -> None:
        """Open the store, made where there is none. Raises RecordsError where that cannot be."""
        self.folder = folder or state_folder()
        self.path = self.folder / _FILE
        try:
            self.folder.mkdir(parents=True, exist_ok=True)
            self._store = _opened(self.path)
            self._store.execute("pragma synchronous = normal")
            self._store.execute("pragma foreign_keys = on")
            if not bring_up_to_date(self._store):
                raise RecordsError(
                    "the records of batches were written by another version of Box Kite", path=self.path,
                    hint=f"use that one, or name another folder with {FOLDER_VARIABLE}",
                )  # fmt: skip
        except (OSError, sqlite3.Error) as error:
            raise RecordsError(
                f"the records of batches cannot be kept: {error}", path=self.path,
                hint=f"name another folder with {FOLDER_VARIABLE}",
            ) from None  # fmt: skip

    @staticmethod
    def are_kept(folder: Path | None = None) -> bool:
        """Whether there is a store already; asking makes none."""
        return ((folder or state_folder()) / _FILE).is_file()

    def __enter__(self) -> Records:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def close(self) -> None:
        """Let go of the store."""
        self._store.close()

    @contextlib.contextmanager
    def change(self) -> Iterator[sqlite3.Connection]:
        """One step that happens whole or not at all. Raises RecordsError."""
        try:
            self._store.execute("begin immediate")
            try:
                yield self._store
            except BaseException:
                with contextlib.suppress(sqlite3.Error):  # a full disk has ended it already
                    self._store.execute("rollback")
                raise
            self._store.execute("commit")
        except sqlite3.Error as error:
            with contextlib.suppress(sqlite3.Error):
                self._store.execute("rollback")
            raise RecordsError(f"the records of batches cannot be written: {error}", path=self.path) from None

    def ask(self, question: str, *values: object) -> list[Any]:
        """The rows that answer a question in SQL. Raises RecordsError."""
        try:
            return self._store.execute(question, values).fetchall()
        except sqlite3.Error as error:
            raise RecordsError(f"the records of batches cannot be read: {error}", path=self.path) from None

    def begin(
        self,
        pattern: str,
        version: int | None,
        files: Sequence[FileRecord],
        *,
        packed_plan: bytes = b"",
        folders: Sequence[Path] = (),
        settings: Mapping[str, Any] | None = None,
        also: Callable[[sqlite3.Connection, str], None] = lambda store, name: None,
    ) -> str:
        """Note a batch before its first file is made; its name is the day and a number. Raises RecordsError.

        packed_plan: all that is needed to make the files, for going on later. also: what is to be noted in the
        same step, with the batch's name.
        """
        now = datetime.now()
        with self.change() as store:
            day = f"{now:%Y-%m-%d}"
            names = store.execute("select name from batch where name like ?", (f"{day}.%",)).fetchall()
            number = max((int(name.rpartition(".")[2]) for (name,) in names), default=0) + 1
            name = f"{day}.{number}"
            batch = store.execute(
                "insert into batch (name, started, machine, pattern, version, state, folders, settings)"
                " values (?, ?, ?, ?, ?, 'waiting', ?, ?)",
                (name, now.isoformat(), _this_machine(), pattern, version,
                 json.dumps([str(folder) for folder in folders]), json.dumps(settings or {})),
            ).lastrowid  # fmt: skip
            marks = ", ".join("?" * (len(_keys()) + 1))
            store.executemany(
                f"insert into file (batch, {_columns()}) values ({marks})",
                [(batch, *_as_values(file)) for file in files],
            )
            if packed_plan:
                store.execute("insert into plan_document values (?, ?)", (batch, packed_plan))
            also(store, name)
        return name

    def take_in(
        self,
        name: str,
        batch: BatchRecord,
        *,
        packed_plan: bytes,
        entries: Sequence[Entry],
        handovers: Sequence[tuple[Any, ...]],
        steps: Sequence[tuple[Any, ...]],
    ) -> None:
        """Note a batch that another machine made, in one step. Raises RecordsError.

        handovers, steps: their columns after the batch's.
        """
        state = "ended" if batch.state in ("waiting", "running") else batch.state
        with self.change() as store:
            number = store.execute(
                "insert into batch (name, started, machine, pattern, version, state, ended, seconds, folders, settings)"
                " values (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
                (name, batch.started.isoformat(), batch.machine, batch.pattern, batch.version, state,
                 batch.ended, batch.seconds, json.dumps([str(folder) for folder in batch.folders]),
                 json.dumps(dict(batch.settings))),
            ).lastrowid  # fmt: skip
            store.executemany(
                f"insert into file (batch, {_columns()}) values ({', '.join('?' * (len(_keys()) + 1))})",
                [(number, *_as_values(file)) for file in batch.files],
            )
            if packed_plan:
                store.execute("insert into plan_document values (?, ?)", (number, packed_plan))
            store.executemany(
                "insert into entry (batch, number, at, kind, text) values (?, ?, ?, ?, ?)",
                [(number, one.number, one.at, one.kind, storable(one.text)) for one in entries],
            )
            store.executemany(
                "insert into handover (batch, at, who, kind, path, note) values (?, ?, ?, ?, ?, ?)",
                [(number, *map(storable, one)) for one in handovers],
            )
            store.executemany(
                "insert into step (batch, number, kind, options, state, paths, outcome, at)"
                " values (?, ?, ?, ?, ?, ?, ?, ?)",
                [(number, *one) for one in steps],
            )

    def batch(self, name: str, *, with_files: bool = True) -> BatchRecord:
        """A batch by its name, or the last one by "last". Raises RecordsError with the nearest names."""
        found = self.ask(
            f"select {_OF_BATCH} from batch where name = ? or ? = ? order by id desc limit 1",
            name, name, LAST,
        )  # fmt: skip
        if not found:
            names = [one for (one,) in self.ask("select name from batch order by id desc limit 5")]
            hint = did_you_mean(name, names) or (f"there are: {', '.join(names)}" if names else "")
            raise RecordsError(
                f"there is no batch “{name}”" if name != LAST else "there is no batch yet",
                hint=hint or "none has been run on this machine",
            )
        (identity, named, started, machine, pattern, version, state, ended, seconds, process, stop, folders,
         settings) = found[0]  # fmt: skip
        question = f"select {_columns()} from file where batch = ? order by number"
        rows = self.ask(question, identity) if with_files else []
        from boxkite.core.records.record import BatchRecord

        return BatchRecord(
            named, datetime.fromisoformat(started), machine, pattern, version,
            tuple(_as_record(row) for row in rows), state, ended, seconds, process, stop,
            tuple(map(Path, json.loads(folders))), json.loads(settings),
        )  # fmt: skip

    def last_of(self, folders: Collection[Path], sources: Collection[Path]) -> str:
        """The last batch into one of some folders from one of some sources; empty where there is none."""
        wanted, of_sources = set(map(str, folders)), set(map(os.fsencode, sources))
        for identity, name, into in self.ask("select id, name, folders from batch order by id desc"):
            if wanted.isdisjoint(json.loads(into)):
                continue
            found = self.ask("select distinct source from file where batch = ?", identity)
            if not of_sources.isdisjoint(source for (source,) in found):
                return str(name)
        return ""

    def files_of(self, name: str, states: Sequence[str]) -> list[FileRecord]:
        """The files of a batch that are in one of some states, in the order of the plan. Raises RecordsError."""
        marks = ", ".join("?" * len(states))
        rows = self.ask(
            f"select {_columns()} from file where batch = (select id from batch where name = ?)"
            f" and state in ({marks}) order by number",
            name,
            *states,
        )
        return [_as_record(row) for row in rows]

    def packed_plan(self, name: str) -> bytes:
        """The stored plan of a batch; empty for a batch of an earlier version. Raises RecordsError."""
        found = self.ask(
            "select content from plan_document where batch = (select id from batch where name = ?)", name
        )
        return bytes(found[0][0]) if found else b""

    def made_at(self, path: Path) -> FileRecord | None:
        """The last verified file of this path; None where no batch knows of one."""
        rows = self.ask(
            f"select {_columns()} from file where path = ? and state = 'verified' order by batch desc limit 1",
            os.fsencode(path),
        )
        return _as_record(rows[0]) if rows else None

    def made_below(self, folder: Path) -> list[tuple[str, FileRecord]]:
        """(batch, file) of every verified file below a folder, of each path the last one, in the order of the paths."""
        first = os.fsencode(folder).rstrip(b"/") + b"/"
        rows = self.ask(
            f"select max(file.batch), name, {', '.join(f'file.{key}' for key in _keys())} from file"
            " join batch on batch.id = file.batch where path >= ? and path < ? and file.state = 'verified'"
            " group by path order by path",
            first, first[:-1] + b"0",
        )  # fmt: skip
        return [(name, _as_record(row)) for _, name, *row in rows]

    def seconds_per_pixel(self, presets: Iterable[str]) -> Mapping[str, tuple[float, int]]:
        """By preset: seconds of one worker for each pixel of picture on this machine, and from how many files.

        Of the latest files alone: there may be very many.
        """
        found = {}
        for preset in presets:
            ((seconds, pixels, count),) = self.ask(
                "select sum(seconds), sum(pixels), count(*) from (select seconds, pixels from"
                " (select batch, state, preset, seconds, pixels from file order by batch desc, number desc limit ?)"
                " where preset = ? and state = 'verified' and seconds > 0 and pixels > 0"
                " and batch in (select id from batch where machine = ?) limit ?)",
                _LATEST_FILES, preset, _this_machine(), _FILES_FOR_SPEED,
            )  # fmt: skip
            if count:
                found[preset] = (seconds / pixels, count)
        return found


def _as_values(file: FileRecord) -> tuple[object, ...]:
    from msgspec import structs

    from boxkite.core.notices.notice import notice_as_json

    kept = {**structs.asdict(file), "warnings": tuple(map(notice_as_json, file.warnings))}
    return tuple(storable(value) for value in kept.values())


def storable(value: object) -> object:
    """A value as SQLite keeps it: paths as their bytes, lists as JSON, text that is proper UTF-8."""
    if isinstance(value, Path):
        return os.fsencode(value)
    if isinstance(value, tuple):
        return json.dumps(value)
    if value is None:
        return b""
    return value.encode("utf-8", "replace").decode() if isinstance(value, str) else value


@cache
def _keys() -> tuple[str, ...]:
    """The columns of a file on record; what loads them is left to those who ask for files."""
    from boxkite.core.records.record import FileRecord

    return FileRecord.__struct_fields__


def _columns() -> str:
    return ", ".join(_keys())


def _as_record(row: Sequence[object]) -> FileRecord:
    from boxkite.core.notices.notice import notice_from_json
    from boxkite.core.records.record import FileRecord

    values: dict[str, Any] = dict(zip(_keys(), row, strict=True))
    for key in ("path", "source"):
        values[key] = Path(os.fsdecode(values[key]))
    values["partial"] = Path(os.fsdecode(values["partial"])) if values["partial"] else None
    values["warnings"] = tuple(map(notice_from_json, json.loads(values["warnings"])))
    return FileRecord(**values)
