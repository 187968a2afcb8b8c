"""What was made of finished files: manifests, sheets, pages, and who made them when."""

from __future__ import annotations

import os
from collections.abc import Collection
from pathlib import Path

from msgspec import Struct

from boxkite.core.records.journal import now_text
from boxkite.core.records.store import Records, storable

MANIFEST = "manifest"
SHOT_FOLDERS = "shot folders"
"""Places for work with links to the files: they are not sent with them."""
EMBEDDED = "embedded"
"""The kind of a handover that changes a file; its note is the file's checksum from then on."""


class Handover(Struct, frozen=True):
    """One thing that was made of finished files, or done with them."""

    at: str
    """Local time in ISO 8601."""
    who: str
    """The user's name, as the system says it."""
    kind: str
    """As "manifest" or "verified"."""
    path: Path | None
    """The file or folder that was written; None where none was."""
    note: str = ""
    """The outcome in a few words."""

    def __str__(self) -> str:
        """The line that the log has of it."""
        parts = [self.kind, f" by {self.who}" if self.who else ""]
        parts += [f": {self.path}" if self.path else "", f" ({self.note})" if self.note else ""]
        return "".join(parts)


def note_handover(
    records: Records, handover: Handover, batches: Collection[str], also: Collection[Path] = ()
) -> None:
    """Note it in the logs of some batches, by name; without one only that the paths are ours. Raises RecordsError.

    also: more files of the same kind that were written; the log has one line for all.
    """
    paths = [handover.path, *also]
    with records.change() as store:
        numbers = [
            number
            for name in dict.fromkeys(batches)
            for (number,) in store.execute("select id from batch where name = ?", (name,))
        ]
        store.executemany(
            "insert into handover (batch, at, who, kind, path, note) values (?, ?, ?, ?, ?, ?)",
            [
                (batch, handover.at, handover.who, handover.kind, storable(path), handover.note)
                for batch in numbers or [None]
                for path in paths
            ],
        )
        more = f" and {len(also)} more" if also else ""
        store.executemany(
            "insert into entry (batch, number, at, kind, text) values (?, 0, ?, 'handover', ?)",
            [(batch, now_text(), storable(f"{handover}{more}")) for batch in numbers],
        )


def handovers_of(records: Records, batch: str) -> list[Handover]:
    """What was done with the files of a batch, oldest first. Raises RecordsError."""
    rows = records.ask(
        "select at, who, kind, path, note from handover where batch = (select id from batch where name = ?)"
        " order by id",
        batch,
    )
    return [Handover(at, who, kind, _path(path), note) for at, who, kind, path, note in rows]


def embedded_checksums(records: Records) -> dict[Path, set[str]]:
    """The checksums of files into which values were embedded, or were about to be. Raises RecordsError."""
    found: dict[Path, set[str]] = {}
    for path, note in records.ask("select path, note from handover where kind = ?", EMBEDDED):
        found.setdefault(Path(os.fsdecode(path)), set()).add(note)
    return found


def paths_handed_over(records: Records) -> set[Path]:
    """Every file and folder that was written beside or of finished files. Raises RecordsError."""
    return {
        Path(os.fsdecode(path))
        for (path,) in records.ask("select distinct path from handover where kind <> ?", EMBEDDED)
        if path
    }


def _path(stored: bytes) -> Path | None:
    return Path(os.fsdecode(stored)) if stored else None
