"""How far batches are: counted in the store, without reading their files one by one."""

from __future__ import annotations

import json
from datetime import datetime
from pathlib import Path

from boxkite.core.records.batch_lock import is_held
from boxkite.core.records.record import Overview
from boxkite.core.records.store import LAST, Records

_ALIVE = ("waiting", "running")


def overviews(records: Records, names: tuple[str, ...] = (), *, latest: int = 20) -> list[Overview]:
    """How far batches are, the latest first. names: only these, else so many of the latest. Raises RecordsError."""
    for name in names:
        records.batch(name, with_files=False)
    if LAST in names:
        names = (records.batch(LAST, with_files=False).name,)
    wanted = f"where name in ({', '.join('?' * len(names))})" if names else "order by id desc limit ?"
    found = []
    for identity, name, state, started, seconds, folders, stop, note, waits_for in records.ask(
        f"select id, name, state, started, seconds, folders, stop, note, waits_for from batch {wanted}",
        *(names or (latest,)),
    ):
        files, verified, failed, frames, done, size = records.ask(
            "select count(*), coalesce(sum(state = 'verified'), 0), coalesce(sum(state = 'failed'), 0),"
            " coalesce(sum(frames), 0), coalesce(sum(frames_done), 0),"
            " coalesce(sum(case when state = 'verified' then size_bytes end), 0) from file where batch = ?",
            identity,
        )[0]
        held = state in _ALIVE and is_held(records.folder, name)
        found.append(
            Overview(name, state, datetime.fromisoformat(started), seconds, tuple(map(Path, json.loads(folders))),
                     files, verified, failed, frames, done, size, stop, held, note, waits_for)
        )  # fmt: skip
    return found


def alive(records: Records) -> list[tuple[str, str]]:
    """(name, stored state) of the batches that a process runs or waits to run, oldest first. Raises RecordsError."""
    rows = records.ask("select name, state from batch where state in ('waiting', 'running') order by id")
    return [(name, state) for name, state in rows if is_held(records.folder, name)]


def unfinished(records: Records) -> list[Overview]:
    """The batches that have files left to be made and that nobody runs, the latest first. Raises RecordsError."""
    names = tuple(name for (name,) in records.ask(
        "select name from batch where exists (select 1 from file where batch = batch.id and state != 'verified')"
        " order by id desc limit 50"
    ))  # fmt: skip
    found = overviews(records, names) if names else []
    return sorted((one for one in found if not one.held), key=lambda one: names.index(one.name))
