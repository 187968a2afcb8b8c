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


_ENDING = [getattr(signal, name) for name in ("SIGINT", "SIGTERM", "SIGHUP") if hasattr(signal, name)]


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

    They are ended amid their work where it is left by an exception. Copies of this process begin at once, and it takes
    no signal until it knows all of them: ended earlier, it would leave the newest running.
    """
    import multiprocessing
    from concurrent.futures import ProcessPoolExecutor

    is_copied = can_fork()
    context = multiprocessing.get_context("fork" if is_copied else "spawn")
    with ProcessPoolExecutor(size, mp_context=context, initializer=_begin) as pool:
        try:
            if is_copied:
                with _signals_held():
                    pool.submit(os.getpid)  # with the first work all of them begin
            yield pool
        except BaseException:
            pool.shutdown(wait=False, cancel_futures=True)
            for process in multiprocessing.active_children():
                process.kill()
            raise


@contextlib.contextmanager
def _signals_held() -> Iterator[None]:
    """Let signals that would end this process wait, and those of processes that begin here until they take them."""
    before = signal.pthread_sigmask(signal.SIG_BLOCK, _ENDING)
    try:
        yield
    finally:
        signal.pthread_sigmask(signal.SIG_SETMASK, before)


def _begin() -> None:
    """What a process does first: it is stopped by the one that began it alone, and never outlives that."""
    forget_handlers()
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    if hasattr(signal, "pthread_sigmask"):
        signal.pthread_sigmask(signal.SIG_UNBLOCK, _ENDING)
    keep_memory()
    threading.Thread(target=_end_with_parent, daemon=True).start()


def _end_with_parent() -> None:
    import multiprocessing

    if parent := multiprocessing.parent_process():
        parent.join()
        os._exit(1)
