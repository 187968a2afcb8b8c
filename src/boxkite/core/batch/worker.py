"""A worker process: takes shots from its standard input, makes them, tells of them on its standard output."""

from __future__ import annotations

import os
import pickle
import signal
import sys
import time
from typing import BinaryIO

from boxkite.core.batch.messages import ShotTask, Told
from boxkite.core.plan.rows import stretch_of
from boxkite.core.render.rendering import render_stretch

_TELL_EVERY_SECONDS = 0.2


def serve(incoming: BinaryIO, outgoing: BinaryIO) -> None:
    """Make one shot after another until there are no more."""
    while True:
        try:
            task: ShotTask = pickle.load(incoming)
        except EOFError:
            return
        last_told = 0.0

        def tell(frames: int) -> None:
            nonlocal last_told
            now = time.monotonic()
            if now - last_told >= _TELL_EVERY_SECONDS:
                last_told = now
                _send(outgoing, Told(frames))

        results = render_stretch(task.rows, threads=task.threads, progress=tell)
        _send(outgoing, Told(stretch_of(task.rows).length, tuple(results)))


def _send(outgoing: BinaryIO, told: Told) -> None:
    pickle.dump(told, outgoing, protocol=pickle.HIGHEST_PROTOCOL)
    outgoing.flush()


def main() -> None:
    """Serve on the standard streams; whatever libraries print goes to the standard error."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # the process that started us decides when to stop
    outgoing = os.fdopen(os.dup(1), "wb")
    os.dup2(2, 1)
    try:
        serve(sys.stdin.buffer, outgoing)
    except BrokenPipeError:
        os._exit(1)  # whoever listened is gone; nothing half-made has a name


if __name__ == "__main__":
    main()
