"""The records of all batches: one SQLite file in the user's state folder, or in $BOXKITE_STATE."""

from __future__ import annotations

import contextlib
import os
import platform
import sqlite3
from collections.abc import Iterator, Mapping, Sequence
from datetime import datetime
from pathlib import Path

from boxkite.core.errors import RecordsError
from boxkite.core.records.record import BatchRecord, FileRecord
from boxkite.core.suggest import did_you_mean

FOLDER_VARIABLE = "BOXKITE_STATE"
LAST = "last"
_FILE = "batches.sqlite"
_FORM = 1
_COLUMNS = (
    "number, path, plain_name, source, stamp, in_frame, out_frame, preset, recipe, marker, clip,"
    " in_timecode, out_timecode, state, checksum, size_bytes, pixels, seconds"
)
_TABLES = f"""
create table if not exists batch (
    id integer primary key, name text unique not null, started text not null, machine text not null,
    pattern text not null, version integer);
create table if not exists file (
    batch integer not null references batch (id) on delete cascade,
    {_COLUMNS.replace("number,", "number integer,").replace("path,", "path blob,").replace("source,", "source blob,")},
    primary key (batch, number)) without rowid;
create index if not exists file_by_path on file (path);
pragma user_version = {_FORM};
"""
_FILES_FOR_SPEED = 200


def state_folder() -> Path:
    """Where records are kept; $BOXKITE_STATE names another folder."""
    if named := os.environ.get(FOLDER_VARIABLE):
        return Path(named).expanduser()
    import platformdirs

    return Path(platformdirs.user_state_dir("boxkite"))


class Records:
    """The records of all batches. Use it as a context, or close it."""

    def __init__(self, folder: Path | None = None) -> None:
        """Open the store, made where there is none. Raises RecordsError where that cannot be."""
        self.path = (folder or state_folder()) / _FILE
        try:
            self.path.parent.mkdir(parents=True, exist_ok=True)
            self._store = sqlite3.connect(self.path, timeout=30, isolation_level=None)
            self._store.execute("pragma journal_mode = wal")
            self._store.execute("pragma synchronous = normal")
            self._store.execute("pragma foreign_keys = on")
            form = self._store.execute("pragma user_version").fetchone()[0]
            if form not in (0, _FORM):
                raise RecordsError(
                    "the records of batches were written by another version of Box Kite", path=self.path,
                    hint=f"use that one, or name another folder with {FOLDER_VARIABLE}",
                )  # fmt: skip
            if form == 0:
                self._store.executescript(_TABLES)
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
    def _change(self) -> Iterator[sqlite3.Connection]:
        """One step that happens whole or not at all. Raises RecordsError."""
        try:
            self._store.execute("begin immediate")
            try:
                yield self._store
            except BaseException:
                self._store.execute("rollback")
                raise
            self._store.execute("commit")
        except sqlite3.Error as error:
            raise RecordsError(f"the records of batches cannot be written: {error}", path=self.path) from None

    def begin(self, pattern: str, version: int | None, files: Sequence[FileRecord]) -> str:
        """Note a batch before its first file is made; its name is the day and a number. Raises RecordsError."""
        now = datetime.now()
        with self._change() as store:
            day = f"{now:%Y-%m-%d}"
            names = store.execute("select name from batch where name like ?", (f"{day}.%",)).fetchall()
            number = max((int(name.rpartition(".")[2]) for (name,) in names), default=0) + 1
            name = f"{day}.{number}"
            batch = store.execute(
                "insert into batch (name, started, machine, pattern, version) values (?, ?, ?, ?, ?)",
                (name, now.isoformat(timespec="seconds"), platform.node(), pattern, version),
            ).lastrowid
            marks = ", ".join("?" * (len(_COLUMNS.split(",")) + 1))
            store.executemany(
                f"insert into file (batch, {_COLUMNS}) values ({marks})",
                [(batch, *_as_values(file)) for file in files],
            )
        return name

    def ended(self, batch: str, file: FileRecord) -> None:
        """Note what became of one file: its state, checksum, size and seconds. Raises RecordsError."""
        with self._change() as store:
            store.execute(
                "update file set state = ?, checksum = ?, size_bytes = ?, seconds = ?"
                " where number = ? and batch = (select id from batch where name = ?)",
                (file.state, file.checksum, file.size_bytes, file.seconds, file.number, batch),
            )

    def batch(self, name: str) -> BatchRecord:
        """A batch by its name, or the last one by "last". Raises RecordsError with the nearest names."""
        found = self._store.execute(
            "select id, name, started, machine, pattern, version from batch where name = ? or ? = ?"
            " order by id desc limit 1",
            (name, name, LAST),
        ).fetchone()
        if found is None:
            names = [one for (one,) in self._store.execute("select name from batch order by id desc limit 5")]
            hint = did_you_mean(name, names) or (f"there are: {', '.join(names)}" if names else "")
            raise RecordsError(
                f"there is no batch “{name}”", hint=hint or "none has been run on this machine"
            )
        rows = self._store.execute(f"select {_COLUMNS} from file where batch = ? order by number", found[:1])
        return BatchRecord(
            found[1], datetime.fromisoformat(found[2]), found[3], found[4], found[5],
            tuple(_as_record(row) for row in rows),
        )  # fmt: skip

    def made_at(self, path: Path) -> FileRecord | None:
        """The last proved file of this path; None where no batch knows of one."""
        row = self._store.execute(
            f"select {_COLUMNS} from file where path = ? and state = 'proved' order by batch desc limit 1",
            (os.fsencode(path),),
        ).fetchone()
        return _as_record(row) if row else None

    def seconds_per_pixel(self) -> Mapping[str, tuple[float, int]]:
        """By preset: seconds of one worker for each pixel of picture on this machine, and from how many files."""
        rows = self._store.execute(
            "select preset, sum(seconds), sum(pixels), count(*) from (select preset, seconds, pixels,"
            " row_number() over (partition by preset order by batch desc, number desc) as place from file"
            " join batch on batch.id = file.batch where state = 'proved' and seconds > 0 and pixels > 0"
            " and machine = ?) where place <= ? group by preset",
            (platform.node(), _FILES_FOR_SPEED),
        )
        return {preset: (seconds / pixels, count) for preset, seconds, pixels, count in rows}


def _as_values(file: FileRecord) -> tuple[object, ...]:
    return tuple(_storable(value) for value in vars(file).values())


def _storable(value: object) -> object:
    if isinstance(value, Path):
        return os.fsencode(value)
    return value.encode("utf-8", "replace").decode() if isinstance(value, str) else value


def _as_record(row: Sequence[object]) -> FileRecord:
    values = dict(zip(_COLUMNS.replace(" ", "").split(","), row, strict=True))
    for key in ("path", "source"):
        values[key] = Path(os.fsdecode(values[key]))  # type: ignore[arg-type]
    return FileRecord(**values)  # type: ignore[arg-type]
