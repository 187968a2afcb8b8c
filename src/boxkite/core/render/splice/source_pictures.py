"""The pictures of a source as they are stored, read from any of them on."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from fractions import Fraction

import numpy as np
from av.container import InputContainer
from av.video.stream import VideoStream
from msgspec import Struct

from boxkite.core.errors import DamagedError
from boxkite.core.footage.bitstream.nal_units import StreamHeader, header_of
from boxkite.core.footage.bitstream.obstacles import NotSpliceableError, Obstacle
from boxkite.core.footage.bitstream.pictures import PictureReader, reader_of
from boxkite.core.footage.cuts import Cut, cut_shot
from boxkite.core.footage.keyframes import StoredFrames, stored_frames
from boxkite.core.footage.opening import open_source, video_stream
from boxkite.core.plan.rows import Row
from boxkite.core.render.copy.checking import rewind
from boxkite.core.render.copy.stored_pictures import seek_before


class SourcePictures(Struct, frozen=True):
    """One source whose shot is spliced, open for reading."""

    container: InputContainer
    stream: VideoStream
    stored: StoredFrames
    cut: Cut
    header: StreamHeader
    """As the source has it."""
    base: Fraction
    """Of its ticks."""

    @classmethod
    @contextlib.contextmanager
    def of(cls, piece: Row) -> Iterator[SourcePictures]:
        """The pictures of a shot, while its source is open. Raises NotSpliceableError, FootageError."""
        footage = piece.shot.footage
        stored = stored_frames(footage.source)
        with open_source(footage.source) as container:
            stream = video_stream(container)
            if stream is None or stream.time_base is None:
                raise DamagedError("its picture has gone", path=footage.source.path)
            header = header_of(
                stream.codec_context.codec.canonical_name, bytes(stream.codec_context.extradata or b"")
            )
            cut = cut_shot(stored, footage.frame_index, piece.shot.span)
            yield cls(container, stream, stored, cut, header, stream.time_base)

    def reader(self) -> PictureReader:
        """A new reader for its pictures. Raises NotSpliceableError."""
        return reader_of(self.header)

    def packets(self, first: int, last: int) -> Iterator[tuple[int, bytes]]:
        """(place, packet) of the pictures from one place to another, inclusive; one reader at a time.

        Raises NotSpliceableError.
        """
        written = self.stored.written[first : last + 1]
        places = {int(time): first + number for number, time in enumerate(written)}
        if len(places) != len(written):
            raise NotSpliceableError(Obstacle.TIMES)
        wanted = first
        if first:
            seek_before(self.container, self.stream, int(written[0]))
        else:
            rewind(self.container)
        for packet in self.container.demux(self.stream):
            place = places.get(packet.pts) if packet.pts is not None and packet.size else None
            if place is None:
                continue
            if place != wanted:
                raise NotSpliceableError(Obstacle.TIMES)
            yield place, bytes(packet)
            wanted += 1
            if place == last:
                return
        raise NotSpliceableError(Obstacle.UNREADABLE)

    def times(self, places: np.ndarray) -> list[int]:
        """When pictures are shown, in ticks."""
        return [int(time) for time in self.stored.times[places]]
