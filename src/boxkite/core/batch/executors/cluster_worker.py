"""The work of a cluster worker: it makes shots in a separate process, so that a codec's crash stays there."""

from __future__ import annotations

import os
import platform
import threading
import time
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import av
from distributed import get_worker
from msgspec import Struct

from boxkite import __version__
from boxkite.core.batch.executors.local import LocalExecutor
from boxkite.core.batch.packing import VERSION, unpack_task
from boxkite.core.files.document import read_document, write_document
from boxkite.core.render.result import Result
from boxkite.core.settings import PathRule, mapped

_LISTEN_SECONDS = 0.5
_TELL_EVERY_SECONDS = 1.0
_OWN = threading.local()


class Answer(Struct, frozen=True):
    """The result of a shot on another machine."""

    results: tuple[Result, ...]
    frames: int
    lost: str
    """How its process ended, empty where it did not."""
    output: str
    machine: str


def unpack_answer(content: bytes) -> Answer:
    """The answer in some bytes. Raises DocumentError."""
    return read_document(content, Answer, VERSION)


def make_shot(content: bytes, rules: Sequence[PathRule], key: str, topic: str) -> bytes:
    """Make a shot here, telling of its frames under a topic, as long as it is wanted; its answer as bytes.

    The process that makes it lives on for the next shot of this thread.
    """
    return write_document(_made(content, rules, key, topic), Answer, VERSION)


def _made(content: bytes, rules: Sequence[PathRule], key: str, topic: str) -> Answer:
    machine = platform.node()
    task = unpack_task(content, lambda text: Path(mapped(text, rules, machine)))
    worker: Any = get_worker()
    executor = _executor_of_this_thread()
    executor.submit(task, ())
    reported_at = 0.0
    while True:
        event = executor.next_event(_LISTEN_SECONDS)
        if event is None or not event.is_over:
            if not _is_wanted(worker, key):
                _end_executor()
                return Answer((), 0, "it is no longer wanted", "", platform.node())
            now = time.monotonic()
            if event and event.message and now - reported_at >= _TELL_EVERY_SECONDS:
                reported_at = now
                worker.log_event(topic, {"key": key, "frames": event.message.frames})
            continue
        results = event.message.results if event.message else ()
        frames = event.message.frames if event.message else 0
        return Answer(results, frames, event.lost, event.output, platform.node())


def _executor_of_this_thread() -> LocalExecutor:
    if getattr(_OWN, "executor", None) is None:
        _OWN.executor = LocalExecutor(1)
    return _OWN.executor  # type: ignore[no-any-return]


def _end_executor() -> None:
    _OWN.executor.__exit__(None, None, None)
    _OWN.executor = None


def _is_wanted(worker: Any, key: str) -> bool:
    """Whether the one who asked for a shot is still there and still wants it."""
    task = worker.state.tasks.get(key)
    return task is not None and task.state not in ("cancelled", "forgotten", "released")


class MachineInfo(Struct, frozen=True):
    """A worker's machine: asked before it is given any shot."""

    machine: str
    version: str
    codecs: str
    cores: int
    missing_encoders: tuple[str, ...]
    """Of those asked for."""
    differences: tuple[str, ...]
    unwritable: tuple[str, ...]
    """Folders that cannot be written to. All by the names they have there."""


def info_of_machine(
    encoders: Sequence[str],
    files: Sequence[tuple[str, int]],
    folders: Sequence[str],
    rules: Sequence[PathRule],
) -> MachineInfo:
    """Metadata of the machine this runs on. files: paths as the asker calls them, and their sizes in bytes."""
    from boxkite.core.batch.recording import versions
    from boxkite.core.machine import usable_cores

    machine = platform.node()
    there = [(mapped(path, rules, machine), size) for path, size in files]
    targets = [mapped(folder, rules, machine) for folder in folders]
    return MachineInfo(
        machine,
        __version__,
        versions()["codecs"],
        usable_cores(),
        tuple(name for name in encoders if not _has_encoder(name)),
        tuple(path for path, size in there if _size(path) != size),
        tuple(folder for folder in targets if not os.access(folder, os.W_OK)),
    )


def _has_encoder(name: str) -> bool:
    try:
        av.Codec(name, "w")
    except ValueError:
        return False
    return True


def _size(path: str) -> int:
    try:
        return Path(path).stat().st_size
    except OSError:
        return -1
