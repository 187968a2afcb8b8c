"""The pieces of a copy: what is read of the source of each."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager
from typing import Any, Protocol

from av.container import InputContainer
from av.packet import Packet
from av.video.stream import VideoStream
from msgspec import Struct

from boxkite.core.footage.opening import open_source
from boxkite.core.plan.rows import Row
from boxkite.core.presets.codecs import COPIED_AS
from boxkite.core.render.copy.stored_pictures import StoredPictures

Share = Callable[[float], None]
"""Gets how much of a file is written, 0 to 1."""


def ignored(_: float) -> None:
    """For whoever does not ask how far it is."""


class Pieces(Protocol):
    """The pieces of a copy, by their places in it."""

    @property
    def header(self) -> bytes:
        """Of the stream that is written, for the container; empty for that of the first source."""

    @property
    def hides_audio(self) -> bool:
        """Whether audio is stored beyond both ends, to be cut at the very sample by an edit list."""

    @property
    def was_read(self) -> bool:
        """Whether their sources may be at another place than their beginnings."""

    def opened(self, place: int) -> AbstractContextManager[InputContainer]:
        """The source of one."""

    def pictures(self, place: int, incoming: InputContainer, stream: VideoStream) -> StoredPictures:
        """Those of one, whose source was just opened; anew for each attempt at writing."""

    def packets(self, place: int, incoming: InputContainer, indexes: list[int]) -> Iterator[Packet[Any]]:
        """The packets of some streams of its source, from where that is; the picture's is the first of them."""


class PiecesByPackets(Struct, frozen=True):
    """Pieces whose packets are all read."""

    row: Row
    header: bytes = b""
    hides_audio: bool = False
    was_read: bool = False

    def opened(self, place: int) -> AbstractContextManager[InputContainer]:
        """The source of one, opened anew."""
        return open_source(self.row.pieces[place].shot.footage.source)

    def pictures(self, place: int, incoming: InputContainer, stream: VideoStream) -> StoredPictures:
        """Those of one, by its source."""
        return StoredPictures.of(self.row.pieces[place], incoming, stream)

    def packets(self, _place: int, incoming: InputContainer, indexes: list[int]) -> Iterator[Packet[Any]]:
        """All packets of those streams."""
        return read_packets(incoming, indexes)


def cuts_audio(row: Row) -> bool:
    """Whether an edit list can cut the audio of a spliced file at the very sample."""
    return len(row.pieces) == 1 and COPIED_AS[row.extension.lower()] in ("mov", "mp4")


def read_packets(incoming: InputContainer, indexes: list[int]) -> Iterator[Packet[Any]]:
    """The packets of some streams, from where a source is."""
    return incoming.demux([incoming.streams[index] for index in indexes])
