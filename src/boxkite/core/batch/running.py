"""Running a plan: shots handed out, failures tried again where that can help, finished files given their names."""

from __future__ import annotations

import re
import time
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace

from boxkite.core.batch.disk_space import DiskSpace
from boxkite.core.batch.events import (
    Event,
    FileEnded,
    FileReady,
    FramesDone,
    Noted,
    OutOfSpace,
    ShotStarted,
    Tick,
    TriedAgain,
)
from boxkite.core.batch.executors.executor import Executor, WorkerEvent
from boxkite.core.batch.executors.messages import ShotTask
from boxkite.core.batch.sharing import effort_of, settle_threads
from boxkite.core.errors import BoxkiteError
from boxkite.core.files.checksum import file_checksum
from boxkite.core.files.folders import prepare_folders
from boxkite.core.files.partials import Partial
from boxkite.core.files.replacing import give_name
from boxkite.core.plan.rows import Row, decode_groups
from boxkite.core.records.record import Stop
from boxkite.core.render.failures import failed
from boxkite.core.render.result import Result

_LISTEN_SECONDS = 0.4
_MOST_ATTEMPTS = 3
_MOST_CRASHES = 2
_PAUSE_SECONDS = 2.0


@dataclass
class BatchControl:
    """Control of a running batch."""

    stop: Stop = ""
    workers: int | None = None
    """Most shots side by side; None for all there are."""


@dataclass
class _Shot:
    """Rows that share one reading of their source, and what became of them so far."""

    rows: tuple[Row, ...]
    threads: int
    attempts: int = 0
    crashes: int = 0
    not_before: float = 0.0
    partials: tuple[Partial, ...] = ()


@dataclass
class _Run:
    executor: Executor
    control: BatchControl
    waiting: list[_Shot]
    at_work: dict[int, _Shot] = field(default_factory=dict)
    owned: set[Partial] = field(default_factory=set)
    """Every partial file that has been begun and has neither got its name nor been removed."""
    finished: list[tuple[Row, Result, Partial | None]] = field(default_factory=list)
    room: DiskSpace = field(default_factory=DiskSpace)
    out_of_space: OutOfSpace | None = None

    def events(self) -> Iterator[Event]:
        """Everything that happens until all shots are made, or as far as the orders and the disks let them."""
        try:
            while True:
                yield from self._hand_out()
                yield from self._name()
                if self.control.stop == "now" or not (self.at_work or self._is_more_to_come()):
                    break
                for partial in (one for shot in self.at_work.values() for one in shot.partials):
                    partial.renew()
                event = self.executor.next_event(_LISTEN_SECONDS)
                if event is None:
                    yield Tick()
                elif not event.is_over and event.message:
                    yield FramesDone(event.rows[0].number, event.message.frames)
                else:
                    yield from self._take(event)
        finally:
            for partial in tuple(self.owned):  # the executor removes those at work once more when it ends
                self._remove(partial)
        if self.out_of_space and not self.control.stop:
            yield replace(self.out_of_space, rows=tuple(row for shot in self.waiting for row in shot.rows))

    def _is_more_to_come(self) -> bool:
        return bool(self.waiting and not self.control.stop and not self.out_of_space)

    def _hand_out(self) -> Iterator[Event]:
        """Give shots to those who are idle."""
        self.out_of_space = None
        while self.waiting and not self.control.stop and self.executor.busy < self._side_by_side():
            shot = self._next()
            if shot is None:
                return
            self.waiting.remove(shot)
            shot.attempts += 1
            rows, partials = self._with_partials(shot.rows)
            if not rows:
                yield from self._name()  # which tells why
                continue
            begun = replace(shot, rows=rows, partials=partials)
            yield ShotStarted(rows)
            self.at_work[rows[0].number] = begun
            task = ShotTask(rows, tuple(partial.path for partial in partials), shot.threads)
            self.executor.submit(task, partials)

    def _with_partials(self, rows: Sequence[Row]) -> tuple[tuple[Row, ...], tuple[Partial, ...]]:
        """The rows whose partial file could be made, and those files; the other rows have failed."""
        able, partials = [], []
        for row in rows:
            try:
                partials.append(Partial(row.path, folder=row.preset.is_sequence, among=self.owned))
                able.append(row)
            except OSError as error:
                self._has_failed(row, failed(row, error))
        return tuple(able), tuple(partials)

    def _remove(self, partial: Partial) -> None:
        partial.discard()
        self.owned.discard(partial)

    def _has_failed(self, row: Row, result: Result) -> None:
        if result.out_of_space:
            self.room.was_full(row)
        self.finished.append((row, result, None))

    def _side_by_side(self) -> int:
        return min(self.executor.size, self.control.workers or self.executor.size)

    def _next(self) -> _Shot | None:
        """The first shot whose time has come and whose files fit on their disks."""
        now = time.monotonic()
        running = [row for shot in self.at_work.values() for row in shot.rows]
        for shot in self.waiting:
            if shot.not_before > now:
                continue
            out_of_space = self.room.out_of_space(shot.rows, running)
            if out_of_space is None:
                return shot
            self.out_of_space = OutOfSpace(shot.rows, *out_of_space)
        if any(shot.not_before > now for shot in self.waiting):
            self.out_of_space = None
        return None

    def _take(self, event: WorkerEvent) -> Iterator[Event]:
        """Take the results of a shot."""
        shot = self.at_work.pop(event.rows[0].number)
        owned = {row.number: partial for row, partial in zip(event.rows, event.partials, strict=True)}
        if event.message is None:
            for partial in owned.values():
                self._remove(partial)
            yield from self._lost(shot, event)
            return
        by_number = {row.number: row for row in shot.rows}
        again = []
        for result in event.message.results:
            row = by_number[result.row_number]
            if result.failure:
                self._remove(owned[row.number])
            if result.may_pass and shot.attempts < _MOST_ATTEMPTS and not self.control.stop:
                again.append(row)
                yield TriedAgain((row,), result.failure, _detail(result.detail, event.output))
                continue
            if result.failure:
                self._has_failed(row, replace(result, detail=_detail(result.detail, event.output)))
            else:
                self.finished.append((row, replace(result, detail=""), owned[row.number]))
        if again:
            pause = time.monotonic() + _PAUSE_SECONDS * shot.attempts
            self._put_back(replace(shot, rows=tuple(again), not_before=pause))

    def _lost(self, shot: _Shot, event: WorkerEvent) -> Iterator[Event]:
        """A worker died over a shot: its files are made once more, one at a time, so that only the guilty one fails."""
        reason = f"the process that made it ended ({event.lost}); the codec library may have crashed on it"
        if shot.crashes + 1 < _MOST_CRASHES and not self.control.stop:
            yield TriedAgain(shot.rows, reason, event.output)
            for row in shot.rows:
                self._put_back(replace(shot, rows=(row,), crashes=shot.crashes + 1))
            return
        for row in shot.rows:
            self._has_failed(row, Result(row.number, row.path, failure=reason, detail=event.output))

    def _put_back(self, shot: _Shot) -> None:
        self.waiting.insert(0, shot)

    def _name(self) -> Iterator[Event]:
        """Give finished files their names; what listens may note each before and after."""
        while self.finished:
            row, result, partial = self.finished[0]
            if partial:
                yield FileReady(row, result, partial.path)
                result = named(row, result, partial)
                if result.verification:
                    self.room.made(row, result.verification.size_bytes)
                self.owned.discard(partial)
            self.finished.pop(0)
            yield FileEnded(row, result)


def run_plan(
    rows: Sequence[Row],
    executor: Executor,
    *,
    threads: Mapping[int, int] | None = None,
    control: BatchControl | None = None,
) -> Iterator[Event]:
    """Make every file of some rows of a plan and yield what happens, in the order it does.

    A shot's files share one decode. threads: those settled for each row, by its number. A worker that dies costs
    its own files one more attempt. Raises PlanError, before anything is made, when a folder cannot be written to.
    """
    for notice in prepare_folders({row.path.parent for row in rows}):
        yield Noted(notice)
    settled = threads or settle_threads(rows, executor.cores, executor.size)
    shots = [
        _Shot(alike, count)
        for count in sorted(set(settled.values()))
        for alike in decode_groups([row for row in rows if settled[row.number] == count])
    ]
    shots.sort(key=lambda shot: (-effort_of(shot.rows), shot.rows[0].number))
    yield from _Run(executor, control or BatchControl(), shots).events()


def named(row: Row, result: Result, partial: Partial) -> Result:
    """Give a verified file its name. Where that is taken by a file with the same bytes, it has got it before."""
    assert result.verification
    try:
        give_name(partial, replacing=row.replaces.stamp if row.replaces else "")
    except (BoxkiteError, OSError) as error:
        try:
            is_ours = row.path.exists() and file_checksum(row.path) == result.verification.checksum
        except OSError:
            is_ours = False
        partial.discard()
        if not is_ours:
            return replace(failed(row, error), seconds=result.seconds)
    return result


_ADDRESS = re.compile(r" @ 0x[0-9a-f]+")


def _detail(traceback: str, output: str) -> str:
    """The detail for the log: the traceback, and what libraries printed, without memory addresses."""
    output = _ADDRESS.sub("", output)
    return "\n".join(part for part in (traceback, output) if part)
