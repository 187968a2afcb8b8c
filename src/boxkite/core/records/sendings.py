"""What was sent where: one record per sending to one destination, and per file of it. Addresses hold no secret."""

from __future__ import annotations

import os
from collections.abc import Iterable
from pathlib import Path

from msgspec import Struct

from boxkite.core.records.journal import now_text
from boxkite.core.records.store import Records, storable


class SentFile(Struct, frozen=True):
    """A file that is at a destination, or on its way there."""

    name: str
    """Its path there, below the destination."""
    path: Path
    """Where it was here."""
    checksum: str
    """XXH3 of 128 bits."""
    size_bytes: int
    partial: str = ""
    """Its hidden name there while it is sent."""
    state: str = "begun"
    """begun, sent or failed."""
    tag: str = ""
    """By which its destination tells one state of the file from another."""
    how: str = ""
    """How it was checked, or why it failed."""
    at: str = ""


_KEYS = "name, path, checksum, size_bytes, partial, state, tag, how, at"


class SendingJournal:
    """The journal of one sending to one destination."""

    def __init__(self, records: Records, destination: str, who: str) -> None:
        """Begin it. Raises RecordsError."""
        self._records = records
        with records.change() as store:
            self._id = store.execute(
                "insert into sending (destination, who, started) values (?, ?, ?)",
                (destination, who, now_text()),
            ).lastrowid

    def begin(self, files: Iterable[SentFile]) -> None:
        """Note files before the first byte of them goes out."""
        with self._records.change() as store:
            store.executemany(
                f"insert or replace into sent_file (sending, {_KEYS}) values (?, ?, ?, ?, ?, ?, 'begun', '', '', ?)",
                [(self._id, one.name, storable(one.path), one.checksum, one.size_bytes, one.partial, now_text())
                 for one in files],
            )  # fmt: skip

    def is_now(self, name: str, state: str, *, tag: str = "", how: str = "") -> None:
        """Note that a file was sent, or that it failed."""
        with self._records.change() as store:
            store.execute(
                "update sent_file set state = ?, tag = ?, how = ?, at = ? where sending = ? and name = ?",
                (state, tag, storable(how), now_text(), self._id, name),
            )

    def tags(self, found: Iterable[tuple[str, str]]) -> None:
        """Note (name, tag) of files once they have their names."""
        with self._records.change() as store:
            store.executemany(
                "update sent_file set tag = ? where sending = ? and name = ?",
                [(tag, self._id, name) for name, tag in found],
            )

    def end(self) -> None:
        """Note that it is over."""
        with self._records.change() as store:
            store.execute("update sending set ended = ? where id = ?", (now_text(), self._id))


def sent_to(records: Records, destination: str) -> dict[str, SentFile]:
    """The last that is known of every file that was sent to a destination, by its name there. Raises RecordsError."""
    rows = records.ask(
        f"select {_KEYS} from sent_file join sending on sending.id = sent_file.sending where destination = ?"
        " and state = 'sent' order by sending.id",
        destination,
    )
    return {row[0]: _read(row) for row in rows}


def half_sent_to(records: Records, destination: str) -> list[SentFile]:
    """The files whose partial names may still be at a destination. Raises RecordsError."""
    rows = records.ask(
        f"select distinct {_KEYS} from sent_file join sending on sending.id = sent_file.sending"
        " where destination = ? and state <> 'sent' and partial <> ''",
        destination,
    )
    return [_read(row) for row in rows]


def forget_partial(records: Records, destination: str, partial: str) -> None:
    """Note that a partial name is gone. Raises RecordsError."""
    with records.change() as store:
        store.execute(
            "update sent_file set partial = '' where partial = ? and state <> 'sent'"
            " and sending in (select id from sending where destination = ?)",
            (partial, destination),
        )


def _read(row: tuple[object, ...]) -> SentFile:
    name, path, *rest = row
    return SentFile(str(name), Path(os.fsdecode(path)), *rest)  # type: ignore[arg-type]
