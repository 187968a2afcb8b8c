"""The workers of a farm as executor of shots: what a plan is run with, like the processes of this machine."""

from __future__ import annotations

import contextlib
import logging
import queue
import time
import uuid
from collections.abc import Iterator, Mapping, Sequence
from types import TracebackType
from typing import Any, Self

from msgspec.structs import replace

from boxkite.core.batch.executors.executor import WorkerEvent
from boxkite.core.batch.executors.messages import ShotTask, WorkerMessage
from boxkite.core.batch.packing import pack_task
from boxkite.core.batch.recording import versions
from boxkite.core.errors import PlanError, RequestError, setting
from boxkite.core.files.folders import prepare_folders
from boxkite.core.files.partials import Partial
from boxkite.core.notices.batches import CLUSTER
from boxkite.core.notices.notice import Notice
from boxkite.core.plan.rows import Row
from boxkite.core.render.encode.codec_options import encoders_of
from boxkite.core.render.result import Result
from boxkite.core.settings import PathRule

_PATIENCE_SECONDS = 6
_ASK_AGAIN_SECONDS = 0.5
_COUNT_EVERY_SECONDS = 2.0
_MOST_FILES_CHECKED = 50
_MOST_NAMED = 20


class ClusterExecutor:
    """The workers of a dask.distributed scheduler. Use it as a context: leaving it gives back what is not made.

    size: shots side by side, one for each thread of each worker. cores: those of all machines, as far as shots
    use them.
    """

    def __init__(self, address: str, rules: Sequence[PathRule], workers: int | None = None) -> None:
        """address: of the scheduler, as tcp://farm:8786. workers: most shots side by side.

        Raises RequestError where it cannot be reached, or where the library for it is missing.
        """
        try:
            import distributed
        except ImportError:
            raise RequestError(
                f"{setting('cluster')} needs dask.distributed",
                hint="install it beside Box Kite: pip install distributed",
            ) from None
        from boxkite.core.batch.executors import cluster_worker

        logging.getLogger("distributed").setLevel(logging.CRITICAL)  # events tell what matters
        try:
            client: Any = distributed.Client
            self._client = client(address, timeout=_PATIENCE_SECONDS, set_as_default=False)
        except (OSError, ValueError) as error:
            answer = str(error).splitlines()[0] if str(error) else type(error).__name__
            raise RequestError(
                f"{setting('cluster')} {address}: no scheduler answers there: {answer}",
                hint="dask scheduler starts one; its first lines name the address",
            ) from None
        self._worker_code = cluster_worker
        self._rules = tuple(rules)
        self._wanted = workers
        self._topic = f"boxkite-{uuid.uuid4().hex[:12]}"
        self._events: queue.Queue[tuple[str, Any]] = queue.Queue()
        self._given: dict[str, tuple[ShotTask, Sequence[Partial], Any]] = {}
        self._counted = 0.0
        self._size = 0
        self.cores = 1
        self._client.subscribe_topic(self._topic, self._take_frames)

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        futures = [future for _, _, future in self._given.values()]
        if futures:
            self._client.cancel(futures, force=True)
        self._client.close(timeout=2)
        for partial in (one for _, partials, _ in self._given.values() for one in partials):
            partial.discard()

    def prepare(self, rows: Sequence[Row]) -> list[Notice]:
        """Make sure that every worker can make these rows as this machine would; a notice of who will make them.

        Raises PlanError with a line for each worker that cannot.
        """
        folders_of_files = {row.path.parent for row in rows}
        new = {one for folder in folders_of_files for one in (folder, *folder.parents) if not one.exists()}
        prepare_folders(folders_of_files)
        try:
            return self._checked(rows)
        except PlanError:
            for folder in sorted(new, reverse=True):
                with contextlib.suppress(OSError):  # somebody may have put something in meanwhile
                    folder.rmdir()
            raise

    def _checked(self, rows: Sequence[Row]) -> list[Notice]:
        """Ask every worker what it can do; a notice of who makes these rows. Raises PlanError."""
        encoders = sorted({name for row in rows if not row.is_copied for name in encoders_of(row)})
        sources = list(dict.fromkeys(row.shot.footage.source.path.absolute() for row in rows))
        files = [(str(path), path.stat().st_size) for path in sources[:_MOST_FILES_CHECKED] if path.is_file()]
        folders = sorted({str(row.folder) for row in rows})
        found = self._answers(encoders, files, folders)
        if not found:
            raise PlanError("the farm has no workers", hint="dask worker ADDRESS starts one")
        problems = [line for address, info in found.items() for line in self._problems(address, info)]
        if problems:
            raise PlanError(
                f"{len(problems)} things keep workers of the farm from making this plan",
                details=problems[:_MOST_NAMED],
                hint="docs/farm.md says how a farm is set up; paths are mapped in the settings file",
            )
        self.cores = self.size * self._cores_of_a_shot(found)
        machines = sorted({info.machine for info in found.values()})
        return [CLUSTER(workers=len(found), machines=machines, shots=self.size)]

    def _answers(
        self, encoders: Sequence[str], files: Sequence[tuple[str, int]], folders: Sequence[str]
    ) -> dict[str, Any]:
        """What each worker says of its machine, or the exception it answered with. Raises PlanError.

        A worker that is lost meanwhile is left out, as it would be later; one that is still there but could not be
        reached is asked again for a while.
        """
        until = time.monotonic() + _PATIENCE_SECONDS
        found: dict[str, Any] = {}
        asked: list[str] | None = None  # all of them
        while True:
            try:
                found |= self._client.run(
                    self._worker_code.info_of_machine,
                    *(encoders, files, folders, self._rules),
                    workers=asked,
                    on_error="return",
                )
            except OSError as error:
                raise PlanError(f"the farm cannot be asked: {error}") from None
            there = self._threads()
            found = {address: info for address, info in found.items() if address in there}
            asked = [address for address, info in found.items() if isinstance(info, OSError)]
            if not asked or time.monotonic() >= until:
                return found
            time.sleep(_ASK_AGAIN_SECONDS)

    def _problems(self, address: str, info: Any) -> Iterator[str]:
        """The reasons why a worker cannot make the plan as this machine would."""
        if isinstance(info, BaseException):
            yield f"{address}: {info or type(info).__name__}; is Box Kite installed there?"
            return
        own = versions()
        who = f"{info.machine} ({address})"
        if info.version != own["version"]:
            yield f"{who}: has Box Kite {info.version}, this is {own['version']}"
        elif info.codecs != own["codecs"]:
            yield f"{who}: has other codec libraries ({info.codecs}; here {own['codecs']})"
        if info.missing_encoders:
            yield f"{who}: is missing the encoders {', '.join(info.missing_encoders)}"
        for path in info.differences[:3]:
            yield f"{who}: {path} is not there, or is not the same file"
        for folder in info.unwritable[:3]:
            yield f"{who}: {folder} is not there, or cannot be written to"

    def _cores_of_a_shot(self, found: Mapping[str, Any]) -> int:
        """Cores each shot has for itself on the machine where it has fewest."""
        threads = self._threads()
        shots: dict[str, int] = {}
        for address, info in found.items():
            shots[info.machine] = shots.get(info.machine, 0) + threads.get(address, 1)
        fewest: int = min(info.cores // shots[info.machine] for info in found.values())
        return max(1, fewest)

    def _threads(self) -> dict[str, int]:
        workers = self._client.scheduler_info(n_workers=-1)["workers"]
        return {address: info["nthreads"] for address, info in workers.items()}

    @property
    def size(self) -> int:
        """Shots side by side: as many as the workers that are there just now have threads."""
        now = time.monotonic()
        if not self._size or now - self._counted >= _COUNT_EVERY_SECONDS:
            self._counted = now
            self._size = sum(self._threads().values())
        return min(self._size, self._wanted or self._size)

    @size.setter
    def size(self, value: int) -> None:
        self._wanted = value

    @property
    def busy(self) -> int:
        """How many shots are given out."""
        return len(self._given)

    def submit(self, task: ShotTask, partials: Sequence[Partial]) -> None:
        """Hand a shot to the scheduler; a worker that is lost over it costs it nothing but time."""
        key = f"{self._topic}-{task.rows[0].number}-{uuid.uuid4().hex[:6]}"
        task = replace(task, is_followed=False)  # the scheduler decides who makes the next
        future = self._client.submit(
            self._worker_code.make_shot,
            pack_task(task),
            self._rules,
            key,
            self._topic,
            key=key,
            pure=False,
        )
        self._given[key] = (task, partials, future)
        future.add_done_callback(lambda done: self._events.put((key, done)))

    def next_event(self, seconds: float) -> WorkerEvent | None:
        """The next event; None if there is none in that time."""
        until = time.monotonic() + seconds
        while True:
            try:
                key, what = self._events.get(timeout=max(0.0, until - time.monotonic()))
            except queue.Empty:
                return None
            if key not in self._given:
                continue
            if isinstance(what, int):
                return WorkerEvent(self._given[key][0], WorkerMessage(what))
            return self._answered(key, what)

    def _answered(self, key: str, future: Any) -> WorkerEvent:
        task, partials, _ = self._given.pop(key)
        given_back = tuple(partials)
        try:
            answer = self._worker_code.unpack_answer(future.result())
        except Exception as error:
            return WorkerEvent(task, None, lost=f"{type(error).__name__}: {error}", partials=given_back)
        finally:
            future.release()
        if answer.lost:
            lost = f"{answer.lost} on {answer.machine}"
            return WorkerEvent(task, None, lost=lost, output=answer.output, partials=given_back)
        rows = {row.number: row for row in task.rows}
        results = tuple(
            _as_here(result, rows[result.row_number], answer.machine) for result in answer.results
        )
        return WorkerEvent(
            task, WorkerMessage(answer.frames, results), output=answer.output, partials=given_back
        )

    def _take_frames(self, event: tuple[Any, dict[str, Any]]) -> None:
        _, values = event
        self._events.put((values["key"], int(values["frames"])))


def _as_here(result: Result, row: Row, machine: str) -> Result:
    """A result with the paths of this machine; a failure says where it happened."""
    detail = f"on {machine}\n{result.detail}" if result.failure else result.detail
    return replace(result, path=row.path, detail=detail)
