"""Worker processes that begin as a copy of this one: what it has loaded they need not load again."""

from __future__ import annotations

import contextlib
import gc
import os
import signal
import sys
from typing import ClassVar, NoReturn

from boxkite.core.machine import keep_memory
from boxkite.core.processes import forget_handlers


class ForkedWorker:
    """A worker process begun by a fork; what a subprocess.Popen of it would be."""

    _ours: ClassVar[list[int]] = []
    """This process's ends of the pipes of all of them: a worker that kept one would hide its end from the others."""

    def __init__(self) -> None:
        """Raises OSError."""
        pipes = [os.pipe() for _ in range(3)]
        for stream in (sys.stdout, sys.stderr):
            with contextlib.suppress(
                AttributeError, OSError, ValueError
            ):  # there may be none, or it may be closed
                stream.flush()
        self.returncode = 0
        self._has_ended = False
        self.pid = os.fork()
        if self.pid == 0:
            others = [*self._ours, pipes[0][1], pipes[1][0], pipes[2][0]]
            _become_a_worker([pipes[0][0], pipes[1][1], pipes[2][1]], others)
        for theirs in (pipes[0][0], pipes[1][1], pipes[2][1]):
            os.close(theirs)
        self._own = [pipes[0][1], pipes[1][0], pipes[2][0]]
        self._ours.extend(self._own)
        self.stdin = os.fdopen(pipes[0][1], "wb")
        self.stdout = os.fdopen(pipes[1][0], "rb")
        self.stderr = os.fdopen(pipes[2][0], "rb")

    def kill(self) -> None:
        """End it at once."""
        if not self._has_ended:
            with contextlib.suppress(ProcessLookupError):
                os.kill(self.pid, signal.SIGKILL)

    def wait(self) -> int:
        """Wait for its end; its status as subprocess counts it."""
        if not self._has_ended:
            with contextlib.suppress(ChildProcessError):
                self.returncode = os.waitstatus_to_exitcode(os.waitpid(self.pid, 0)[1])
            self._has_ended = True
            for number in self._own:
                self._ours.remove(number)
        return self.returncode


def _become_a_worker(streams: list[int], others: list[int]) -> NoReturn:
    """Serve shots as a process of its own. others: descriptors of its parent, which would not be seen to end."""
    try:
        forget_handlers()
        for place, stream in enumerate(streams):
            os.dup2(stream, place)
        for descriptor in {*streams, *others} - {0, 1, 2}:
            os.close(descriptor)
        gc.freeze()  # what was left behind is never closed here
        sys.stdin = os.fdopen(0, closefd=False)
        sys.stdout, sys.stderr = os.fdopen(1, "w", closefd=False), os.fdopen(2, "w", 1, closefd=False)
        keep_memory()
        from boxkite.core.batch.executors.worker import main

        main()
    finally:
        os._exit(1)
