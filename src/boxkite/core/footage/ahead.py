"""Decoding that runs ahead of whoever uses the frames, in a thread of its own."""

from __future__ import annotations

import queue
import threading
from collections.abc import Generator, Iterator
from typing import TypeVar

Item = TypeVar("Item")


class _End:
    """That nothing comes any more, or what was raised instead."""

    def __init__(self, error: BaseException | None) -> None:
        self.error = error


def ahead(items: Iterator[Item], most: int) -> Generator[Item, None, None]:
    """The items of an iterator that runs ahead by some in another thread; what it raises is raised here.

    most: items that wait at a time. Closed early, it lets the iterator go at its next item.
    """
    waiting: queue.Queue[Item | _End] = queue.Queue(most)
    over = threading.Event()

    def fetch() -> None:
        error: BaseException | None = None
        try:
            for item in items:
                waiting.put(item)
                if over.is_set():
                    break
            if isinstance(items, Generator):
                items.close()
        except BaseException as raised:
            error = raised
        waiting.put(_End(error))

    threading.Thread(target=fetch, daemon=True).start()
    try:
        while not isinstance(got := waiting.get(), _End):
            yield got
        if got.error is not None:
            raise got.error
    finally:
        over.set()
        while not waiting.empty():
            waiting.get_nowait()
