"""The worker processes of this machine: they are given shots, and heard while they make them."""

from __future__ import annotations

import contextlib
import os
import queue
import subprocess
import sys
import threading
import time
from collections import deque
from collections.abc import Sequence
from types import TracebackType
from typing import TYPE_CHECKING, Self

from msgspec import Struct, field

from boxkite.core.batch.executors.executor import WorkerEvent
from boxkite.core.batch.executors.forked import ForkedWorker
from boxkite.core.errors import RequestError, setting
from boxkite.core.machine import no_threads_for_matrices, usable_cores
from boxkite.core.processes import can_fork

if TYPE_CHECKING:  # what takes time to load is loaded while the first worker starts
    from boxkite.core.batch.executors.messages import ShotTask, WorkerMessage
    from boxkite.core.files.partials import Partial
    from boxkite.core.notices.notice import Notice
    from boxkite.core.plan.rows import Row

MOST_WORKERS = 256
_CORES_FOR_TWO_EARLY = 4
_WORKER = "from boxkite.core.batch.executors.worker import main; main()"
_SETTINGS = {
    "MALLOC_MMAP_THRESHOLD_": "33554432",
    "MALLOC_TRIM_THRESHOLD_": "67108864",
    "OPENBLAS_NUM_THREADS": "1",
}
"""For libraries of workers, where the user has none: frames and packets take memory that was theirs before instead
of new memory from the system each time (GNU C library; a bound, not a need), and no threads wait for matrices."""
_LINES_KEPT = 60
_LAST_OUTPUT_SECONDS = 0.05
_READERS_END_SECONDS = 1.0


class _Worker(Struct):
    """One worker process and the files it is at."""

    process: subprocess.Popen[bytes] | ForkedWorker
    task: ShotTask | None = None
    partials: tuple[Partial, ...] = ()
    is_ending: bool = False
    """Whether it has all frames of its shot: it is given the next one, so that it need not wait for it."""
    following: tuple[ShotTask, tuple[Partial, ...]] | None = None
    """The next one."""
    readers: list[threading.Thread] = field(default_factory=list)
    output: deque[str] = field(default_factory=lambda: deque(maxlen=_LINES_KEPT))

    def submit(self, task: ShotTask, partials: Sequence[Partial]) -> None:
        from boxkite.core.batch.executors.messages import send
        from boxkite.core.batch.packing import pack_task

        assert self.process.stdin
        self.following = task, tuple(partials)
        if self.task is None:
            self.go_on()
        with contextlib.suppress(BrokenPipeError):  # the end of its output shows that it died
            send(self.process.stdin, pack_task(task))

    @property
    def takes_one(self) -> bool:
        """Whether it takes a shot."""
        return self.task is None or (self.is_ending and self.following is None)

    def go_on(self) -> None:
        """Its shot is over: it is at the next one, where it has one."""
        self.task, self.partials = self.following or (None, ())
        self.following, self.is_ending = None, False
        self.output.clear()

    def kill(self) -> None:
        """End it at once, and remove what it left half-made."""
        self.process.kill()
        self.process.wait()
        for partial in (*self.partials, *(self.following[1] if self.following else ())):
            partial.discard()
        if self.process.stdin:
            with contextlib.suppress(OSError):  # what was not yet read of the last shot goes nowhere
                self.process.stdin.close()
        for thread in self.readers:
            if thread is not threading.current_thread():
                thread.join(_READERS_END_SECONDS)

    @property
    def how_it_ended(self) -> str:
        status = self.process.returncode
        return f"signal {-status}" if status < 0 else f"status {status}"


class LocalExecutor:
    """The worker processes of this machine: copies of this process, once it has loaded what they need, where the system
    allows; elsewhere processes that begin anew, the first at once, while the plan is still worked out.

    Use it as a context: leaving it ends every worker, and removes what they left half-made.
    """

    def __init__(self, workers: int | None = None) -> None:
        """workers: shots made at the same time, 1 to 256; None for one a core. Raises RequestError for others."""
        if workers is not None and not 1 <= workers <= MOST_WORKERS:
            raise RequestError(f"{setting('workers')} {workers}: give a number from 1 to {MOST_WORKERS}")
        self._is_chosen = workers is not None
        self.cores = usable_cores()
        self.size = workers or self.cores
        self._messages: queue.Queue[tuple[_Worker, WorkerMessage | None]] = queue.Queue()
        self._not_begun: deque[WorkerEvent] = deque()
        """Of shots that workers had not begun when they ended."""
        early = 2 if self.cores >= _CORES_FOR_TWO_EARLY else 1  # planning wants its own core
        self._workers = [self._spawn() for _ in range(0 if can_fork() else min(self.size, early))]

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
        """How many workers are at a shot, and do not say that they will soon be idle."""
        return sum(not worker.takes_one for worker in self._workers)

    def prepare(self, rows: Sequence[Row]) -> list[Notice]:
        """Start as many as there is work for, fewer where memory is short and no number was given.

        There is a notice of the latter.
        """
        from boxkite.core.batch.sharing import fitting_workers, tasks_of
        from boxkite.core.notices.batches import FEWER_WORKERS

        tasks = tasks_of(rows)
        is_asked = tasks > 1 and not self._is_chosen  # one shot is made by one, whatever memory there is
        fitting = fitting_workers(rows, self.size) if is_asked else self.size
        notices = [FEWER_WORKERS(workers=fitting, wanted=self.size)] if fitting < self.size else []
        self.size = fitting
        self._start(min(self.size, tasks) - len(self._workers))
        return notices

    def submit(self, task: ShotTask, partials: Sequence[Partial]) -> None:
        """Hand a shot to a worker that is idle, or soon will be, or to a new one."""
        able = [worker for worker in self._workers if worker.takes_one]
        idle = next((worker for worker in able if worker.task is None), able[0] if able else None)
        if idle is None:
            idle = self._spawn()
            self._workers.append(idle)
        idle.submit(task, partials)

    def next_event(self, seconds: float) -> WorkerEvent | None:
        """The next event; None if there is none in that time. The files of a worker that died are removed."""
        until = time.monotonic() + seconds
        if self._not_begun:
            return self._not_begun.popleft()
        while True:
            try:
                worker, message = self._messages.get(timeout=max(0.0, until - time.monotonic()))
            except queue.Empty:
                return None
            if message is None:
                worker.kill()
                self._workers.remove(worker)
            if worker.task:
                return self._event_of(worker, worker.task, message)

    def _event_of(self, worker: _Worker, task: ShotTask, message: WorkerMessage | None) -> WorkerEvent:
        partials, output = worker.partials, ""
        if message is None or any(result.failure for result in message.results):
            time.sleep(_LAST_OUTPUT_SECONDS)  # what it printed comes by another way
            output = "\n".join(worker.output)
        if message is not None and not message.results:
            event = WorkerEvent(task, message)
            worker.is_ending = worker.is_ending or event.is_ending
            return event
        lost = "" if message else worker.how_it_ended
        if lost and worker.following:
            following, waiting = worker.following
            self._not_begun.append(WorkerEvent(following, None, lost, partials=waiting, has_begun=False))
        worker.go_on()
        return WorkerEvent(task, message, lost, output, partials)

    def _start(self, count: int) -> None:
        """So many more, all before the first thread that listens to one."""
        if count > 0 and can_fork():
            with no_threads_for_matrices():  # copies are made of one thread
                import boxkite.core.batch.executors.worker  # noqa: F401  what they need
            self._workers += [_Worker(ForkedWorker()) for _ in range(count)]
            for worker in self._workers[-count:]:
                self._listen(worker)
        else:
            self._workers += [self._spawn() for _ in range(count)]

    def _spawn(self) -> _Worker:
        process = subprocess.Popen(
            [sys.executable, "-c", _WORKER],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            env=_SETTINGS | os.environ,
        )
        worker = _Worker(process)
        self._listen(worker)
        return worker

    def _listen(self, worker: _Worker) -> None:
        for listen in (self._hear, self._read_prints):
            worker.readers.append(threading.Thread(target=listen, args=(worker,), daemon=True))
            worker.readers[-1].start()

    def _hear(self, worker: _Worker) -> None:
        from boxkite.core.batch.executors.messages import receive
        from boxkite.core.batch.packing import unpack_message

        assert worker.process.stdout
        while True:
            try:
                message = unpack_message(receive(worker.process.stdout))
            except Exception:  # its end, or nonsense: either way it is of no more use
                worker.process.stdout.close()
                self._messages.put((worker, None))
                return
            self._messages.put((worker, message))

    def _read_prints(self, worker: _Worker) -> None:
        assert worker.process.stderr
        with contextlib.suppress(ValueError, OSError), worker.process.stderr:
            for line in worker.process.stderr:
                worker.output.append(line.decode("utf-8", "replace").rstrip())
