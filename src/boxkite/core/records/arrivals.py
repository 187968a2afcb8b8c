"""The arrivals in watched folders: which source was taken into which batch, which was set aside and why."""

from __future__ import annotations

import os
import sqlite3
from collections.abc import Callable, Iterable, Mapping
from pathlib import Path

from msgspec import Struct

from boxkite.core.records.journal import now_text
from boxkite.core.records.store import Records, storable


class ArrivalRecord(Struct, frozen=True):
    """One source that has landed."""

    path: Path
    stamp: str
    """As it was then."""
    state: str
    """"taken" or "set aside", for the reason given."""
    batch: str = ""
    reason: str = ""
    at: str = ""


class ArrivalLog:
    """The landings of one watched folder."""

    def __init__(self, records: Records, folder: Path) -> None:
        self._records = records
        self._folder = storable(str(folder))

    def all(self) -> dict[Path, ArrivalRecord]:
        """Every landing, by its path. Raises RecordsError."""
        rows = self._records.ask(
            "select path, stamp, state, batch, reason, at from landed where folder = ? order by at",
            self._folder,
        )
        return {
            Path(os.fsdecode(path)): ArrivalRecord(Path(os.fsdecode(path)), *rest) for path, *rest in rows
        }

    def take(self, stamps: Mapping[Path, str]) -> Callable[[sqlite3.Connection, str], None]:
        """A function that records sources as taken into a batch, in the step that begins it."""

        def note(store: sqlite3.Connection, batch: str) -> None:
            self._note(store, [ArrivalRecord(path, stamp, "taken", batch) for path, stamp in stamps.items()])

        return note

    def set_aside(self, path: Path, stamp: str, reason: str, batch: str = "") -> None:
        """Note that a source is not going to be made anything of, as it is. Raises RecordsError.

        batch: that it was taken into before it changed.
        """
        with self._records.change() as store:
            self._note(store, [ArrivalRecord(path, stamp, "set aside", batch, reason)])

    def look_again(self) -> int:
        """Forget what was set aside; how many that were. Raises RecordsError."""
        with self._records.change() as store:
            return store.execute(
                "delete from landed where folder = ? and state = 'set aside'", (self._folder,)
            ).rowcount

    def interrupted(self) -> list[str]:
        """The batches of this folder that did not come to their end, oldest first. Raises RecordsError."""
        rows = self._records.ask(
            "select name from batch where state != 'ended' and name in"
            " (select batch from landed where folder = ? and state = 'taken') order by id",
            self._folder,
        )
        return [name for (name,) in rows]

    def _note(self, store: sqlite3.Connection, landings: Iterable[ArrivalRecord]) -> None:
        at = now_text()
        store.executemany(
            "insert or replace into landed (folder, path, stamp, state, batch, reason, at)"
            " values (?, ?, ?, ?, ?, ?, ?)",
            [
                (self._folder, storable(one.path), one.stamp, one.state, one.batch, storable(one.reason), at)
                for one in landings
            ],
        )
