"""The journal of one batch: what happens to it and to its files, each in one step that is complete or not there."""

from __future__ import annotations

import json
import os
import sqlite3
from collections.abc import Iterable, Mapping, Sequence
from datetime import datetime
from pathlib import Path
from typing import cast

from boxkite.core.errors import RecordsError
from boxkite.core.notices.notice import Notice, notice_as_json
from boxkite.core.records.overview import Awaited
from boxkite.core.records.record import BatchState, Entry, Stop
from boxkite.core.records.store import Records, storable


def now_text() -> str:
    """The local time as the journal keeps it: ISO 8601 to the millisecond."""
    return datetime.now().isoformat(timespec="milliseconds")


class Journal:
    """The journal of a batch that is there already."""

    def __init__(self, records: Records, name: str) -> None:
        """Raises RecordsError where there is no such batch."""
        found = records.ask("select id from batch where name = ?", name)
        if not found:
            raise RecordsError(f"there is no batch “{name}”")
        self._records = records
        self._batch: int = found[0][0]
        self.name = name

    def batch_is(
        self,
        state: BatchState,
        *,
        seconds: float | None = None,
        note: str | None = None,
        waits_for: Awaited = "",
    ) -> None:
        """Note what the batch is at. seconds: how long it has run in all; note: what there is to say of it.

        waits_for: what it would need to be resumed.
        """
        with self._records.change() as store:
            ended = now_text() if state in ("stopped", "ended") else ""
            store.execute(
                "update batch set state = ?, ended = ?, process = ?, seconds = coalesce(?, seconds),"
                " note = coalesce(?, note), waits_for = ? where id = ?",
                (state, ended, 0 if ended else os.getpid(), seconds, note, waits_for, self._batch),
            )
            if state in ("stopped", "ended"):
                store.execute("update batch set stop = '' where id = ?", (self._batch,))
            self._enter(store, 0, "state", state)

    def started(self, used: Mapping[int, str]) -> None:
        """A worker begins on files. used: what each is made from, by its number."""
        with self._records.change() as store:
            at = now_text()
            for number, files in used.items():
                store.execute(
                    "update file set state = 'started', started = ?, ended = '', failure = '', frames_done = 0,"
                    " attempts = attempts + 1 where batch = ? and number = ?",
                    (at, self._batch, number),
                )
                self._enter(store, number, "state", "started")
                self._enter(store, number, "used", files)

    def frames_done(self, done: Mapping[int, int], seconds: float) -> None:
        """How many frames of each file are made, and how long the batch has run."""
        with self._records.change() as store:
            store.executemany(
                "update file set frames_done = ? where batch = ? and number = ? and state = 'started'",
                [(frames, self._batch, number) for number, frames in done.items()],
            )
            store.execute("update batch set seconds = ? where id = ?", (seconds, self._batch))

    def ready(self, number: int, partial: Path, checksum: str, size_bytes: int) -> None:
        """A file is verified and about to get its name."""
        with self._records.change() as store:
            store.execute(
                "update file set state = 'ready', partial = ?, checksum = ?, size_bytes = ?"
                " where batch = ? and number = ?",
                (storable(partial), checksum, size_bytes, self._batch, number),
            )

    def verified(
        self, number: int, *, checksum: str, size_bytes: int, seconds: float, warnings: Sequence[Notice] = ()
    ) -> None:
        """A file has its name."""
        kept = json.dumps(list(map(notice_as_json, warnings)))
        with self._records.change() as store:
            store.execute(
                "update file set state = 'verified', ended = ?, checksum = ?, size_bytes = ?, seconds = ?,"
                " failure = '', warnings = ?, frames_done = frames, partial = '' where batch = ? and number = ?",
                (
                    now_text(),
                    checksum,
                    size_bytes,
                    seconds,
                    kept,
                    self._batch,
                    number,
                ),
            )
            self._enter(store, number, "state", "verified")
            for warning in warnings:
                self._enter(store, number, "warning", str(warning))

    def changed(self, number: int, checksum: str, size_bytes: int) -> None:
        """A verified file was changed on purpose, its frames and audio not."""
        with self._records.change() as store:
            store.execute(
                "update file set checksum = ?, size_bytes = ?, ended = ? where batch = ? and number = ?",
                (checksum, size_bytes, now_text(), self._batch, number),
            )

    def failed(self, number: int, failure: str, *, seconds: float = 0.0, detail: str = "") -> None:
        """A file could not be made. detail: what a developer would want to know of it."""
        with self._records.change() as store:
            store.execute(
                "update file set state = 'failed', ended = ?, failure = ?, seconds = ?, frames_done = 0,"
                " partial = '', checksum = '', size_bytes = 0 where batch = ? and number = ?",
                (now_text(), storable(failure), seconds, self._batch, number),
            )
            self._enter(store, number, "failure", failure)
            if detail:
                self._enter(store, number, "detail", detail)

    def planned_again(self, numbers: Iterable[int], reason: str, detail: str = "") -> None:
        """Files are to be made after all, or once more."""
        with self._records.change() as store:
            for number in numbers:
                store.execute(
                    "update file set state = 'planned', partial = '', checksum = '', size_bytes = 0,"
                    " frames_done = 0, failure = '' where batch = ? and number = ?",
                    (self._batch, number),
                )
                self._enter(store, number, "state", f"planned again: {reason}")
                if detail:
                    self._enter(store, number, "detail", detail)

    def note(self, notice: Notice) -> None:
        """Note something that is to be known of the batch."""
        with self._records.change() as store:
            self._enter(store, 0, "warning", str(notice))

    def ask_to_stop(self, how: Stop) -> None:
        """Ask whoever runs the batch to stop."""
        with self._records.change() as store:
            store.execute("update batch set stop = ? where id = ?", (how, self._batch))

    def stop_asked(self) -> Stop:
        """The stop that was asked of whoever runs the batch."""
        return cast(Stop, self._records.ask("select stop from batch where id = ?", self._batch)[0][0])

    def entries(self, *, errors: bool = False, after: int = 0) -> list[tuple[int, Entry]]:
        """The log, oldest first, each entry with its key. errors: failures and their detail only.

        after: only what was entered after this key.
        """
        wanted = "and entry.kind in ('failure', 'detail')" if errors else ""
        rows = self._records.ask(
            "select entry.id, entry.at, entry.number, entry.kind, entry.text, file.path from entry"
            " left join file on file.batch = entry.batch and file.number = entry.number"
            f" where entry.batch = ? and entry.id > ? {wanted} order by entry.id",
            self._batch, after,
        )  # fmt: skip
        return [
            (key, Entry(at, number, kind, text, Path(os.fsdecode(path)).name if path else ""))
            for key, at, number, kind, text, path in rows
        ]

    def forget(self) -> None:
        """Remove the record of the batch; the media stay."""
        with self._records.change() as store:
            store.execute("delete from batch where id = ?", (self._batch,))

    def _enter(self, store: sqlite3.Connection, number: int, kind: str, text: str) -> None:
        store.execute(
            "insert into entry (batch, number, at, kind, text) values (?, ?, ?, ?, ?)",
            (self._batch, number, now_text(), kind, storable(text)),
        )
