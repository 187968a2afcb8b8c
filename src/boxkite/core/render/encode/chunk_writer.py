"""Encoding one chunk of a shot, and writing the file that the chunks of a shot become."""

from __future__ import annotations

import heapq
import io
from collections.abc import Iterator, Sequence
from fractions import Fraction
from functools import partial
from itertools import pairwise
from pathlib import Path
from typing import Any

import numpy as np
from av.audio.stream import AudioStream
from av.packet import Packet
from av.video.frame import VideoFrame

from boxkite.core.footage.bitstream.h264_sets import PictureSet, SequenceSet
from boxkite.core.footage.bitstream.h264_slices import read_slice
from boxkite.core.footage.bitstream.nal_units import AvcHeader, header_of
from boxkite.core.plan.rows import Row
from boxkite.core.render.encode.chunk_file import ChunkError, ChunkFile, ChunkFileWriter, ChunkRecord
from boxkite.core.render.encode.file_writer import FileWriter, Prepared
from boxkite.core.render.inputs import frames_until
from boxkite.core.render.thumbnails import thumbnail_of
from boxkite.core.timebase import Span

_PREDICTED = 2
_ENDS_SHAPE = (2, 18, 32)


class ChunkWriter(FileWriter):
    """Encodes the frames of one chunk as its file's encoder would, and keeps them for whoever joins them."""

    def __init__(self, row: Row, path: Path, threads: int, span: Span) -> None:
        """span: the chunk, in frames of the source."""
        first = frames_until(row, span.start - row.span.start)
        super().__init__(row, path, threads, first=first, into=io.BytesIO())
        self._frames = frames_until(row, span.end - row.span.start) - first
        self._kept = ChunkFileWriter(path)
        self._first_packet: Packet[Any] | None = None
        self._last_packet: Packet[Any] | None = None

    def end(self) -> None:
        """Write what the encoder still holds, and the record of the chunk."""
        assert self.chain
        for ready in self.chain.end():
            self._background.put(partial(self._encode, ready))
        self._background.end()
        ends = b""
        if self._video is not None and self.first_frame and self.last_frame:
            self._write(self._video.encode(None))
            shown = [thumbnail_of(frame) for frame in (self.first_frame, self.last_frame)]
            ends = np.stack(shown).astype(np.uint8).tobytes()
        layout, prints = self.prints.content
        record = ChunkRecord(
            frames=len(self.prints),
            is_complete=len(self.prints) == self._frames,
            prepared=self.chain.prepared,
            looks_around=self.chain.looks_around,
            layout=layout,
            begins_with_idr=self._idr_of(self._first_packet),
            ends_with_idr=self._idr_of(self._last_packet),
        )
        self._kept.end(record, self._header, prints, ends)
        self._container.close()

    def abandon(self) -> None:
        """Let go of a chunk that is not going to be finished."""
        super().abandon()
        self._kept.abandon()

    def _idr_of(self, packet: Packet[Any] | None) -> int:
        if not packet or not self.row.preset.video or self.row.preset.video.codec != "h264":
            return -1
        return _idr_number(self._header, packet)

    @property
    def _header(self) -> bytes:
        return bytes(self._video.codec_context.extradata or b"") if self._video is not None else b""

    def _encode(self, picture: VideoFrame) -> None:
        """The last frame is never a keyframe where others are not: the next chunk begins with one."""
        if (
            len(self.prints) == self._frames - 1
            and self.row.preset.video
            and self.row.preset.video.codec == "h264"
        ):
            picture.pict_type = _PREDICTED
        super()._encode(picture)

    def _write(self, packets: Sequence[Packet[Any]]) -> None:
        for packet in self._with_times(packets):
            self._first_packet = self._first_packet or packet
            self._last_packet = packet
            self._kept.put(packet, self._header)


class AudioChunkWriter(FileWriter):
    """Encodes the audio of a file as a whole, and keeps it for whoever joins the chunks of its picture."""

    def __init__(self, row: Row, path: Path, prepared: Prepared) -> None:
        super().__init__(row, path, 1, prepared, into=io.BytesIO())
        self._kept = ChunkFileWriter(path)

    def end(self) -> None:
        """Write what the encoders still hold, and the end."""
        for place, stream in enumerate(self._audio_streams):
            self._put_coded(place, stream.encode(None))
        self._kept.end(ChunkRecord(0), _headers(self._audio_streams))
        self._container.close()

    def abandon(self) -> None:
        """Let go of what is not going to be finished."""
        super().abandon()
        self._kept.abandon()

    def _add_streams(self) -> None:
        if not self._audio_streams:
            self._add_audio_streams()

    def _put_coded(self, place: int, packets: Sequence[Packet[Any]]) -> None:
        for packet in packets:
            self._kept.put(packet, _headers(self._audio_streams), place)


class JoiningWriter(FileWriter):
    """Writes a file from the chunks of its picture, and its audio, which are coded already."""

    def __init__(
        self, row: Row, path: Path, chunks: Sequence[ChunkFile], audio: ChunkFile | None, first: VideoFrame
    ) -> None:
        """audio: None where it has none. first: the source's first frame, for its colour tags.

        Raises ChunkError where they do not fit each other.
        """
        _check_alike(row, chunks)
        super().__init__(row, path, 1)
        self._chunks = chunks
        self._source_picture = first
        for chunk in chunks:
            self.prints.extend(chunk.record.layout, chunk.prints)
        self.first_frame, self.last_frame = _thumbnail(chunks[0], 0), _thumbnail(chunks[-1], 1)
        self._add_streams()
        self._container.start_encoding()
        assert self._video is not None
        own = bytes(self._video.codec_context.extradata or b"")
        if _sets(row, own) != _sets(row, chunks[0].header):
            self.abandon()
            raise ChunkError("the encoder's header differs from that of the chunks")
        if (audio.header if audio else b"") != _headers(self._audio_streams):
            self.abandon()
            raise ChunkError("its audio was not encoded as it should be")
        self._audio = audio

    def write(self) -> None:
        """Write all of it, and the container's end. Raises ChunkError, OSError."""
        for packet in heapq.merge(self._joined(), self._sounding(), key=_decoded_at):
            self._container.mux(packet)
        self._container.close()

    def _joined(self) -> Iterator[Packet[Any]]:
        """The coded frames of all chunks, times counted from the file's first frame."""
        begun, last = 0, None
        for chunk in self._chunks:
            for _, packet in chunk.packets():
                packet.pts, packet.dts = (packet.pts or 0) + begun, (packet.dts or 0) + begun
                if last is not None and packet.dts <= last:
                    raise ChunkError("the times of its chunks do not follow each other")
                last = packet.dts
                packet.time_base = 1 / Fraction(self.row.rate.fraction)
                packet.stream = self._video
                yield packet
            begun += chunk.record.frames

    def _sounding(self) -> Iterator[Packet[Any]]:
        for place, packet in self._audio.packets() if self._audio else ():
            stream = self._audio_streams[place]
            packet.time_base = Fraction(1, stream.codec_context.sample_rate)
            packet.stream = stream
            yield packet


def _decoded_at(packet: Packet[Any]) -> Fraction:
    return (packet.dts or 0) * packet.time_base


def _headers(streams: Sequence[AudioStream]) -> bytes:
    """Of all audio encoders."""
    return b"".join(bytes(stream.codec_context.extradata or b"") for stream in streams)


def _check_alike(row: Row, chunks: Sequence[ChunkFile]) -> None:
    """Raise ChunkError where the chunks do not make one stream."""
    records = [chunk.record for chunk in chunks]
    if any(_sets(row, chunk.header) != _sets(row, chunks[0].header) for chunk in chunks):
        raise ChunkError("the headers of its chunks differ")
    if any(record.prepared != records[0].prepared for record in records):
        raise ChunkError("its frames do not all have the same form")
    if records[0].looks_around:
        raise ChunkError("deinterlacing needs the frames before and after each")
    if any(one.ends_with_idr == other.begins_with_idr >= 0 for one, other in pairwise(records)):
        raise ChunkError("two of its chunks meet at keyframes that decoders take for one")
    if not all(record.is_complete for record in records[:-1]):
        raise ChunkError("frames are missing before its last chunk")


def _sets(row: Row, header: bytes) -> tuple[bytes, ...]:
    """What a decoder needs of an encoder's header: without its notes on settings, which tell a first chunk."""
    assert row.preset.video
    if row.preset.video.codec not in ("h264", "hevc") or not header:
        return (header,)
    return header_of(row.preset.video.codec, header).sets


def _idr_number(header: bytes, packet: Packet[Any]) -> int:
    """Of an IDR picture: two that follow each other must bear different ones (ITU-T H.264, 7.4.3, idr_pic_id).

    -1 for other pictures.
    """
    avc = AvcHeader.read(header)
    sequence = SequenceSet.read(avc.sequence_sets[0])
    pictures = {one.number: one for one in (PictureSet.read(unit) for unit in avc.picture_sets)}
    for unit in avc.framing.units(bytes(packet)):
        if avc.is_slice(unit):
            return read_slice(unit, pictures, sequence).idr_number if avc.is_idr(unit) else -1
    return -1


def _thumbnail(chunk: ChunkFile, which: int) -> VideoFrame:
    shown = np.frombuffer(chunk.ends, np.uint8).reshape(_ENDS_SHAPE)[which]
    return VideoFrame.from_ndarray(np.ascontiguousarray(shown), format="gray")
