"""A cache of what was read from files, by their identity, so that reading them again costs next to nothing.

The store is the user's own (an SQLite file in the user's cache folder, or $BOXKITE_CACHE); a file counts as
unchanged while its path, size, inode and times stay. What is kept are documents, checked when they are read.
Whatever is wrong with the store, the file itself is read.
"""

from __future__ import annotations

import contextlib
import importlib.util
import os
import re
import sqlite3
from collections.abc import Iterator, Sequence
from functools import lru_cache
from pathlib import Path
from typing import TypeVar

from boxkite import __version__
from boxkite.core.files.document import read_document, write_document
from boxkite.core.files.reading import path_from

_FORM = 17
"""Raised whenever what is kept changes its shape, or how it is found out."""
_MOST_ROWS = 200_000
_AT_ONCE = 400

Kept = TypeVar("Kept")


class Memory:
    """Remembers values of one kind each by file. Use it as long as files are looked at; it never raises."""

    def __init__(self) -> None:
        self._store: sqlite3.Connection | None = None
        self._fetched: dict[tuple[str, bytes], tuple[str, bytes] | None] = {}
        self._new: list[tuple[str, bytes, str, bytes]] = []
        with contextlib.suppress(OSError, sqlite3.Error):
            self._store = _open_store()
        self.stamp = f"{_FORM} {__version__} {_library_version()}"

    def recall(
        self, kind: str, path: Path, wanted: type[Kept], there: os.stat_result | None = None
    ) -> Kept | None:
        """The value kept for a file as it is now; None if there is none.

        there: what the system says of the file, where that is known already.
        """
        if self._store is None:
            return None
        with contextlib.suppress(Exception):  # a damaged store is no reason to fail
            key = _key(path)
            if (kind, key) in self._fetched:
                found = self._fetched.pop((kind, key))
            else:
                found = self._store.execute(
                    "select identity, value from kept where kind = ? and path = ?", (kind, key)
                ).fetchone()
            if found and found[0] == self._identity(there or path.stat()):
                return read_document(found[1], wanted, _FORM)
        return None

    def look_up(self, kind: str, paths: Sequence[Path]) -> None:
        """Ask the store for what is going to be recalled of many files, all at once."""
        if self._store is None:
            return
        with contextlib.suppress(sqlite3.Error, ValueError):
            keys = [_key(path) for path in paths]
            for start in range(0, len(keys), _AT_ONCE):
                part = keys[start : start + _AT_ONCE]
                marks = ", ".join("?" * len(part))
                self._fetched |= dict.fromkeys((kind, key) for key in part)
                for key, identity, value in self._store.execute(
                    f"select path, identity, value from kept where kind = ? and path in ({marks})",
                    (kind, *part),
                ):
                    self._fetched[kind, key] = (identity, value)

    def keep(self, kind: str, path: Path, value: object) -> None:
        """Keep a value for the file as it is now."""
        if self._store is None:
            return
        with contextlib.suppress(Exception):
            self._new.append(
                (
                    kind,
                    _key(path),
                    self._identity(path.stat()),
                    write_document(value, type(value), _FORM),
                )
            )

    def save(self) -> None:
        """Write what is new."""
        if self._store is None or not self._new:
            return
        with contextlib.suppress(sqlite3.Error):
            with self._store:
                self._store.executemany("insert or replace into kept values (?, ?, ?, ?)", self._new)
                (count,) = self._store.execute("select count(*) from kept").fetchone()
                if count > _MOST_ROWS:
                    self._store.execute("delete from kept")
            self._new = []

    def close(self) -> None:
        """Write what is new, and end."""
        self.save()
        if self._store is not None:
            self._store.close()
            self._store = None

    def _identity(self, there: os.stat_result) -> str:
        return f"{self.stamp} {there.st_size} {there.st_mtime_ns} {there.st_ino} {there.st_ctime_ns}"


@lru_cache(maxsize=1)
def _library_version() -> str:
    """The version of the codec library's binding, without loading it where its file tells."""
    found = importlib.util.find_spec("av")
    about = Path(found.origin).with_name("about.py") if found and found.origin else None
    with contextlib.suppress(OSError):
        if about and (version := re.search(r'"([\d.]+)"', about.read_text())):
            return version[1]
    import av

    return str(av.__version__)


def _key(path: Path) -> bytes:
    return os.fsencode(os.path.abspath(path))  # noqa: PTH100  a third of what Path.absolute takes


@contextlib.contextmanager
def memory() -> Iterator[Memory]:
    """The store for as long as it is needed."""
    opened = Memory()
    try:
        yield opened
    finally:
        opened.close()


def _open_store() -> sqlite3.Connection | None:
    folder = cache_folder()
    if folder is None:
        return None
    folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    store = sqlite3.connect(folder / "sources.sqlite", timeout=2)
    store.execute("pragma journal_mode = wal")
    store.execute("pragma synchronous = off")
    store.execute(
        "create table if not exists kept"
        " (kind text, path blob, identity text, value blob, primary key (kind, path)) without rowid"
    )
    return store


def cache_folder() -> Path | None:
    """Where the store lies; None where $BOXKITE_CACHE is set to nothing, which turns it off."""
    chosen = os.environ.get("BOXKITE_CACHE")
    if chosen is not None:
        return path_from(chosen) if chosen else None
    import platformdirs

    return platformdirs.user_cache_path("boxkite")
