"""The file a chunk of a shot, or its audio, is kept in until it is joined: what was coded, and what is known of it.

It begins with a mark and the encoders' headers. Each packet follows with its times in ticks of its encoder, those of
frames counted from the chunk's first. A record of the chunk stands at the end, then where that begins and a checksum of
all before.
"""

from __future__ import annotations

import json
import struct
from collections.abc import Iterator
from pathlib import Path
from typing import IO, Any, cast

import xxhash
from av.packet import Packet, PacketSideData, packet_sidedata_type_from_literal
from msgspec import Struct
from msgspec.structs import asdict

from boxkite.core.errors import RenderError

_MARK = b"BKCHUNK1"
_LENGTH = struct.Struct("<I")
_PACKET = struct.Struct("<qqqI?BB")
"""Times of showing and of decoding, duration, bytes, whether it is a keyframe, the place of its stream, and how many
notes for the container follow."""
_NOTE = struct.Struct("<HI")
"""The kind of a note as the codec library counts it (AVPacketSideDataType), and its bytes."""
_END = struct.Struct("<QQ")
"""Where the record begins, and the checksum (XXH3, 64 bits)."""
_MOST_BYTES = 1 << 30


class ChunkError(RenderError):
    """The chunks of a shot do not make one stream; it is encoded in one piece instead."""


class ChunkRecord(Struct, frozen=True):
    """What is known of a chunk beside its coded frames."""

    frames: int
    """Of the file; 0 of audio, which has none of what follows."""
    is_complete: bool = True
    """Whether it has all frames that it should."""
    prepared: str = ""
    """How the chain set itself up on the chunk's first frame; the same for all chunks of a shot."""
    looks_around: bool = False
    """Whether a frame depends on those before and after it."""
    layout: str = ""
    """Of its frame prints."""
    begins_with_idr: int = -1
    """The number of the IDR picture it begins with, of H.264; -1 for others."""
    ends_with_idr: int = -1
    """The same for its last picture."""


class ChunkFileWriter:
    """Writes the packets of a chunk as they come."""

    def __init__(self, path: Path) -> None:
        self._file: IO[bytes] = path.open("wb")
        self._digest = xxhash.xxh3_64()
        self._write(_MARK)
        self._has_header = False

    def put(self, packet: Packet[Any], header: bytes, place: int = 0) -> None:
        """Take a packet of a stream. header: of the encoders, kept once. Raises OSError."""
        self._put_header(header)
        data = bytes(packet)
        pts = packet.pts if packet.pts is not None else 0
        dts = packet.dts if packet.dts is not None else pts
        notes = [(one.data_type, bytes(one)) for one in packet.iter_sidedata()]
        is_key, count = packet.is_keyframe, len(notes)
        self._write(_PACKET.pack(pts, dts, packet.duration or 0, len(data), is_key, place, count))
        self._write(data)
        for kind, note in notes:
            number = packet_sidedata_type_from_literal(cast(Any, kind))
            self._write(_NOTE.pack(number, len(note)) + note)

    def end(self, record: ChunkRecord, header: bytes, prints: bytes = b"", ends: bytes = b"") -> None:
        """Write the record and the end. prints: of all frames; ends: thumbnails of the first and the last one."""
        self._put_header(header)
        begins = self._file.tell()
        for part in (json.dumps(asdict(record)).encode(), prints, ends):
            self._write(_LENGTH.pack(len(part)) + part)
        self._file.write(_END.pack(begins, self._digest.intdigest()))
        self._file.close()

    def abandon(self) -> None:
        """Let go of it."""
        self._file.close()

    def _put_header(self, header: bytes) -> None:
        if not self._has_header:
            self._has_header = True
            self._write(_LENGTH.pack(len(header)) + header)

    def _write(self, data: bytes) -> None:
        self._digest.update(data)
        self._file.write(data)


class ChunkFile:
    """A finished chunk. Its packets are read one by one."""

    def __init__(self, path: Path) -> None:
        """Raises ChunkError where it is not there or not complete."""
        self.path = path
        try:
            with path.open("rb") as file:
                file.seek(-_END.size, 2)
                self._begins, self._checksum = _END.unpack(file.read())
                file.seek(self._begins)
                parts = [_part(file) for _ in range(3)]
                file.seek(0)
                if file.read(len(_MARK)) != _MARK:
                    raise ValueError("no chunk")
                self.header = _part(file)
            self.record = ChunkRecord(**json.loads(parts[0]))
            self.prints, self.ends = parts[1], parts[2]
        except (OSError, ValueError, TypeError, struct.error) as error:
            raise ChunkError("one of its chunks is no longer there, or not complete") from error

    def packets(self) -> Iterator[tuple[int, Packet[Any]]]:
        """(place of the stream, packet) in their order. Raises ChunkError at the end where the file is not as it was
        written."""
        digest = xxhash.xxh3_64()
        with self.path.open("rb") as file:
            digest.update(file.read(len(_MARK) + _LENGTH.size + len(self.header)))
            while file.tell() < self._begins:
                head = file.read(_PACKET.size)
                pts, dts, duration, length, is_key, place, count = _PACKET.unpack(head)
                data = file.read(min(length, _MOST_BYTES))
                digest.update(head + data)
                packet: Packet[Any] = Packet(data)
                packet.pts, packet.dts, packet.duration = pts, dts, duration
                packet.is_keyframe = is_key
                for _ in range(count):
                    digest.update(_take_note(file, packet))
                yield place, packet
            digest.update(file.read()[: -_END.size])
        if digest.intdigest() != self._checksum:
            raise ChunkError("one of its chunks is not as it was written")


def _take_note(file: IO[bytes], packet: Packet[Any]) -> bytes:
    """Give a packet the note that follows in a file; the bytes of it."""
    head = file.read(_NOTE.size)
    kind, length = _NOTE.unpack(head)
    content = file.read(min(length, _MOST_BYTES))
    note: Any = PacketSideData(kind, len(content))  # type: ignore[call-arg]
    note.update(content)
    packet.set_sidedata(note)
    return head + content


def _part(file: IO[bytes]) -> bytes:
    (length,) = _LENGTH.unpack(file.read(_LENGTH.size))
    return file.read(min(length, _MOST_BYTES))
