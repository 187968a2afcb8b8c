"""Watching a folder: each source that arrives complete becomes part of a batch, once; others are set aside."""

from __future__ import annotations

import contextlib
import shutil
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager
from pathlib import Path

from msgspec import Struct, field

from boxkite.core.arrival.arrivals import Arrival, Settling, look_into
from boxkite.core.arrival.completeness import open_elsewhere, why_incomplete
from boxkite.core.batch.events import Event, FileEnded, OutOfSpace
from boxkite.core.batch.executors.executor import Executor
from boxkite.core.batch.executors.local import LocalExecutor
from boxkite.core.batch.notifications import Notifications
from boxkite.core.batch.recording import Batch, Work, begin_batch, resume_batch
from boxkite.core.batch.resuming import rest_of
from boxkite.core.batch.turns import Turn
from boxkite.core.errors import BoxkiteError, RequestError
from boxkite.core.files.checksum import text_checksum
from boxkite.core.files.walking import Unseen
from boxkite.core.footage.source import ImageSettings
from boxkite.core.job.job import Job
from boxkite.core.machine import usable_cores
from boxkite.core.plan.planning import make_plan
from boxkite.core.plan.rows import Row
from boxkite.core.records.arrivals import ArrivalLog, ArrivalRecord
from boxkite.core.records.batch_lock import BatchLock
from boxkite.core.records.store import Records

_LEFT_FREE_BYTES = 2_000_000
JobOf = Callable[[Sequence[Path]], Job]


class WatchSettings(Struct, frozen=True):
    """How a folder is watched."""

    settle_seconds: float = 10.0
    """Without a change before a file is looked into."""
    patience_seconds: float = 600.0
    """Without a change after which one that is not complete is set aside."""
    look_every_seconds: float = 2.0
    once: bool = False
    """End when nothing is left to wait for."""
    workers: int | None = None
    turn: Turn = "wait"
    cluster: str = ""
    """Address of a farm."""
    executor_of: Callable[[str, int | None], AbstractContextManager[Executor]] = lambda cluster, workers: (
        LocalExecutor(workers)
    )
    """Makes the executor for an address and a number of workers."""
    notifications: Notifications = field(default_factory=Notifications)
    images: ImageSettings = field(default_factory=ImageSettings)


class SetAside(Struct, frozen=True):
    """A source is not going to be made anything of, as it is."""

    arrival: Arrival
    reason: str


class BatchBegins(Struct, frozen=True):
    """Sources that arrived complete are being made."""

    batch: Batch
    rows: tuple[Row, ...]
    resumed: bool = False
    """A batch that an earlier watch did not end."""


class BatchEnds(Struct, frozen=True):
    """A batch has ended; its events reported the failures."""

    batch: Batch


class Unreachable(Struct, frozen=True):
    """The folder cannot be looked into just now; it is tried again."""

    folder: Path
    reason: str


WatchEvent = SetAside | BatchBegins | BatchEnds | Unreachable | Event


def watch(folder: Path, job_of: JobOf, settings: WatchSettings) -> Iterator[WatchEvent]:
    """Watch a folder until the caller ends it, and yield what happens.

    A folder is watched by one process at a time, by whatever name it is reached. Batches that an earlier watch left
    are resumed first. Raises RequestError where the folder is not there or is watched already.
    """
    if not folder.is_dir():
        raise RequestError("there is no such folder", path=folder)
    folder = folder.resolve()
    for output in job_of([]).outputs:
        if output.folder.resolve().is_relative_to(folder):
            raise RequestError(
                "this output folder is inside the watched folder",
                path=output.folder,
                hint="what is made would arrive there again: let the job write somewhere else",
            )
    key = watch_key(folder)
    taken = "this folder is being watched by another process"
    with (
        Records() as records,
        BatchLock(records.folder, key, taken=f"{folder}: {taken}", hint="one is enough"),
    ):
        yield from _Watch(folder, job_of, settings, records).events()


def watch_key(folder: Path) -> str:
    """The name of the lock that watching a folder holds."""
    return f"watch-{text_checksum(str(folder))[:16]}"


class _Watch:
    def __init__(self, folder: Path, job_of: JobOf, settings: WatchSettings, records: Records) -> None:
        self._folder = folder
        self._job_of = job_of
        self._settings = settings
        self._records = records
        self._landed = ArrivalLog(records, folder)
        self._settling = Settling()
        self._incomplete: dict[Path, tuple[str, str]] = {}
        self._looked = -settings.look_every_seconds
        self._arrivals: list[Arrival] = []
        self._unreachable = ""
        self._unseen: frozenset[Unseen] = frozenset()
        self._no_room: dict[str, OutOfSpace] = {}

    def events(self) -> Iterator[WatchEvent]:
        """All events, until the caller stops."""
        for name in self._landed.interrupted():
            yield from self._go_on_with(name)
        while True:
            yield from self._look()
            known = self._landed.all()
            whole, aside, waiting = self._sorted(known)
            for arrival, reason in aside:
                before = known.get(arrival.path)
                self._landed.set_aside(arrival.path, arrival.stamp, reason, before.batch if before else "")
                yield SetAside(arrival, reason)
            for name in self._with_room():
                yield from self._go_on_with(name)
            if whole:
                yield from self._make(whole)
            elif self._settings.once and not waiting and not self._unreachable:
                return
            else:
                time.sleep(self._settings.look_every_seconds)

    def _look(self) -> Iterator[WatchEvent]:
        """Look into the folder, unless that was just done."""
        now = time.monotonic()
        if now - self._looked < self._settings.look_every_seconds:
            return
        self._looked = now
        try:
            self._arrivals, unseen = look_into(self._folder)
            self._unreachable = ""
            for one in dict.fromkeys(unseen):
                if one not in self._unseen:
                    yield Unreachable(one.path, one.reason)
            self._unseen = frozenset(unseen)
        except OSError as error:
            reason = error.strerror or str(error)
            if reason != self._unreachable:
                yield Unreachable(self._folder, reason)
            self._unreachable, self._arrivals = reason, []
            return
        self._settling.seen(self._arrivals)

    def _sorted(
        self, known: Mapping[Path, ArrivalRecord]
    ) -> tuple[list[Arrival], list[tuple[Arrival, str]], list[Arrival]]:
        """(what is complete, what is to be set aside with its reason, what is waited for) of all that is new."""
        whole: list[Arrival] = []
        aside: list[tuple[Arrival, str]] = []
        waiting: list[Arrival] = []
        for arrival in self._arrivals:
            landing = known.get(arrival.path)
            if landing and landing.stamp == arrival.stamp:
                continue
            still = self._settling.still_for(arrival)
            if still < self._settings.settle_seconds:
                waiting.append(arrival)
                continue
            reason = self._why_not(arrival)
            if landing and landing.batch and not reason:
                reason = "it has changed since it was taken into batch"
                aside.append((arrival, f"{reason} {landing.batch}: give it another name to have it made"))
            elif not reason:
                whole.append(arrival)
            elif still >= self._settings.patience_seconds:
                aside.append((arrival, f"it was never complete: {reason}"))
            else:
                waiting.append(arrival)
        return whole, aside, waiting

    def _why_not(self, arrival: Arrival) -> str:
        """Why an arrival that has settled is not complete; looked into once as long as it stays as it is."""
        if busy := open_elsewhere(arrival.files):
            return f"{busy.name} is still being written to"
        stamp, reason = self._incomplete.get(arrival.path, ("", ""))
        if stamp != arrival.stamp:
            reason = why_incomplete(arrival, self._settings.images)
            self._incomplete[arrival.path] = (arrival.stamp, reason)
        return reason

    def _make(self, whole: Sequence[Arrival]) -> Iterator[WatchEvent]:
        """Make a batch of what is complete; what cannot be planned is set aside, so that it holds up nothing else."""
        job: Job | None = None
        try:
            job = self._job_of([file for arrival in whole for file in arrival.files])
            plan = make_plan(job)
        except BoxkiteError as error:
            if len(whole) > 1:
                for arrival in whole:
                    yield from self._make([arrival])
                return
            reason = error.text + (f" ({error.hint})" if error.hint else "")
            self._landed.set_aside(whole[0].path, whole[0].stamp, reason)
            yield SetAside(whole[0], reason)
            return
        batch = Batch(
            turn=self._settings.turn,
            job=job,
            notifications=self._settings.notifications,
            cluster=self._settings.cluster,
        )
        stamps = {arrival.path: arrival.stamp for arrival in whole}
        with self._executor(self._settings.workers) as executor:
            batch.notices += executor.prepare(plan.to_make)
            work = begin_batch(
                plan,
                batch,
                self._records,
                executor.size,
                cores=executor.cores,
                also=self._landed.take(stamps),
            )
            with BatchLock(self._records.folder, batch.name):
                yield BatchBegins(batch, plan.to_make)
                yield from self._run(batch, work, executor)

    def _go_on_with(self, name: str) -> Iterator[WatchEvent]:
        """Finish a batch that an earlier watch began, or that had no room; whoever else runs it keeps it."""
        self._no_room.pop(name, None)
        try:
            with BatchLock(self._records.folder, name):
                rest = rest_of(self._records, name)
                batch = Batch(turn=self._settings.turn, notifications=self._settings.notifications, name=name)
                batch.notices.extend(rest.notices)
                yield BatchBegins(batch, rest.work.rows, resumed=True)
                workers = self._settings.workers or rest.record.workers or usable_cores()
                with self._executor(workers) as executor:
                    batch.notices += executor.prepare(rest.work.rows)
                    yield from self._run(batch, rest.work, executor)
        except BoxkiteError as error:
            yield Unreachable(self._folder, f"batch {name} cannot be resumed: {error.text}")

    def _with_room(self) -> list[str]:
        """The batches that stopped for want of room and whose volume has room for the next file by now."""
        found = []
        for name, out_of_space in self._no_room.items():
            with contextlib.suppress(OSError):
                if shutil.disk_usage(out_of_space.folder).free > out_of_space.needed_bytes + _LEFT_FREE_BYTES:
                    found.append(name)
        return found

    def _run(self, batch: Batch, work: Work, executor: Executor) -> Iterator[WatchEvent]:
        """Run a batch that is held, and go on looking into the folder meanwhile."""
        full: list[Row] = []
        with contextlib.closing(resume_batch(self._records, work, executor, batch)) as events:
            for event in events:
                if isinstance(event, FileEnded) and event.result.out_of_space:
                    full.append(event.row)
                yield event
                yield from self._look()
        if batch.out_of_space and not batch.stopped:
            self._no_room[batch.name] = batch.out_of_space
        elif full:
            self._no_room[batch.name] = OutOfSpace(tuple(full), full[0].folder, full[0].expected_bytes, 0)
        yield BatchEnds(batch)

    def _executor(self, workers: int | None) -> AbstractContextManager[Executor]:
        return self._settings.executor_of(self._settings.cluster, workers)
