"""The messages between the process that runs a batch and its workers."""

from __future__ import annotations

from pathlib import Path
from typing import IO

from msgspec import Struct

from boxkite.core.plan.rows import Row, group_span
from boxkite.core.render.result import Result
from boxkite.core.timebase import Span

_LENGTH_BYTES = 8
_MOST_BYTES = 1 << 30


class ShotTask(Struct, frozen=True):
    """All files of one shot."""

    rows: tuple[Row, ...]
    partials: tuple[Path, ...]
    """Where each is written until it is verified; it is there already, empty."""
    threads: int
    """Of the decoder and of each encoder."""
    chunk: Span | None = None
    """The frames of the source to be encoded, of a shot whose chunks are made apart."""
    is_audio: bool = False
    """Whether it is all audio of such a shot."""
    chunks: tuple[tuple[Path, ...], ...] = ()
    """For each row the chunks that are to be joined, in their order, that of its audio last."""

    is_followed: bool = False
    """Whether a shot that begins soon after it in its source is likely to come next."""

    @property
    def key(self) -> tuple[int, int]:
        """What tells it from the other tasks of a batch."""
        return self.rows[0].number, self.chunk.start if self.chunk else -1 - self.is_audio

    @property
    def length(self) -> int:
        """How many frames of the source it takes."""
        return (self.chunk or group_span(self.rows)).length


class WorkerMessage(Struct, frozen=True):
    """A worker's message: frames done, and at the end of a shot its results."""

    frames: int
    results: tuple[Result, ...] = ()


def send(outgoing: IO[bytes], content: bytes) -> None:
    """Write a message to a pipe, its length first. Raises BrokenPipeError where nobody listens."""
    outgoing.write(len(content).to_bytes(_LENGTH_BYTES, "big") + content)
    outgoing.flush()


def receive(incoming: IO[bytes]) -> bytes:
    """Wait for the next message of a pipe. Raises EOFError at the end, or where the content is no message."""
    head = incoming.read(_LENGTH_BYTES)
    length = int.from_bytes(head, "big")
    if len(head) < _LENGTH_BYTES or length > _MOST_BYTES:
        raise EOFError
    content = incoming.read(length)
    if len(content) < length:
        raise EOFError
    return content
