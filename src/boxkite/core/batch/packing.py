"""A plan as a document, so that its files can be made later, by another process or on another machine."""

from __future__ import annotations

import zlib
from collections.abc import Callable
from pathlib import Path

from msgspec import Struct

from boxkite.core.batch.executors.messages import ShotTask, WorkerMessage
from boxkite.core.errors import RecordsError
from boxkite.core.files.document import DocumentError, read_document, write_document
from boxkite.core.footage.frame_index import FrameIndex
from boxkite.core.footage.source import Source
from boxkite.core.job.job import Job
from boxkite.core.plan.rows import Row
from boxkite.core.presets.model import Preset
from boxkite.core.shots.shot import Composition, IndexedSource, Shot

VERSION = 8
"""Of the documents below. Raised with every change of what they hold; a test holds that."""
SHARED = (Source, FrameIndex, Composition, IndexedSource, Shot, Preset)
"""Parts that many rows share, and that are one object again when read."""
_MOST_BYTES = 1 << 30


class Packed(Struct, frozen=True):
    """A plan as it is stored: the rows to be made, and their job if there was one."""

    rows: tuple[Row, ...]
    job: Job | None


def pack(packed: Packed) -> bytes:
    """The bytes of a plan."""
    return zlib.compress(write_document(packed, Packed, VERSION, SHARED), level=1)


def unpack(content: bytes, path_from: Callable[[str], Path] = Path) -> Packed:
    """The plan in some bytes. path_from: how a path is called here.

    Raises RecordsError where they are not one, or one of another version.
    """
    try:
        unpacked = zlib.decompressobj().decompress(content, _MOST_BYTES)
        return read_document(unpacked, Packed, VERSION, SHARED, path_from)
    except (DocumentError, zlib.error) as error:
        raise RecordsError(f"its plan cannot be read back: {error}") from None


def pack_task(task: ShotTask) -> bytes:
    """The bytes of a shot that is given to a worker."""
    return write_document(task, ShotTask, VERSION, SHARED)


def unpack_task(content: bytes, path_from: Callable[[str], Path] = Path) -> ShotTask:
    """The shot in some bytes. path_from: how a path is called on this machine. Raises DocumentError."""
    return read_document(content, ShotTask, VERSION, SHARED, path_from)


def pack_message(message: WorkerMessage) -> bytes:
    """The bytes of what a worker says."""
    return write_document(message, WorkerMessage, VERSION)


def unpack_message(content: bytes) -> WorkerMessage:
    """A worker's message from its bytes. Raises DocumentError."""
    return read_document(content, WorkerMessage, VERSION)
