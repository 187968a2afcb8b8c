"""A worker process: takes shots from its standard input, makes them, tells of them on its standard output."""

from __future__ import annotations

import faulthandler
import os
import queue
import signal
import sys
import threading
import time
from pathlib import Path
from typing import BinaryIO

from boxkite.core.batch.executors.messages import ShotTask, WorkerMessage, receive, send
from boxkite.core.batch.packing import pack_message, unpack_task
from boxkite.core.files.moving import discard
from boxkite.core.files.partials import discard_notes
from boxkite.core.footage.decoding import KeptDecoder
from boxkite.core.render.making import make_files

_TELL_EVERY_SECONDS = 0.2
_NICENESS = 10


class _Tasks:
    """The shots that come in. Read beside the work, so that the end of whoever sends them is known at once."""

    def __init__(self, incoming: BinaryIO) -> None:
        self._waiting: queue.Queue[ShotTask] = queue.Queue()
        self._partials: tuple[Path, ...] = ()
        threading.Thread(target=self._read, args=(incoming,), daemon=True).start()

    def next(self) -> ShotTask:
        """Wait for the next shot."""
        task = self._waiting.get()
        self._partials = task.partials
        return task

    def _read(self, incoming: BinaryIO) -> None:
        while True:
            try:
                self._waiting.put(unpack_task(receive(incoming)))
            except Exception:  # the sender has ended, in order or not, or sends what is no shot
                self._leave()

    def _leave(self) -> None:
        """End at once: nothing half-made stays, and nobody is there to give a finished file its name."""
        try:
            for partial in (*self._partials, *(one for task in self._waiting.queue for one in task.partials)):
                discard_notes(partial)
                discard(partial)
        finally:
            os._exit(1)


def serve(incoming: BinaryIO, outgoing: BinaryIO) -> None:
    """Make one shot after another until whoever sends them has ended."""
    tasks = _Tasks(incoming)
    kept = KeptDecoder()
    while True:
        task = tasks.next()
        last_told, length = 0.0, task.length

        def tell(frames: int, length: int = length) -> None:
            nonlocal last_told
            now = time.monotonic()
            is_last = frames >= length  # which tells that the next shot may come
            if is_last or now - last_told >= _TELL_EVERY_SECONDS:
                last_told = now
                send(outgoing, pack_message(WorkerMessage(frames)))

        results = make_files(
            task.rows,
            task.partials,
            threads=task.threads,
            progress=tell,
            chunk=task.chunk,
            is_audio=task.is_audio,
            chunks=task.chunks,
            kept=kept,
        )
        if not task.is_followed:
            kept.close()
        send(outgoing, pack_message(WorkerMessage(length, tuple(results))))


def _give_way() -> None:
    """Let whatever else the machine is used for go first."""
    if hasattr(os, "nice"):
        os.nice(_NICENESS)
        return
    import psutil

    psutil.Process().nice(psutil.BELOW_NORMAL_PRIORITY_CLASS)  # type: ignore[attr-defined, unused-ignore]


def main() -> None:
    """Serve on the standard streams; whatever libraries print goes to the standard error."""
    import av.logging

    signal.signal(signal.SIGINT, signal.SIG_IGN)  # the process that started us decides when to stop
    outgoing = os.fdopen(os.dup(1), "wb")
    os.dup2(2, 1)
    faulthandler.enable()
    av.logging.set_libav_level(av.logging.WARNING)
    av.logging.restore_default_callback()
    _give_way()
    try:
        serve(sys.stdin.buffer, outgoing)
    except BrokenPipeError:
        os._exit(1)  # whoever listened is gone; nothing half-made has a name


if __name__ == "__main__":
    main()
