"""Running a plan: shots handed out, failures tried again where that can help, finished files given their names."""

from __future__ import annotations

import itertools
import time
from collections.abc import Iterator, Mapping, Sequence

from msgspec import Struct, field
from msgspec.structs import replace

from boxkite.core.batch.chunked import ChunkedShot
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
from boxkite.core.batch.sharing import settle_threads, stretches_of
from boxkite.core.errors import BoxkiteError
from boxkite.core.files.checksum import file_checksum
from boxkite.core.files.folders import prepare_folders
from boxkite.core.files.moving import sync_folder
from boxkite.core.files.partials import Partial
from boxkite.core.files.replacing import give_name
from boxkite.core.plan.rows import Row
from boxkite.core.records.record import Stop
from boxkite.core.render.failures import failed
from boxkite.core.render.result import Result

_LISTEN_SECONDS = 0.4
_MOST_ATTEMPTS = 3
_MOST_CRASHES = 2
_PAUSE_SECONDS = 2.0


class BatchControl(Struct):
    """Control of a running batch."""

    stop: Stop = ""
    workers: int | None = None
    """Most shots side by side; None for all there are."""


class _Shot(Struct):
    """Rows that share one reading of their source, and what became of them so far."""

    rows: tuple[Row, ...]
    threads: int
    attempts: int = 0
    crashes: int = 0
    not_before: float = 0.0
    partials: tuple[Partial, ...] = ()
    chunked: ChunkedShot | None = None
    """Of a shot whose chunks are encoded apart: chunk says which of them this is, None for the joining of all."""
    chunk: int | None = None
    stretch: int = 0
    """Shots of one stretch lie close in their source: one worker makes them in turn."""

    @property
    def has_begun(self) -> bool:
        """Whether it is the rest of a shot that others have begun."""
        return self.chunked is not None and self.chunked.has_begun

    def task(
        self, rows: Sequence[Row], partials: Sequence[Partial], *, is_followed: bool = False
    ) -> ShotTask:
        """What a worker is given of it. is_followed: whether others of its stretch wait."""
        paths = tuple(partial.path for partial in partials)
        if self.chunked is None:
            return ShotTask(tuple(rows), paths, self.threads, is_followed=is_followed)
        if self.chunk is not None:
            span = self.chunked.span_of(self.chunk)
            return ShotTask(tuple(rows), paths, self.threads, chunk=span, is_audio=span is None)
        chunks = tuple(tuple(one.path for one in self.chunked.files_of(row)) for row in rows)
        return ShotTask(tuple(rows), paths, self.threads, chunks=chunks)


class _Run(Struct):
    executor: Executor
    control: BatchControl
    waiting: list[_Shot]
    at_work: dict[tuple[int, int], _Shot] = field(default_factory=dict)
    owned: set[Partial] = field(default_factory=set)
    """Every partial file that has been begun and has neither got its name nor been removed."""
    finished: list[tuple[Row, Result, Partial | None]] = field(default_factory=list)
    room: DiskSpace = field(default_factory=DiskSpace)
    out_of_space: OutOfSpace | None = None
    latest_stretch: int = -1
    """That of the shot that has ended last, or is about to."""

    def events(self) -> Iterator[Event]:
        """Everything that happens until all shots are made, or as far as the orders and the disks let them."""
        try:
            while True:
                yield from self._hand_out()
                yield from self._name()
                if self.control.stop == "now" or not (self.at_work or self._is_more_to_come()):
                    break
                for partial in self.owned:
                    partial.renew()
                event = self.executor.next_event(_LISTEN_SECONDS)
                if event is None:
                    yield Tick()
                elif not event.is_over and event.message:
                    yield self._frames_done(event, event.message.frames)
                else:
                    yield from self._take(event)
        finally:
            for partial in tuple(self.owned):  # the executor removes those at work once more when it ends
                self._remove(partial)
        if self.out_of_space and not self.control.stop:
            left = {row.number: row for shot in self.waiting for row in shot.rows}
            yield replace(self.out_of_space, rows=tuple(left.values()))

    def _is_more_to_come(self) -> bool:
        if self.control.stop:  # what has begun, of shots in chunks, is brought to its end
            return self.control.stop == "after" and any(shot.has_begun for shot in self.waiting)
        return bool(self.waiting and not self.out_of_space)

    def _hand_out(self) -> Iterator[Event]:
        """Give shots to those who are idle."""
        self.out_of_space = None
        while self.waiting and self.control.stop != "now" and self.executor.busy < self._side_by_side():
            shot = self._next()
            if shot is None:
                return
            self.waiting.remove(shot)
            shot.attempts += 1
            chunked = shot.chunked
            wanted = [row for row in shot.rows if chunked is None or row in chunked.rows]
            rows, partials = self._with_partials(wanted)
            if chunked and len(rows) < len(wanted):
                lost = [row for row in wanted if row not in rows]
                chunked.rows = [row for row in chunked.rows if row not in lost]
                self._remove_chunks(chunked, lost)
            if not rows:
                yield from self._name()  # which tells why
                if chunked and shot.chunk is not None:
                    self._chunk_is_made(shot, chunked, shot.chunk, {}, ())
                continue
            begun = replace(shot, rows=rows, partials=partials)
            if not shot.has_begun:
                yield ShotStarted(tuple(chunked.rows) if chunked else rows)
            if chunked:
                chunked.has_begun = True
            following = (one.stretch for one in self._of_stretches_begun(shot.stretch))
            task = begun.task(rows, partials, is_followed=shot.stretch in following)
            self.at_work[task.key] = begun
            self.executor.submit(task, partials)

    def _frames_done(self, event: WorkerEvent, frames: int) -> FramesDone:
        """How far a shot is, over all its chunks."""
        shot = self.at_work[event.task.key]
        if event.is_ending:
            self.latest_stretch = shot.stretch
        if shot.chunked is None:
            return FramesDone(event.rows[0].number, frames)
        return FramesDone(shot.chunked.number, shot.chunked.frames_done(shot.chunk, frames))

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
        running = {row.number: row for shot in self.at_work.values() for row in shot.rows}.values()
        for shot in self._in_turn():
            if shot.not_before > now or (self.control.stop and not shot.has_begun):
                continue
            if shot.has_begun:
                return shot
            out_of_space = self.room.out_of_space(shot.rows, running)
            if out_of_space is None:
                return shot
            self.out_of_space = OutOfSpace(shot.rows, *out_of_space)
        if any(shot.not_before > now for shot in self.waiting):
            self.out_of_space = None
        return None

    def _in_turn(self) -> Iterator[_Shot]:
        """What waits: first the next for the worker that has just become idle, then stretches that nobody is at."""
        begun = self._of_stretches_begun(self.latest_stretch)
        yield from (shot for shot in begun if shot.stretch == self.latest_stretch)
        yield from itertools.islice(self.waiting, len(begun), None)
        yield from (shot for shot in begun if shot.stretch != self.latest_stretch)

    def _of_stretches_begun(self, stretch: int) -> list[_Shot]:
        """What waits of the stretches that somebody is at, and of another one: it stands before all others."""
        begun = {stretch, *(shot.stretch for shot in self.at_work.values())}
        return list(itertools.takewhile(lambda shot: shot.stretch in begun, self.waiting))

    def _take(self, event: WorkerEvent) -> Iterator[Event]:
        """Take the results of a shot."""
        shot = self.at_work.pop(event.task.key)
        if not event.has_begun:
            for partial in event.partials:
                self._remove(partial)
            yield TriedAgain(shot.rows, event.reason_lost, "")
            self._put_back(replace(shot, attempts=shot.attempts - 1))
            return
        self.latest_stretch = shot.stretch
        if shot.chunked and shot.chunk is not None:
            yield from self._take_chunk(shot, shot.chunked, shot.chunk, event)
            return
        owned = {row.number: partial for row, partial in zip(event.rows, event.partials, strict=True)}
        if event.message is None:
            for partial in owned.values():
                self._remove(partial)
            yield from self._lost(shot, event)
            return
        by_number = {row.number: row for row in shot.rows}
        again = []
        chunked = shot.chunked
        results = event.message.results
        for result in map(chunked.with_chunks, results) if chunked else results:
            row = by_number[result.row_number]
            if result.failure:
                self._remove(owned[row.number])
            if result.may_pass and shot.attempts < _MOST_ATTEMPTS and not self.control.stop:
                again.append(row)
                yield TriedAgain((row,), result.failure, event.with_output(result.detail))
                continue
            if result.failure:
                self._has_failed(row, replace(result, detail=event.with_output(result.detail)))
            else:
                self.finished.append((row, replace(result, detail=""), owned[row.number]))
        if again:
            self._put_back_later(shot, again)
        if chunked:
            self._remove_chunks(chunked, [row for row in shot.rows if row not in again])

    def _take_chunk(
        self, shot: _Shot, chunked: ChunkedShot, chunk: int, event: WorkerEvent
    ) -> Iterator[Event]:
        """Take a chunk of a shot; after the last one they are joined. A file fails with its first chunk that does."""
        results = event.message.results if event.message else ()
        owned = {row.number: partial for row, partial in zip(event.rows, event.partials, strict=True)}
        reason = event.reason_lost
        passing = [result for result in results if result.may_pass]
        again = shot.crashes + 1 < _MOST_CRASHES if reason else passing and shot.attempts < _MOST_ATTEMPTS
        if again and not self.control.stop:
            for partial in owned.values():
                self._remove(partial)
            detail = event.with_output(passing[0].detail if passing else "")
            yield TriedAgain(shot.rows, reason or passing[0].failure, detail)
            self._put_back_later(replace(shot, crashes=shot.crashes + bool(reason)), shot.rows)
            return
        by_number = {row.number: row for row in shot.rows}
        for row in shot.rows if reason else ():
            self._remove(owned[row.number])
            self._fail_chunked(
                chunked, row, Result(row.number, row.path, failure=reason, detail=event.output)
            )
        for result in results:
            if result.failure:
                self._remove(owned.pop(result.row_number))
                detailed = replace(result, detail=event.with_output(result.detail))
                self._fail_chunked(chunked, by_number[result.row_number], detailed)
        self._chunk_is_made(shot, chunked, chunk, {} if reason else owned, results)

    def _chunk_is_made(
        self,
        shot: _Shot,
        chunked: ChunkedShot,
        chunk: int,
        files: dict[int, Partial],
        results: Sequence[Result],
    ) -> None:
        """Nothing is left to do for a chunk. After the last one they are joined."""
        chunked.has_made(chunk, files, results)
        self._remove_chunks(chunked, [row for row in shot.rows if row not in chunked.rows])
        if not chunked.rows:
            self.waiting = [one for one in self.waiting if one.chunked is not chunked]
        elif chunked.is_made:
            self._put_back(_Shot(tuple(chunked.rows), shot.threads, chunked=chunked))

    def _fail_chunked(self, chunked: ChunkedShot, row: Row, result: Result) -> None:
        """A row has failed with one of its chunks; others of it need not be made."""
        if row in chunked.rows:
            chunked.rows.remove(row)
            self._has_failed(row, result)

    def _remove_chunks(self, chunked: ChunkedShot, rows: Sequence[Row]) -> None:
        """Remove the chunks of rows that need them no longer."""
        for row in rows:
            for files in chunked.made.values():
                if row.number in files:
                    self._remove(files.pop(row.number))

    def _lost(self, shot: _Shot, event: WorkerEvent) -> Iterator[Event]:
        """A worker died over a shot: its files are made once more, one at a time, so that only the guilty one fails."""
        reason = event.reason_lost
        if shot.crashes + 1 < _MOST_CRASHES and not self.control.stop:
            yield TriedAgain(shot.rows, reason, event.output)
            for row in shot.rows:
                self._put_back(replace(shot, rows=(row,), crashes=shot.crashes + 1))
            return
        for row in shot.rows:
            self._has_failed(row, Result(row.number, row.path, failure=reason, detail=event.output))

    def _put_back_later(self, shot: _Shot, rows: Sequence[Row]) -> None:
        pause = time.monotonic() + _PAUSE_SECONDS * shot.attempts
        self._put_back(replace(shot, rows=tuple(rows), not_before=pause))

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

    A shot's files share one decode. threads: those settled for each row. A worker that dies costs its own files one
    more attempt. Raises PlanError, before anything is made, when a folder cannot be written to.
    """
    for notice in prepare_folders({row.path.parent for row in rows}):
        yield Noted(notice)
    settled = threads or settle_threads(rows, executor.cores, executor.size)
    shots: list[_Shot] = []
    for stretch in stretches_of(rows, settled, executor.size):
        made = [shot for alike in stretch for shot in _shots_of(alike, settled[alike[0].number])]
        own = itertools.count(len(shots)) if made[0].chunked else itertools.repeat(len(shots))
        shots += [replace(shot, stretch=place) for shot, place in zip(made, own, strict=False)]
    yield from _Run(executor, control or BatchControl(), shots).events()


def _shots_of(rows: tuple[Row, ...], threads: int) -> list[_Shot]:
    """What workers are given for some rows that share one reading: all at once, or chunk by chunk."""
    spans = rows[0].chunks
    if not spans:
        return [_Shot(rows, threads)]
    sounding = tuple(row for row in rows if row.preset.audio and (row.audio_tracks or row.is_silent_track))
    chunked = ChunkedShot(rows[0].number, list(rows), spans, len(spans) + bool(sounding))
    audio = [_Shot(sounding, threads, chunked=chunked, chunk=len(spans))] if sounding else []
    return [*audio, *(_Shot(rows, threads, chunked=chunked, chunk=place) for place in range(len(spans)))]


def named(row: Row, result: Result, partial: Partial) -> Result:
    """Give a verified file its name. Where that is taken by a file with the same bytes, it has got it before."""
    assert result.verification
    try:
        give_name(partial, replacing=row.replaces.stamp if row.replaces else "")
    except (BoxkiteError, OSError) as error:
        try:
            is_ours = row.path.exists() and file_checksum(row.path) == result.verification.checksum
            if is_ours:  # bringing its name to the disk may be what failed
                sync_folder(row.path.parent)
        except OSError:
            is_ours = False
        partial.discard()
        if not is_ours:
            return replace(failed(row, error), seconds=result.seconds)
    return result
