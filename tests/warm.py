"""The program kept warm: a process that has loaded all its modules becomes the program by a fork for each command.

What the program does is the same: its own entry with its own words, in a process, a folder and an environment of
its own, and its workers are forks of that process in turn. What is saved is the loading, which would take more than
half of all the time of the tests. Those that kill the program, or watch it in a terminal or in the background, start it
as a shell does.
"""

from __future__ import annotations

import atexit
import contextlib
import importlib
import json
import os
import pkgutil
import select
import subprocess
import sys
import tempfile
import threading
import traceback
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
COLD = ("boxkite.core.batch.executors.cluster", "boxkite.__main__")


class Warm:
    """The process, as tests see it. Commands may be given from several threads at once."""

    def __init__(self, env: dict[str, str] | None = None) -> None:
        """env: of the process, where it is not to be this one's."""
        self._process = subprocess.Popen(
            [sys.executable, "-m", "tests.warm"],
            cwd=ROOT,
            env=env,
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            text=True,
        )
        self._lock = threading.Lock()
        self._waiting: dict[int, tuple[threading.Event, list[int]]] = {}
        self._count = 0
        threading.Thread(target=self._hear, daemon=True).start()
        atexit.register(self._process.kill)

    def run(
        self, words: list[str], cwd: Path | None, env: dict[str, str] | None, timeout: float
    ) -> tuple[int, str, str]:
        """(exit status, standard output, standard error) of a command."""
        with tempfile.TemporaryDirectory() as folder:
            prints = [Path(folder) / name for name in ("out", "err")]
            done, status = threading.Event(), []
            with self._lock:
                self._count += 1
                self._waiting[self._count] = (done, status)
                task = {
                    "id": self._count,
                    "words": words,
                    "cwd": str(cwd or Path.cwd()),
                    "env": env or dict(os.environ),
                    "prints": [str(path) for path in prints],
                }
                assert self._process.stdin
                self._process.stdin.write(json.dumps(task) + "\n")
                self._process.stdin.flush()
            if not done.wait(timeout):
                raise subprocess.TimeoutExpired(words, timeout)
            out, err = (path.read_text(errors="surrogateescape") for path in prints)
            return status[0], out, err

    def _hear(self) -> None:
        assert self._process.stdout
        for line in self._process.stdout:
            told = json.loads(line)
            done, status = self._waiting.pop(told["id"])
            status.append(told["status"])
            done.set()


def become_the_program(task: dict) -> None:
    """Run one command in this process, and end with its status."""
    os.setsid()  # what kills all processes of a command must not kill this one's parent
    os.chdir(task["cwd"])
    os.environ.clear()
    os.environ.update(task["env"])
    null = os.open(os.devnull, os.O_RDONLY)
    os.dup2(null, 0)
    for target, path in zip((1, 2), task["prints"], strict=True):
        os.dup2(os.open(path, os.O_WRONLY | os.O_CREAT, 0o600), target)
    sys.argv = ["boxkite", *task["words"]]
    status = 1
    try:
        from boxkite.cli.main import main

        status = main()
    except SystemExit as end:
        status = end.code if isinstance(end.code, int) else int(end.code is not None)
    except BaseException:
        traceback.print_exc()
    threading._shutdown()  # type: ignore[attr-defined]
    atexit._run_exitfuncs()
    for stream in (sys.stdout, sys.stderr):
        with contextlib.suppress(OSError, ValueError):
            stream.flush()
    os._exit(status)


def load() -> None:
    """All modules, and what the program makes once: what checks presets, and what writes and reads its documents."""
    import boxkite

    for module in pkgutil.walk_packages(boxkite.__path__, "boxkite."):
        if not module.name.startswith(COLD):
            importlib.import_module(module.name)
    from boxkite.core.batch import packing
    from boxkite.core.files import document
    from boxkite.core.presets.reading import checked

    checked("any", {"container": "mov", "video": {"codec": "prores"}}, "any.toml")
    for kind in (packing.Packed, packing.ShotTask, packing.WorkerMessage):
        document._encoder(kind)
        document._decoder(kind)


def serve() -> None:
    """Load everything, then fork for each command that comes in, and tell of each that has ended."""
    load()
    answers = os.fdopen(os.dup(1), "w")
    incoming = os.dup(0)
    running: dict[int, int] = {}
    held = b""
    while True:
        if select.select([incoming], [], [], 0.005 if running else None)[0]:
            part = os.read(incoming, 1 << 20)
            if not part:
                return
            *lines, held = (held + part).split(b"\n")
            for line in lines:
                task = json.loads(line)
                child = os.fork()
                if child == 0:
                    answers.close()
                    os.close(incoming)
                    become_the_program(task)
                running[child] = task["id"]
        while running:
            child, status = os.waitpid(-1, os.WNOHANG)
            if not child:
                break
            ended = {"id": running.pop(child), "status": os.waitstatus_to_exitcode(status)}
            answers.write(json.dumps(ended) + "\n")
            answers.flush()


if __name__ == "__main__":
    serve()
