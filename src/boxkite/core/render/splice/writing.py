"""The packets of a spliced file: encoded edges in the place of the source's, copied ones between them."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import AbstractContextManager, nullcontext
from typing import Any

import numpy as np
from av.container import InputContainer
from av.packet import Packet
from av.video.stream import VideoStream
from msgspec import Struct, field

from boxkite.core.footage.bitstream.obstacles import NotSpliceableError, Obstacle
from boxkite.core.footage.bitstream.pictures import CodedPicture, PictureReader, reader_of
from boxkite.core.footage.opening import open_source
from boxkite.core.plan.rows import Row
from boxkite.core.render.copy.pieces import read_packets
from boxkite.core.render.copy.stored_pictures import StoredPictures
from boxkite.core.render.splice.preparing import Prepared


class SplicedPictures(StoredPictures):
    """The pictures of one piece, in the order they are written."""

    prepared: Prepared
    reader: PictureReader
    decode_times: list[int]
    times: list[int]
    """When each is shown, in ticks of the source."""
    coded: list[CodedPicture] = field(default_factory=list)
    """What each says, so far."""
    checksums: list[int] = field(default_factory=list)
    """Of each packet."""

    @classmethod
    def of_cut(cls, prepared: Prepared) -> SplicedPictures:
        """Those of a cut that is prepared."""
        base = prepared.pictures.base
        pictures, cut = prepared.pictures, prepared.pictures.cut
        stored = pictures.stored
        body = np.arange(*cut.body)
        places = np.concatenate([np.sort(cut.head), body, np.sort(cut.tail)])
        later = stored.times[stored.times > cut.times[-1]]
        begin = int(cut.times[0])
        times = [*prepared.head.times, *pictures.times(body), *prepared.tail.times]
        return cls(
            {int(time) for time in stored.written[places]},
            int(stored.written[cut.head_from]),
            len(times),
            begin * base,
            int(later.min()) * base if len(later) else None,
            None,
            None,
            prepared,
            reader_of(prepared.header),
            _decode_times(cut.times, prepared.coding.depth),
            times,
        )

    def take(self, packet: Packet[Any]) -> Packet[Any] | None:
        """The packet to write for one of the source: as it is, or with the frame encoded in its place."""
        if not super().take(packet):
            return None
        time = packet.pts
        number, head, tail = len(self.coded), self.prepared.head, self.prepared.tail
        body_end = len(self.times) - len(tail.times)
        data: bytes | None = None
        if number < len(head.times):
            data = head.packets[number]
        elif number >= body_end:
            data = tail.packets[number - body_end]
        content = bytes(packet) if data is None else data
        picture = self.reader.read(content)
        if data is None and time != self.times[number]:
            raise NotSpliceableError(Obstacle.TIMES)
        if data is not None:
            edge: Packet[Any] = Packet(data)
            edge.time_base, edge.duration = packet.time_base, packet.duration
            edge.is_keyframe = picture.is_idr
            packet = edge
        packet.pts, packet.dts = self.times[number], self.decode_times[number]
        self.coded.append(picture)
        self.checksums.append(self.prepared.header.checksum(content))
        return packet


def _decode_times(shown: np.ndarray, depth: int) -> list[int]:
    """When each stored frame is decoded: as the frames are shown, so many frames earlier as they are reordered."""
    step = int(shown[1] - shown[0]) if len(shown) > 1 else 1
    early = [int(shown[0]) - step * number for number in range(depth, 0, -1)]
    return [*early, *map(int, shown)][: len(shown)]


class SplicedStream(Struct):
    """The stream of a spliced file, piece after piece."""

    rows: Sequence[Row]
    prepared: Sequence[Prepared]
    hides_audio: bool
    pieces: list[SplicedPictures] = field(default_factory=list)
    was_read: bool = True

    @property
    def header(self) -> bytes:
        """With the sets of all pieces. Raises NotSpliceableError where they do not agree."""
        first = self.prepared[0].coding.header
        if any(one.coding.header != first for one in self.prepared):
            raise NotSpliceableError(Obstacle.SETS)
        return first.with_picture_sets(
            unit for one in self.prepared for unit in one.header.picture_sets
        ).written()

    def opened(self, place: int) -> AbstractContextManager[InputContainer]:
        """The source of one piece: still open, if it is the only one."""
        if len(self.prepared) == 1:
            return nullcontext(self.prepared[0].pictures.container)
        return open_source(self.rows[place].shot.footage.source)

    def pictures(self, place: int, _incoming: InputContainer, _stream: VideoStream) -> SplicedPictures:
        """Those of one piece, from its beginning."""
        del self.pieces[place:]
        self.pieces.append(SplicedPictures.of_cut(self.prepared[place]))
        return self.pieces[-1]

    def packets(self, _place: int, incoming: InputContainer, indexes: list[int]) -> Iterator[Packet[Any]]:
        """All packets of its source."""
        return read_packets(incoming, indexes)
