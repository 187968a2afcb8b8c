"""How far batches are: counted in the store, without reading their files one by one."""

from __future__ import annotations

import json
from datetime import datetime
from pathlib import Path
from typing import Literal, NamedTuple

from boxkite.core.records.batch_lock import is_held
from boxkite.core.records.store import LAST, Records

Awaited = Literal["", "room"]
"""Reasons why a stopped batch waits: none, or room on a disk."""
_ALIVE = ("waiting", "running")


class Overview(NamedTuple):
    """How far a batch is."""

    name: str
    state: str
    started: datetime
    seconds: float
    """It has run."""
    folders: tuple[Path, ...]
    files: int
    verified: int
    failed: int
    frames: int
    """That its files will hold, frames_done: that are made."""
    frames_done: int
    size_bytes: int
    stop: str = ""
    held: bool = False
    """Whether a process is running it, or waiting for its turn, just now."""
    note: str = ""
    waits_for: Awaited = ""
    steps_left: int = 0
    """Steps after its files that are not done."""
    steps_failed: int = 0

    @property
    def shown_state(self) -> str:
        """The state as people say it."""
        if self.held:
            return "stopping" if self.stop else self.state
        if self.state in ("running", "waiting"):
            return "interrupted"
        if self.state == "stopped":
            return "stopped"
        if self.failed:
            return f"ended, {self.failed} failed"
        if self.verified != self.files:
            return "unfinished"
        return "all verified" if not self.steps_left else f"all verified, {self.steps_left} steps left"

    @property
    def frames_a_second(self) -> float:
        """How fast it has been so far; 0 where that is not known yet."""
        return self.frames_done / self.seconds if self.seconds else 0.0

    @property
    def seconds_left(self) -> float | None:
        """About how long it is going to run; None where it does not, or where that is not known yet."""
        if not self.held or self.state != "running" or not self.frames_a_second:
            return None
        return (self.frames - self.frames_done) / self.frames_a_second

    @property
    def is_whole(self) -> bool:
        """Whether every file of it is verified."""
        return self.verified == self.files


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
        steps_left, steps_failed = records.ask(
            "select coalesce(sum(state <> 'done'), 0), coalesce(sum(state = 'failed'), 0) from step where batch = ?",
            identity,
        )[0]
        held = state in _ALIVE and is_held(records.folder, name)
        found.append(
            Overview(name, state, datetime.fromisoformat(started), seconds, tuple(map(Path, json.loads(folders))),
                     files, verified, failed, frames, done, size, stop, held, note, waits_for, steps_left, steps_failed)
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
        " or exists (select 1 from step where batch = batch.id and state != 'done')"
        " order by id desc limit 50"
    ))  # fmt: skip
    found = overviews(records, names) if names else []
    return sorted((one for one in found if not one.held), key=lambda one: names.index(one.name))
