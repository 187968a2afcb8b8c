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

from boxkite.core.batch.events import Event, FileEnded, FramesDone, ShotStarted
from boxkite.core.batch.messages import ShotTask, Told
from boxkite.core.plan.rows import Plan, Row
from boxkite.core.render.publishing import partial_path, prepare_folders
from boxkite.core.render.rendering import Result


def usable_cores() -> int:
    """Cores this process may use."""
    if hasattr(os, "sched_getaffinity"):
        return len(os.sched_getaffinity(0))
    return os.cpu_count() or 1


@dataclass
class _Worker:
    """One worker process and what it is at."""

    number: int
    process: subprocess.Popen[bytes]
    rows: tuple[Row, ...] = ()

    def give(self, task: ShotTask) -> None:
        assert self.process.stdin
        self.rows = task.rows
        with contextlib.suppress(BrokenPipeError):  # its death is told by its closing output
            pickle.dump(task, self.process.stdin, protocol=pickle.HIGHEST_PROTOCOL)
            self.process.stdin.flush()

    def dismiss(self) -> None:
        with contextlib.suppress(OSError):
            if self.process.stdin:
                self.process.stdin.close()

    def kill(self) -> None:
        """End it at once, and remove what it left half-made."""
        self.process.kill()
        self.process.wait()
        for row in self.rows:
            partial_path(row.path, self.process.pid).unlink(missing_ok=True)


def run_plan(plan: Plan, *, workers: int | None = None) -> Iterator[Event]:
    """Make every file of a plan and yield what happens, in the order it does.

    workers: shots made at the same time; None for one a core. A shot's files share one decode. A worker
    that dies fails its own files only. Raises PlanError, before anything is made, when a folder cannot be
    written to. Closing the iterator stops all work and leaves nothing half-made.
    """
    waiting = _shots_longest_first(plan)
    cores = usable_cores()
    wanted = max(1, min(workers or cores, len(waiting)))
    prepare_folders({row.path.parent for row in plan.rows})
    heard: queue.Queue[tuple[_Worker, Told | None]] = queue.Queue()
    active: dict[int, _Worker] = {}
    next_number = 0
    try:
        while waiting or active:
            while waiting and len(active) < wanted:
                worker = _start_worker(next_number, heard)
                next_number += 1
                active[worker.number] = worker
                yield _hand_over(worker, waiting, len(active), wanted, cores)
            worker, told = heard.get()
            if told is None:
                active.pop(worker.number, None)
                yield from _died(worker)
            elif not told.results:
                yield FramesDone(worker.rows[0].number, told.frames)
            else:
                by_number = {row.number: row for row in worker.rows}
                for result in told.results:
                    yield FileEnded(by_number[result.row_number], result)
                worker.rows = ()
                if waiting:
                    yield _hand_over(worker, waiting, len(active), wanted, cores)
                else:
                    active.pop(worker.number)
                    worker.dismiss()
                    worker.process.wait()
    finally:
        for worker in active.values():
            worker.kill()


def _shots_longest_first(plan: Plan) -> list[tuple[Row, ...]]:
    by_shot: dict[int, list[Row]] = {}
    for row in plan.rows:
        by_shot.setdefault(id(row.shot), []).append(row)
    shots = [tuple(rows) for rows in by_shot.values()]
    return sorted(shots, key=lambda rows: -rows[0].span.length * len(rows))


def _hand_over(
    worker: _Worker, waiting: list[tuple[Row, ...]], active: int, wanted: int, cores: int
) -> ShotStarted:
    """Give a worker the next shot: one thread where all cores are busy, more where shots run out."""
    rows = waiting.pop(0)
    side_by_side = min(wanted, active + len(waiting))
    worker.give(ShotTask(rows, max(1, cores // max(1, side_by_side))))
    return ShotStarted(rows)


def _start_worker(number: int, heard: queue.Queue[tuple[_Worker, Told | None]]) -> _Worker:
    process = subprocess.Popen(
        [sys.executable, "-m", "boxkite.core.batch.worker"],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        stderr=subprocess.DEVNULL,
    )
    worker = _Worker(number, process)

    def listen() -> None:
        assert process.stdout
        while True:
            try:
                told = pickle.load(process.stdout)
            except Exception:  # its end, or nonsense: either way it is of no more use
                heard.put((worker, None))
                return
            heard.put((worker, told))

    threading.Thread(target=listen, daemon=True).start()
    return worker


def _died(worker: _Worker) -> Iterator[Event]:
    """What is to be told when a worker's output closes while it had a shot."""
    worker.kill()
    status = worker.process.returncode
    for row in worker.rows:
        cause = f"signal {-status}" if status < 0 else f"status {status}"
        failure = f"the process that made it ended ({cause}); the codec library may have crashed on it"
        yield FileEnded(row, Result(row.number, row.path, failure=failure))
