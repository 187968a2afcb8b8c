"""Reading a copy again before it gets its name: its packets, its ends, and frames at random, against the source."""

from __future__ import annotations

import random
from array import array
from collections import Counter
from concurrent.futures import ThreadPoolExecutor
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import xxhash
from av.container import InputContainer, OutputContainer
from av.packet import Packet
from av.video.frame import VideoFrame
from av.video.stream import VideoStream
from msgspec import Struct, field

from boxkite.core.errors import VerificationError
from boxkite.core.files.checksum import file_checksum
from boxkite.core.footage.decoding import read_frames
from boxkite.core.footage.opening import TIMED_BY_READING, open_source, video_stream
from boxkite.core.footage.reordering import prepare_decoder
from boxkite.core.footage.seeking import LOOK_BACK_SECONDS
from boxkite.core.notices.notice import counted
from boxkite.core.plan.rows import Row
from boxkite.core.render.result import Verification
from boxkite.core.render.thumbnails import compare_thumbnails
from boxkite.core.timebase import Span

_ALIKE = 0.1
"""Mean difference of looks up to which two frames are the same coded one, and not its neighbour."""
_BEFORE_ALL = -(1 << 62)
_SAMPLES = 3
"""Frames at random that are decoded from the copy and from its source."""
_FAMILIES = (("mov", "mp4", "3gp", "ipod"), ("matroska", "webm"), ("avi",), ("mxf",))
_IN_UNITS = ("h264", "hevc")
"""Codecs whose packets are written anew where one container marks their units by start codes, another by lengths."""


class Copied(Struct):
    """The pictures that were handed to a copy, in the order of storing."""

    shown: int = 0
    """Those that no edit list hides."""
    sizes: array[int] = field(default_factory=lambda: array("I"))
    """Bytes of each packet."""
    begin_times: list[Fraction] = field(default_factory=list)
    """Where each piece begins in the copy, in seconds."""
    as_they_are: bool = True
    """Whether the container takes the packets byte for byte."""
    packets: Counter[int] = field(default_factory=Counter)
    """Packets of every other stream, by its index."""
    audio_off: Fraction = Fraction(0)
    """How far audio begins or ends from where the frames do at most, in seconds, what edit lists hide not taken off."""
    contents: dict[int, xxhash.xxh3_64] = field(default_factory=dict)
    """Checksums over all their bytes, by the same."""
    seconds: Fraction = Fraction(0)
    """From the first picture to the end."""
    hidden_from: Fraction | None = None
    """Where the pictures at its end begin that an edit list hides, in seconds after the first that is shown."""
    audio: list[int] = field(default_factory=list)
    """The streams of audio that have packets, by their indexes."""
    checksum: str = ""
    """Of the whole file, where it was taken while that was written."""

    def take(self, index: int, packet: Packet[Any]) -> None:
        """Note a packet of another stream that is handed over."""
        self.packets[index] += 1
        self.contents.setdefault(index, xxhash.xxh3_64()).update(packet)

    def take_from(self, incoming: InputContainer, stream: VideoStream, outgoing: OutputContainer) -> None:
        """Look whether the packets of a source are written as they are read."""
        there, here = incoming.format.name.split(","), outgoing.format.name.split(",")
        alike = any(set(family) & set(there) and set(family) & set(here) for family in _FAMILIES)
        self.as_they_are = self.as_they_are and alike and marked_by_lengths(stream)


def marked_by_lengths(stream: VideoStream) -> bool:
    """Whether packets need no other marks between their units in MOV and MP4 files."""
    context = stream.codec_context
    return context.codec.canonical_name not in _IN_UNITS or bytes(context.extradata or b"")[:1] == b"\1"


def rewind(container: InputContainer) -> None:
    """Back to the beginning: to a time before all, as some seek after the one asked for; not all take that."""
    try:
        container.seek(_BEFORE_ALL)
    except av.error.FFmpegError:
        container.seek(0)


def check_copy(row: Row, partial: Path, copied: Copied) -> Verification:
    """Read a copy again: it holds the packets, and its ends and some more frames are those of the source.

    Raises VerificationError.
    """
    with ThreadPoolExecutor(1) as beside:
        checksum = None if copied.checksum else beside.submit(file_checksum, partial)
        tracks = _look_again(row, partial, copied)
        found = checksum.result() if checksum else copied.checksum
        return Verification(copied.shown, tracks, partial.stat().st_size, found)


def _stored(container: InputContainer, stream: VideoStream) -> tuple[int, int, array[int]]:
    """(frames shown, time of the last keyframe, bytes of each packet).

    By the index of a finished MOV or MP4, else by reading all packets.
    """
    entries = stream.index_entries
    if container.format.name.startswith("mov") and len(entries) and len(entries) == stream.frames:
        shown = sum(not entry.is_discard for entry in entries)
        keys = (entry.timestamp for entry in entries if entry.is_keyframe)
        return shown, max(keys), array("I", (entry.size for entry in entries))
    count, last_key, sizes = 0, 0, array("I")
    for packet in container.demux(stream):
        if packet.size:
            count += not packet.is_discard
            sizes.append(packet.size)
            if packet.is_keyframe:
                last_key = max(last_key, packet.pts or 0)
    return count, last_key, sizes


def _pictures_at_ends(
    container: InputContainer, stream: VideoStream, last_key: int
) -> tuple[VideoFrame, VideoFrame]:
    """The first frame, and the one shown last: decoded from the last keyframe on, or from further ahead."""
    prepare_decoder(stream)
    rewind(container)
    first = next(container.decode(stream))
    for seconds in LOOK_BACK_SECONDS:
        try:
            container.seek(last_key - round(seconds / (stream.time_base or Fraction(1))), stream=stream)
        except av.error.FFmpegError:
            break  # before the beginning, which not every container takes
        last = None
        for picture in container.decode(stream):
            last = picture if (picture.pts or 0) >= last_key else last
        if last:
            return first, last
    rewind(container)
    last = first
    for picture in container.decode(stream):
        last = picture
    return first, last


def _look_again(row: Row, partial: Path, copied: Copied) -> int:
    """Make sure that the copy holds what was handed to it; return the number of its audio tracks."""
    try:
        with av.open(f"file:{partial}", options={"protocol_whitelist": "file"}) as container:
            if not container.streams.video:
                raise VerificationError("no picture is found in the copy: it is too short for its container")
            stream = container.streams.video[0]
            found, last_key, sizes = _stored(container, stream)
            if found != copied.shown:
                raise VerificationError(
                    f"the copy holds {counted(found, 'frame')}, it should hold {copied.shown}"
                )
            if copied.as_they_are and sizes != copied.sizes:
                raise VerificationError("the copy holds other pictures than its source, or in another order")
            tracks = len(container.streams.audio)
            first, last = _pictures_at_ends(container, stream, last_key)
            if copied.checksum and all(_counts_by_time(piece) for piece in row.pieces):
                _check_packets(row, container, stream, first, copied)
            else:
                _check_ends(row, first, last)
                _check_sample(row, container, stream, first, copied)
    except (av.error.FFmpegError, StopIteration, ValueError) as error:
        raise VerificationError(f"the copy cannot be read again: {error}") from None
    return tracks


def _check_ends(row: Row, first: VideoFrame, last: VideoFrame) -> None:
    ends = row.pieces[0], row.pieces[-1]
    for piece, frame, picture, which in (
        (ends[0], ends[0].span.start, first, "first"),
        (ends[1], ends[1].span.end - 1, last, "last"),
    ):
        compare_thumbnails(picture, _frame_of(piece, frame), f"the {which} frame", _ALIKE)


def _counts_by_time(piece: Row) -> bool:
    """Whether the time of a packet of its source tells which frame it is."""
    index = piece.shot.footage.frame_index
    return index.constant and not index.by_decoding and index.timestamped


def _check_packets(
    row: Row, container: InputContainer, stream: VideoStream, first: VideoFrame, copied: Copied
) -> None:
    """Compare pictures that all stand alone byte by byte: those at the ends of each piece, and some at random."""
    if first.pts is None or stream.time_base is None:
        return
    for piece, begins in zip(row.pieces, copied.begin_times, strict=True):
        index, span = piece.shot.footage.frame_index, piece.span
        some = random.choices(range(span.start, span.end), k=_SAMPLES)
        with open_source(piece.shot.footage.source) as source:
            theirs = video_stream(source)
            for frame in sorted({span.start, *some, span.end - 1}):
                time = index.pts_of(frame)
                after = begins + (time - index.pts_of(span.start)) * index.time_base
                ours = _packet_at(container, stream, first.pts + round(after / stream.time_base))
                if theirs is None or not ours or ours != _packet_at(source, theirs, time):
                    raise VerificationError(
                        f"frame {frame - span.start} of the copy is not that of its source"
                    )


def _packet_at(container: InputContainer, stream: VideoStream, time: int) -> bytes:
    """The packet of a picture that stands alone; empty where there is none."""
    container.seek(time, stream=stream)
    found = next((packet for packet in container.demux(stream) if packet.size), None)
    return bytes(found) if found is not None and found.pts == time else b""


def _check_sample(
    row: Row, container: InputContainer, stream: VideoStream, first: VideoFrame, copied: Copied
) -> None:
    """Compare keyframes at random of the copy with the frames of the source that belong there.

    Only where the source has a constant rate and true times; in a stream of which seeking gives no whole frame at once,
    one that differs is looked at again, decoded from the beginning.
    """
    if first.pts is None or stream.time_base is None:
        return
    for place in random.choices(range(len(row.pieces)), k=_SAMPLES):
        piece, begins = row.pieces[place], copied.begin_times[place]
        index = piece.shot.footage.frame_index
        if not _counts_by_time(piece):
            continue
        wanted = random.randrange(piece.span.start, piece.span.end)
        start = index.pts_of(piece.span.start)
        after = begins + (index.pts_of(wanted) - start) * index.time_base
        picture = _keyframe_from(container, stream, first.pts + round(after / stream.time_base))
        if picture is None or picture.pts is None:
            continue
        after = (picture.pts - first.pts) * stream.time_base - begins
        frame = index.frame_at(start + round(after / index.time_base))
        if not piece.span.start <= frame < piece.span.end:
            continue
        theirs = _frame_of(piece, frame)
        try:
            compare_thumbnails(picture, theirs, f"frame {frame - piece.span.start}", _ALIKE)
        except VerificationError:
            rewind(container)
            again = next((one for one in container.decode(stream) if one.pts == picture.pts), picture)
            compare_thumbnails(again, theirs, f"frame {frame - piece.span.start}", _ALIKE)


def _keyframe_from(container: InputContainer, stream: VideoStream, time: int) -> VideoFrame | None:
    """The first keyframe after seeking to a time, or read from the beginning where that alone tells times."""
    by_reading = container.format.name == TIMED_BY_READING
    if by_reading:
        rewind(container)
    else:
        container.seek(time, stream=stream)
    for one in container.decode(stream):
        if one.key_frame and not one.is_corrupt and not (by_reading and (one.pts or 0) < time):
            return one
    return None


def _frame_of(piece: Row, frame: int) -> VideoFrame:
    """A frame of a piece's source."""
    footage = piece.shot.footage
    _, picture = next(read_frames(footage.source, footage.frame_index, Span(frame, frame + 1), threads=1))
    return picture
