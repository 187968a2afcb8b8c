"""Running a plan on this machine: worker processes, the longest shots first, events as it goes."""

from __future__ import annotations

import contextlib
import os
import pickle
import queue
import subprocess
import sys
import threading
from collections.abc import Iterator
from dataclasses import dataclass
from types import TracebackType
from typing import Self

from boxkite.core.batch.events import Event, FileEnded, FramesDone, ShotStarted
from boxkite.core.batch.messages import ShotTask, Told
from boxkite.core.errors import RequestError
from boxkite.core.plan.rows import Plan, Row, rows_by_stretch
from boxkite.core.render.publishing import discard, discard_notes, partial_path, prepare_folders
from boxkite.core.render.result import Result

_STARTED_EARLY = 2
_WORKER = "from boxkite.core.batch.worker import main; main()"


def usable_cores() -> int:
    """Cores this process may use."""
    if hasattr(os, "sched_getaffinity"):
        return len(os.sched_getaffinity(0))
    return os.cpu_count() or 1


@dataclass
class _Worker:
    """One worker process and the files it is at."""

    process: subprocess.Popen[bytes]
    rows: tuple[Row, ...] = ()

    def give(self, task: ShotTask) -> None:
        assert self.process.stdin
        self.rows = task.rows
        with contextlib.suppress(BrokenPipeError):  # its death is told by its closing output
            pickle.dump(task, self.process.stdin, protocol=pickle.HIGHEST_PROTOCOL)
            self.process.stdin.flush()

    def kill(self) -> None:
        """End it at once, and remove what it left half-made."""
        self.process.kill()
        self.process.wait()
        for row in self.rows:
            discard(partial_path(row.path, self.process.pid))
            if row.preset.video and row.preset.video.passes == 2:
                discard_notes(row.path, self.process.pid)


class Crew:
    """The worker processes of this machine. The first start at once, while the plan is still worked out.

    Use it as a context: leaving it ends every worker, and removes what they left half-made.
    """

    def __init__(self, workers: int | None = None) -> None:
        """workers: shots made at the same time, 1 to 256; None for one a core. Raises RequestError for others."""
        if workers is not None and not 1 <= workers <= 256:
            raise RequestError(f"--workers {workers}: give a number from 1 to 256")
        self.size = workers or usable_cores()
        self._heard: queue.Queue[tuple[_Worker, Told | None]] = queue.Queue()
        self._workers = [self._start() for _ in range(min(self.size, _STARTED_EARLY))]

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        for worker in self._workers:
            worker.kill()
        self._workers = []

    @property
    def busy(self) -> int:
        """How many workers are at a shot."""
        return sum(bool(worker.rows) for worker in self._workers)

    def give(self, task: ShotTask) -> None:
        """Hand a shot to a worker that is idle, or to a new one."""
        idle = next((worker for worker in self._workers if not worker.rows), None)
        if idle is None:
            idle = self._start()
            self._workers.append(idle)
        idle.give(task)

    def listen(self) -> tuple[_Worker, Told | None]:
        """What a worker says next; None where it has ended, after removing what it left half-made."""
        while True:
            worker, told = self._heard.get()
            if told is None:
                worker.kill()
                self._workers.remove(worker)
            if worker.rows:
                return worker, told

    def _start(self) -> _Worker:
        process = subprocess.Popen(
            [sys.executable, "-c", _WORKER],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=subprocess.DEVNULL,
        )
        worker = _Worker(process)
        threading.Thread(target=self._hear, args=(worker,), daemon=True).start()
        return worker

    def _hear(self, worker: _Worker) -> None:
        assert worker.process.stdout
        while True:
            try:
                told = pickle.load(worker.process.stdout)
            except Exception:  # its end, or nonsense: either way it is of no more use
                self._heard.put((worker, None))
                return
            self._heard.put((worker, told))


def run_plan(plan: Plan, crew: Crew) -> Iterator[Event]:
    """Make every file of a plan and yield what happens, in the order it does.

    A shot's files share one decode. A worker that dies fails its own files only. Raises PlanError, before
    anything is made, when a folder cannot be written to.
    """
    waiting = sorted(rows_by_stretch(plan.to_make), key=lambda rows: -sum(row.span.length for row in rows))
    prepare_folders({row.path.parent for row in plan.to_make})
    cores = usable_cores()
    while waiting or crew.busy:
        while waiting and crew.busy < crew.size:
            rows = waiting.pop(0)
            crew.give(ShotTask(rows, _threads(cores, min(crew.size, crew.busy + 1 + len(waiting)))))
            yield ShotStarted(rows)
        worker, told = crew.listen()
        if told and not told.results:
            yield FramesDone(worker.rows[0].number, told.frames)
            continue
        rows, worker.rows = worker.rows, ()
        by_number = {row.number: row for row in rows}
        for result in told.results if told else _lost(rows, worker.process.returncode):
            yield FileEnded(by_number[result.row_number], result)


def _threads(cores: int, side_by_side: int) -> int:
    """Threads for a shot: its share of the cores, or the codecs' own choice when it is alone."""
    return 0 if side_by_side <= 1 else max(1, cores // side_by_side)


def _lost(rows: tuple[Row, ...], status: int) -> list[Result]:
    """The results of a shot whose worker has ended."""
    cause = f"signal {-status}" if status < 0 else f"status {status}"
    failure = f"the process that made it ended ({cause}); the codec library may have crashed on it"
    return [Result(row.number, row.path, failure=failure) for row in rows]
