"""Copying pictures that all stand alone without reading their packets: their bytes go from file to file.

The codec library writes a small file with a stand-in for each picture; its index is then made true (movie_index.py).
"""

from __future__ import annotations

import heapq
import os
from collections.abc import Iterator, Sequence
from contextlib import AbstractContextManager, ExitStack, nullcontext
from pathlib import Path
from typing import Any, BinaryIO, cast

import numpy as np
from av.container import InputContainer
from av.packet import Packet
from av.stream import Discard
from av.video.stream import VideoStream
from msgspec import Struct

from boxkite.core.errors import DamagedError
from boxkite.core.files.joining import CAN_JOIN, Part, join_parts
from boxkite.core.footage.opening import LISTS_ALL, OpenedSource, open_source, video_stream
from boxkite.core.footage.stream_start import may_need_note
from boxkite.core.plan.rows import Row
from boxkite.core.render.copy.checking import marked_by_lengths
from boxkite.core.render.copy.movie_index import describes_pictures_once, layout_of
from boxkite.core.render.copy.pieces import Share, ignored, read_packets
from boxkite.core.render.copy.stored_pictures import StoredPictures

_CODECS = frozenset({"prores", "dnxhd", "mjpeg", "h264", "hevc"})
"""Of whose packets the container looks into the first one alone."""
_STAND_IN_BYTES = 16
_MOST_PIECES = 16
"""Whose sources are all open at a time."""


class OtherwiseStoredError(Exception):
    """The pictures of a piece are not those that the index lists: their packets must be read."""


class PicturesInFile(Struct):
    """Where the pictures of a piece lie in its source, all of which stand alone."""

    opened: OpenedSource
    descriptor: int
    times: np.ndarray
    """When each is shown, in ticks; they are stored in this order."""
    places: np.ndarray
    sizes: np.ndarray
    durations: np.ndarray
    """In ticks."""
    taken: np.ndarray
    """Those of the piece, by their numbers in the source."""

    @classmethod
    def of(cls, opened: OpenedSource) -> PicturesInFile | None:
        """Those of an opened source; None where they are not all plain, or depend on each other."""
        container, descriptor = opened.container, opened.descriptor
        stream = video_stream(container)
        if descriptor is None or stream is None or LISTS_ALL not in container.format.name:
            return None
        entries = stream.index_entries
        if not len(entries) or len(entries) != stream.frames:
            return None
        if stream.codec_context.codec.canonical_name not in _CODECS or may_need_note(stream):
            return None
        if not marked_by_lengths(stream):
            return None
        told = [
            (entry.timestamp, entry.pos, entry.size, entry.is_keyframe and not entry.is_discard)
            for entry in entries
        ]
        times, places, sizes, whole = np.array(told, dtype=np.int64).T
        durations = np.diff(times, append=stream.duration or 0)
        if not (whole.all() and sizes.all() and (durations[:-1] > 0).all()):
            return None
        if not _is_described_once(descriptor):
            return None
        first = next((packet for packet in container.demux(stream) if packet.size), None)
        if first is None or first.pts is None or first.pts != first.dts:
            return None
        if (first.pos, first.size) != (places[0], sizes[0]):
            return None
        times = times + first.pts - times[0]
        return cls(opened, descriptor, times, places, sizes, np.maximum(durations, 0), times[:0])

    def take(self, times: set[int]) -> None:
        """Choose the pictures of a piece by their times. Raises OtherwiseStoredError."""
        wanted = np.array(sorted(times), dtype=np.int64)
        self.taken = np.searchsorted(self.times, wanted)
        if self.taken[-1] >= len(self.times) or (self.times[self.taken] != wanted).any():
            raise OtherwiseStoredError

    def packets(
        self, incoming: InputContainer, stream: VideoStream, others: list[int]
    ) -> Iterator[Packet[Any]]:
        """A stand-in for each picture from the first one taken on, and the packets of other streams between them."""
        stream.discard = Discard.all
        rest = read_packets(incoming, others) if others else iter(())
        told = (packet for packet in rest if packet.dts is not None and packet.time_base is not None)
        return heapq.merge(self._stand_ins(stream), told, key=_moment)

    def _stand_ins(self, stream: VideoStream) -> Iterator[Packet[Any]]:
        for number in range(int(self.taken[0]), len(self.times)):
            whole = number == self.taken[0]
            packet: Packet[Any] = Packet(self._whole(number) if whole else _STAND_IN_BYTES)
            packet.stream = stream
            if stream.time_base:
                packet.time_base = stream.time_base
            packet.pts = packet.dts = int(self.times[number])
            packet.duration = int(self.durations[number])
            packet.is_keyframe = True
            yield packet

    def _whole(self, number: int) -> bytes:
        content = bytearray(int(self.sizes[number]))
        if os.preadv(self.descriptor, [content], int(self.places[number])) != len(content):
            raise DamagedError("the first frame of it cannot be read")
        return bytes(content)


def _is_described_once(descriptor: int) -> bool:
    """Whether a source has one description of its pictures; the codec library goes on where it was."""
    place = os.lseek(descriptor, 0, os.SEEK_CUR)
    try:
        with os.fdopen(descriptor, "rb", closefd=False) as file:
            return describes_pictures_once(file)
    finally:
        os.lseek(descriptor, place, os.SEEK_SET)


def _moment(packet: Packet[Any]) -> float:
    """When a packet is decoded, in seconds; it orders what the container's own clock puts into order once more."""
    return float(packet.dts or 0) * float(packet.time_base or 1)


def sources_of(row: Row, opened: ExitStack) -> list[PicturesInFile]:
    """Where the pictures of each piece lie; empty where packets must be read. opened: takes the sources in.

    Raises FootageError, and ChangedError when they are closed, for a source that is not what it was.
    """
    if not CAN_JOIN or len(row.pieces) > _MOST_PIECES:
        return []
    found = []
    for piece in row.pieces:
        source = open_source(piece.shot.footage.source)
        opened.push(source)
        pictures = PicturesInFile.of(source)
        if pictures is None:
            return []
        found.append(pictures)
    return found


class PiecesByStandIns(Struct, frozen=True):
    """Pieces of whose pictures no packet is read."""

    row: Row
    sources: Sequence[PicturesInFile]
    header: bytes = b""
    hides_audio: bool = False
    was_read: bool = True

    def opened(self, place: int) -> AbstractContextManager[InputContainer]:
        """The source of one, which stays open."""
        return nullcontext(self.sources[place].opened.container)

    def pictures(self, place: int, incoming: InputContainer, stream: VideoStream) -> StoredPictures:
        """Those of one. Raises OtherwiseStoredError."""
        pictures = StoredPictures.of(self.row.pieces[place], incoming, stream)
        self.sources[place].take(pictures.waiting)
        return pictures

    def packets(self, place: int, incoming: InputContainer, indexes: list[int]) -> Iterator[Packet[Any]]:
        """Stand-ins for its pictures, and the packets of other streams."""
        picture, *others = indexes
        return self.sources[place].packets(incoming, cast(VideoStream, incoming.streams[picture]), others)


def join_pictures(
    small: BinaryIO, sources: Sequence[PicturesInFile], partial: Path, progress: Share = ignored
) -> str:
    """Write the file of which a small one with stand-ins was written; its checksum.

    progress: gets how much of it is written.

    Raises DamagedError where a source is shorter than its index says, VerificationError, OSError.
    """
    small.flush()
    pictures = [
        Part(source.descriptor, int(source.places[number]), int(source.sizes[number]))
        for source in sources
        for number in source.taken
    ]
    layout = layout_of(small, np.array([picture.length for picture in pictures]))
    parts = (
        Part(small.fileno(), piece.start, piece.length) if piece.picture < 0 else pictures[piece.picture]
        for piece in layout.pieces
    )
    whole = sum(picture.length for picture in pictures) + os.fstat(small.fileno()).st_size
    try:
        return join_parts(layout.head, parts, partial, lambda written: progress(written / whole))
    except EOFError:
        raise DamagedError("its frames cannot be read to the end of the file") from None
