"""Reading packets ahead: a thread reads while those before are written, so that neither waits for the other."""

from __future__ import annotations

import queue
import threading
from collections.abc import Generator, Iterable
from typing import Any

from av.packet import Packet

_BYTES_AT_ONCE, _PACKETS_AT_ONCE = 4_000_000, 256
_MOST_WAITING = 4
_LOOK_EVERY_SECONDS = 0.1


def read_ahead(packets: Iterable[Packet[Any]]) -> Generator[Packet[Any]]:
    """The same packets, in the same order; what reading them raises is raised here.

    Where no more are wanted the reading has ended too, once this is closed: use it in contextlib.closing.
    """
    waiting: queue.Queue[tuple[list[Packet[Any]], Exception | None] | None] = queue.Queue(_MOST_WAITING)
    enough = threading.Event()

    def hand_on(what: tuple[list[Packet[Any]], Exception | None] | None) -> None:
        while not enough.is_set():
            try:
                waiting.put(what, timeout=_LOOK_EVERY_SECONDS)
            except queue.Full:
                continue
            return

    def read() -> None:
        read_so_far: list[Packet[Any]] = []
        size = 0
        try:
            for packet in packets:
                read_so_far.append(packet)
                size += packet.size
                if size >= _BYTES_AT_ONCE or len(read_so_far) >= _PACKETS_AT_ONCE:
                    hand_on((read_so_far, None))
                    read_so_far, size = [], 0
                if enough.is_set():
                    return
        except Exception as error:
            hand_on((read_so_far, error))
            return
        hand_on((read_so_far, None))
        hand_on(None)

    reading = threading.Thread(target=read, daemon=True)
    reading.start()
    try:
        while (read_so_far := waiting.get()) is not None:
            some, error = read_so_far
            yield from some
            if error:
                raise error
    finally:
        enough.set()
        reading.join()
