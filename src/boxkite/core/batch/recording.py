"""Running a batch by its journal: noted before it is begun, at every step, and when it ends."""

from __future__ import annotations

import contextlib
import sqlite3
import time
from collections.abc import Callable, Generator, Iterator, Mapping, Sequence
from typing import Literal

import av
from msgspec import Struct, field

from boxkite import __version__
from boxkite.core.batch.events import (
    Event,
    FileEnded,
    FileReady,
    FramesDone,
    Noted,
    OutOfSpace,
    ShotStarted,
    TriedAgain,
    TurnAwaited,
)
from boxkite.core.batch.executors.executor import Executor
from boxkite.core.batch.notifications import Notifications
from boxkite.core.batch.packing import Packed, pack
from boxkite.core.batch.running import BatchControl, run_plan
from boxkite.core.batch.sharing import settle_threads
from boxkite.core.batch.turns import Share, Turn, batches_ahead
from boxkite.core.errors import RecordsError
from boxkite.core.job.after import Step
from boxkite.core.job.job import Job
from boxkite.core.machine import usable_cores
from boxkite.core.notices.batches import NOT_RECORDED, RECORD_HAS_GAPS
from boxkite.core.notices.notice import Notice
from boxkite.core.plan.inputs import used_by
from boxkite.core.plan.recipes import Recipes
from boxkite.core.plan.rows import Plan, Row, group_span
from boxkite.core.plan.since import stamp_of_source
from boxkite.core.records.batch_lock import BatchLock
from boxkite.core.records.journal import Journal
from boxkite.core.records.overview import overviews
from boxkite.core.records.record import FileRecord
from boxkite.core.records.steps import note_steps
from boxkite.core.records.store import Records
from boxkite.core.render.result import Result

_NOTE_FRAMES_EVERY_SECONDS = 1.0
_ASK_EVERY_SECONDS = 0.4
_TURN_EVERY_SECONDS = 0.5
Asked = Literal["command", "web hook", "cluster"]


class Batch(Struct):
    """A plan being run, as whoever runs it wants it and as it turns out."""

    turn: Turn = "wait"
    """Whether it waits for other batches or shares the cores with them."""
    job: Job | None = None
    command_line: Sequence[str] = ()
    """The arguments it was asked for with, kept for the record."""
    notifications: Notifications = field(default_factory=Notifications)
    """Notifications at its end."""
    manifest: str = ""
    """The form of the manifest to be written at its end, where its job does not say; empty for none."""
    after: Sequence[Step] = ()
    """The steps after its files, where its job does not say."""
    cluster: str = ""
    """Address of the farm that makes it, empty for this machine."""
    name: str = ""
    """Its name in the records; empty while it has none."""
    problem: Notice | None = None
    """Why its record cannot be kept."""
    stopped: bool = False
    """Whether it was asked to stop."""
    out_of_space: OutOfSpace | None = None
    """The files it had no space for."""
    notices: list[Notice] = field(default_factory=list)
    """The notices that came up while it ran."""


class Work(Struct, frozen=True):
    """The work that is left of a batch."""

    rows: tuple[Row, ...]
    threads: Mapping[int, int]
    seconds: float = 0.0
    """The time it has run before."""
    refused: tuple[tuple[Row, str], ...] = ()
    """Rows that are not made, and why."""


def begin_batch(
    plan: Plan,
    batch: Batch,
    records: Records,
    workers: int,
    *,
    cores: int = 0,
    also: Callable[[sqlite3.Connection, str], None] = lambda store, name: None,
) -> Work:
    """Note a plan in a journal before its first file is made, with all that decides how its files are made.

    cores: that the workers share; 0 for those of this machine. also: what is to be noted in the same step.
    Raises RecordsError.
    """
    work = Work(plan.to_make, settle_threads(plan.to_make, cores or usable_cores(), workers))
    recipes = Recipes()
    steps = _steps_of(batch)

    def also_steps(store: sqlite3.Connection, name: str) -> None:
        note_steps(store, name, [(step.kind, step.options) for step in steps])
        also(store, name)

    batch.name = records.begin(
        plan.pattern,
        plan.version,
        [file_record(row, recipes, work.threads[row.number]) for row in work.rows],
        packed_plan=pack(Packed(work.rows, batch.job)),
        folders=list(dict.fromkeys(row.folder for row in work.rows)),
        settings={
            **versions(),
            "workers": workers,
            "turn": batch.turn,
            "command_line": list(batch.command_line),
            "asked": [what for what, is_asked in _asked(batch) if is_asked],
        },
        also=also_steps,
    )
    return work


def _steps_of(batch: Batch) -> list[Step]:
    """The steps after its files: the manifest its job asks for goes first."""
    form = batch.manifest or (batch.job.manifest if batch.job else "")
    steps = batch.after or (batch.job.after if batch.job else ())
    return [*([Step("manifest", {"form": form})] if form else []), *steps]


def _asked(batch: Batch) -> tuple[tuple[Asked, bool], ...]:
    """Whether a command, web hook or cluster was given. Their text is not kept: no record may decide what runs."""
    return (
        ("command", bool(batch.notifications.command)),
        ("web hook", bool(batch.notifications.web_hook)),
        ("cluster", bool(batch.cluster)),
    )


def versions() -> dict[str, str]:
    """The versions that frames depend on beside the plan: of the program and of the codec libraries."""
    libraries = " ".join(
        f"{name} {'.'.join(map(str, number))}" for name, number in sorted(av.library_versions.items())
    )
    return {"version": __version__, "codecs": libraries}


def run_recorded(plan: Plan, executor: Executor, batch: Batch) -> Generator[Event, None, None]:
    """Run a plan as run_plan does, with its own journal.

    Where the journal cannot be kept the files are made all the same, and the batch says so. Steps after them need it:
    a batch that has some raises RecordsError then, before anything is made.
    """
    if not plan.to_make:
        return
    batch.notices += executor.prepare(plan.to_make)
    with contextlib.ExitStack() as stack:
        try:
            records = stack.enter_context(Records())
            work = begin_batch(plan, batch, records, executor.size, cores=executor.cores)
            stack.enter_context(BatchLock(records.folder, batch.name))
        except RecordsError as error:
            if _steps_of(batch):
                hint = "the steps after the files need a record: nothing was made"
                raise RecordsError(error.message, path=error.path, hint=hint) from error
            batch.problem = NOT_RECORDED(reason=error.text)
            yield from run_plan(plan.to_make, executor)
            return
        yield from resume_batch(records, work, executor, batch)


def resume_batch(
    records: Records, work: Work, executor: Executor, batch: Batch
) -> Generator[Event, None, None]:
    """Make what is to be made of a batch that is held, journal kept. Its turn comes first, notices at its end."""
    recorder = _Recorder(records, work, batch, executor.size)
    try:
        yield from recorder.turn()
        if not batch.stopped:
            for row, reason in work.refused:
                yield from recorder.noted(FileEnded(row, Result(row.number, row.path, failure=reason)))
            for event in run_plan(work.rows, executor, threads=work.threads, control=recorder.control):
                yield from recorder.noted(event)
            recorder.is_through = True
    finally:
        recorder.end()


class _Recorder:
    """Keeps the journal of a batch while it runs, and hears from it what is asked of the batch."""

    def __init__(self, records: Records, work: Work, batch: Batch, workers: int) -> None:
        self._records = records
        self._journal = Journal(records, batch.name)
        self._batch = batch
        self._before = work.seconds
        self._begun = time.monotonic()
        self._share = Share(records, batch.name, workers)
        self._asked = self._noted = 0.0
        self._done: dict[int, int] = {}
        self._shots: dict[int, tuple[Row, ...]] = {}
        self._running: set[int] = set()
        self.control = BatchControl()
        self.is_through = self._was_full = False

    def turn(self) -> Iterator[Event]:
        """Wait until it is this batch's turn, or until it is asked to stop."""
        self._note(self._journal.batch_is, "waiting")
        reported: tuple[str, ...] = ()
        while self._batch.turn == "wait":
            ahead: tuple[str, ...] = ()
            with contextlib.suppress(RecordsError):
                ahead = batches_ahead(self._records, self._batch.name)
            if not ahead:
                break
            if ahead != reported:
                reported = ahead
                yield TurnAwaited(ahead)
            self._read_control()
            if self._batch.stopped:
                return
            time.sleep(_TURN_EVERY_SECONDS)
        self._begun = time.monotonic()
        self._note(self._journal.batch_is, "running", note="")

    def noted(self, event: Event) -> Iterator[Event]:
        """Pass an event on, once it is in the journal."""
        journal = self._journal
        if isinstance(event, ShotStarted):
            self._shots[event.rows[0].number] = event.rows
            self._running |= {row.number for row in event.rows}
            self._note(journal.started, {row.number: used_by(row) for row in event.rows})
        elif isinstance(event, FramesDone):
            rows = self._shots[event.first_row]
            length = group_span(rows).length
            self._done |= {row.number: event.frames * row.frames // length for row in rows}
        elif isinstance(event, FileReady):
            result = event.result
            assert result.verification
            self._running.discard(
                event.row.number
            )  # whatever comes between, its name tells later how far it got
            self._note(
                journal.ready,
                event.row.number,
                event.partial,
                result.verification.checksum,
                result.verification.size_bytes,
            )
        elif isinstance(event, FileEnded):
            self._ended(event.row, event.result)
        elif isinstance(event, TriedAgain):
            self._running -= {row.number for row in event.rows}
            self._note(journal.planned_again, [row.number for row in event.rows], event.reason, event.detail)
        elif isinstance(event, OutOfSpace):
            self._batch.out_of_space = event
        elif isinstance(event, Noted):
            self._batch.notices.append(event.notice)
            self._note(journal.note, event.notice)
        self._now_and_then()
        yield event

    def end(self) -> None:
        """Note how the batch has ended, give back what was begun, and tell those who want to know."""
        if self._running:
            self._note(self._journal.planned_again, sorted(self._running), "the batch was stopped")
        whole = self.is_through and not self.control.stop and self._batch.out_of_space is None
        note = ""
        if out_of_space := self._batch.out_of_space:
            note = f"{len(out_of_space.rows)} files were not begun: no room in {out_of_space.folder}"
        self._note(
            self._journal.batch_is,
            "ended" if whole else "stopped",
            seconds=self._seconds(),
            note=note,
            waits_for="room" if self._batch.out_of_space or self._was_full else "",
        )
        if self._batch.notifications and self.is_through:
            with contextlib.suppress(RecordsError):
                for problem in self._batch.notifications.send(
                    overviews(self._records, (self._batch.name,))[0]
                ):
                    self._batch.notices.append(problem)
                    self._note(self._journal.note, problem)

    def _ended(self, row: Row, result: Result) -> None:
        self._was_full |= result.out_of_space
        self._running.discard(row.number)
        self._done.pop(row.number, None)
        if result.verification:
            self._note(
                self._journal.verified,
                row.number,
                checksum=result.verification.checksum,
                size_bytes=result.verification.size_bytes,
                seconds=result.seconds,
                warnings=(*row.warnings, *result.warnings),
            )
        else:
            self._note(
                self._journal.failed, row.number, result.failure, seconds=result.seconds, detail=result.detail
            )

    def _now_and_then(self) -> None:
        now = time.monotonic()
        if now - self._noted >= _NOTE_FRAMES_EVERY_SECONDS:
            self._noted = now
            self._note(self._journal.frames_done, self._done, self._seconds())
        if now - self._asked >= _ASK_EVERY_SECONDS:
            self._asked = now
            self._read_control()

    def _read_control(self) -> None:
        with contextlib.suppress(RecordsError):
            self.control.stop = self._journal.stop_asked()
            self.control.workers = self._share.workers()
        self._batch.stopped = bool(self.control.stop)

    def _seconds(self) -> float:
        return self._before + time.monotonic() - self._begun

    def _note(self, step: Callable[..., None], *what: object, **more: object) -> None:
        """Put something in the journal; where that fails the files go on, and the batch says so."""
        try:
            step(*what, **more)
        except RecordsError as error:
            self._batch.problem = RECORD_HAS_GAPS(reason=error.text)


def file_record(row: Row, recipes: Recipes, threads: int) -> FileRecord:
    """The record of a row before it is made."""
    source = row.shot.footage.source.path.absolute()
    return FileRecord(
        number=row.number,
        path=row.path,
        plain_name=row.plain_name,
        source=source,
        stamp=stamp_of_source(row.shot.footage.source),
        in_frame=row.span.start,
        out_frame=row.span.end,
        preset=row.preset.name,
        recipe=recipes.of(row),
        marker=row.shot.marker,
        clip=row.shot.clip_name,
        in_timecode=str(row.in_timecode),
        out_timecode=str(row.out_timecode),
        pixels=row.geometry.width_px * row.geometry.height_px * row.span.length if row.geometry else 0,
        threads=threads,
        frames=row.frames,
    )
