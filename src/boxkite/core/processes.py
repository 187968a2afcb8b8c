"""Processes beside this one that share its work: copies of it where the system allows, new ones elsewhere."""

from __future__ import annotations

import contextlib
import os
import signal
import sys
import threading
from collections.abc import Iterator
from typing import TYPE_CHECKING

from boxkite.core.machine import keep_memory

if TYPE_CHECKING:
    from concurrent.futures import ProcessPoolExecutor


def can_fork() -> bool:
    """Whether this process can be copied: on Linux, while it has one thread, as what others hold would stay locked."""
    return sys.platform == "linux" and threading.active_count() == 1


def forget_handlers() -> None:
    """Let signals end this process, a copy or one that begins anew, as they end any other."""
    signal.set_wakeup_fd(-1)
    for name in ("SIGTERM", "SIGHUP"):
        if number := getattr(signal, name, None):
            signal.signal(number, signal.SIG_DFL)


@contextlib.contextmanager
def readers(size: int) -> Iterator[ProcessPoolExecutor]:
    """Processes that only read, as many as size says; a context, left only when all of them have ended.

    They are ended amid their work where it is left by an exception. Each begins when the first work is submitted.
    """
    import multiprocessing
    from concurrent.futures import ProcessPoolExecutor

    context = multiprocessing.get_context("fork" if can_fork() else "spawn")
    with ProcessPoolExecutor(size, mp_context=context, initializer=_begin) as pool:
        try:
            yield pool
        except BaseException:
            pool.shutdown(wait=False, cancel_futures=True)
            for process in multiprocessing.active_children():
                process.kill()
            raise


def _begin() -> None:
    """What a process does first: it is stopped by the one that began it alone, and never outlives that."""
    forget_handlers()
    keep_memory()
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    threading.Thread(target=_end_with_parent, daemon=True).start()


def _end_with_parent() -> None:
    import multiprocessing

    if parent := multiprocessing.parent_process():
        parent.join()
        os._exit(1)
