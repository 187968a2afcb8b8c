"""Doing things in their order in a separate thread, beside the one that hands them over."""

from __future__ import annotations

import queue
import threading
from collections.abc import Callable

_MOST_WAITING = 3
"""Frames, mostly: enough to even out a slow one, few enough for memory."""
_LOOK_EVERY_SECONDS = 0.1


class Background:
    """Does what it is handed: at once, or, when it has been started, in a thread, a few items later.

    What one of them raises there is raised by the next put or by end, once.
    """

    def __init__(self) -> None:
        self._thread: threading.Thread | None = None
        self._waiting: queue.Queue[Callable[[], None] | None] = queue.Queue(_MOST_WAITING)
        self._error: Exception | None = None
        self._given_up = threading.Event()

    @property
    def is_started(self) -> bool:
        """Whether it has a thread."""
        return self._thread is not None

    def start(self) -> None:
        """From now on in a thread."""
        if self._thread is None:
            self._thread = threading.Thread(target=self._work, daemon=True)
            self._thread.start()

    def put(self, act: Callable[[], None]) -> None:
        """Hand over the next thing; waits while several wait already."""
        if self._thread is None:
            act()
            return
        self._raise()
        while not self._given_up.is_set():
            try:
                self._waiting.put(act, timeout=_LOOK_EVERY_SECONDS)
                return
            except queue.Full:
                continue
        self._raise()

    def end(self) -> None:
        """Wait until all is done."""
        if self._thread is not None:
            self._waiting.put(None)
            self._thread.join()
            self._raise()

    def abandon(self) -> None:
        """Do no more of it, and wait for what is being done."""
        self._given_up.set()
        while self._thread is not None and self._thread.is_alive():
            try:
                self._waiting.put_nowait(None)
            except queue.Full:
                self._thread.join(_LOOK_EVERY_SECONDS)
                continue
            self._thread.join()

    def _raise(self) -> None:
        error, self._error = self._error, None
        if error:
            raise error

    def _work(self) -> None:
        while (act := self._waiting.get()) is not None:
            if self._given_up.is_set():
                continue
            try:
                act()
            except Exception as error:
                self._error = error
                self._given_up.set()
