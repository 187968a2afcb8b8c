"""Cutting without coding anew: the packets of a span, of every track, in a file of the same container."""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
from av.container import InputContainer, OutputContainer
from av.packet import Packet
from av.video.stream import VideoStream

from boxkite.core.errors import DamagedError, ProofError
from boxkite.core.footage.keyframes import stored_pictures
from boxkite.core.footage.opening import open_source, picture_stream
from boxkite.core.plan.rows import Row
from boxkite.core.presets.codecs import COPIED_AS
from boxkite.core.records.checksum import file_checksum
from boxkite.core.render.explaining import failed
from boxkite.core.render.pictures import read_pictures
from boxkite.core.render.proving import compare_looks, picture_look
from boxkite.core.render.publishing import discard, partial_path, start_syncing, sync
from boxkite.core.render.result import Proof, Result
from boxkite.core.timebase import Span

_KINDS = ("video", "audio", "subtitle")


def copy_shot(row: Row) -> Result:
    """Copy one planned shot and prove it; it waits for its name. Never raises for what happens: the result tells."""
    partial = partial_path(row.path)
    try:
        count = _copy(row, partial)
        start_syncing(partial)
        proof = _prove(row, partial, count)
        sync(partial)
    except Exception as error:
        discard(partial)
        return failed(row, error)
    return Result(row.number, row.path, proof=proof, partial=partial)


def _copy(row: Row, partial: Path) -> int:
    """Write the file, piece after piece, and return how many pictures are in it."""
    options = {"movflags": "+faststart"} if row.shot.reel.source.container == "mov" else {}
    count, so_far = 0, Fraction(0)
    with av.open(f"file:{partial}", "w", format=COPIED_AS[row.ending.lower()], options=options) as outgoing:
        streams: dict[int, Any] = {}
        for place, piece in enumerate(row.pieces):
            with open_source(piece.shot.reel.source) as incoming:
                stream = picture_stream(incoming)
                if stream is None or stream.time_base is None:
                    raise DamagedError("its picture has gone", path=piece.shot.reel.source.path)
                if not place:
                    streams = _add_streams(incoming, outgoing, row, stream.index)
                own = _same_streams(incoming, streams, stream.index) if place else streams
                pictures = _Pictures.of(piece, stream.time_base)
                if pictures.begin > 0:
                    incoming.seek(pictures.first_time, stream=stream)
                _copy_packets(incoming, outgoing, own, stream.index, pictures, so_far)
                count += len(pictures.own)
                so_far += pictures.end - pictures.begin if pictures.end is not None else piece.seconds
    return count


@dataclass(frozen=True)
class _Pictures:
    """The stored pictures of a piece: their times, where they begin and end in the source's own time, in seconds.

    end: None where the piece goes up to the source's end.
    """

    own: frozenset[int]
    first_time: int
    begin: Fraction
    end: Fraction | None

    @classmethod
    def of(cls, row: Row, base: Fraction) -> _Pictures:
        stored = stored_pictures(row.shot.reel.source)
        places = stored.places(row.shot.reel.table, row.span)
        if places is None:
            raise DamagedError("there is no keyframe to begin at")
        first_time, last_place = int(stored.times[places[0]]), places[1]
        rest = stored.times[last_place + 1 :]
        wanted = stored.times[places[0] : last_place + 1]
        return cls(
            frozenset(int(time) for time in wanted if time >= first_time),
            first_time,
            first_time * base,
            int(rest.min()) * base if len(rest) else None,
        )


def _same_streams(incoming: InputContainer, first: dict[int, Any], picture_index: int) -> dict[int, Any]:
    """The streams of the file for those of a further source: picture to picture, sounds in their order."""
    kinds = {"video": [], "audio": [], "subtitle": []}  # type: dict[str, list[int]]
    for stream in incoming.streams:
        if stream.type in _KINDS and (stream.type != "video" or stream.index == picture_index):
            kinds[stream.type].append(stream.index)
    taken: dict[int, Any] = {}
    for kind, indexes in kinds.items():
        written = [copied for copied in first.values() if copied.type == kind]
        if len(written) != len(indexes):
            raise DamagedError(f"its {kind} tracks are not those of the first source")
        taken |= dict(zip(indexes, written, strict=True))
    return taken


def _add_streams(
    incoming: InputContainer, outgoing: OutputContainer, row: Row, picture_index: int
) -> dict[int, Any]:
    """A stream for each picture, sound and subtitle of the source, by its index there."""
    found: dict[int, Any] = {}
    for stream in incoming.streams:
        if stream.type not in _KINDS or (stream.type == "video" and stream.index != picture_index):
            continue
        copied: Any = outgoing.add_stream_from_template(stream, opaque=True)
        found[stream.index] = copied
        if stream.index == picture_index:
            copied.metadata["timecode"] = str(row.in_timecode)
            if row.shot.reel.source.reel:
                copied.metadata["reel_name"] = row.shot.reel.source.reel
    outgoing.metadata["title"] = row.name.rpartition("/")[2]
    return found


def _copy_packets(
    incoming: InputContainer,
    outgoing: OutputContainer,
    streams: dict[int, Any],
    picture_index: int,
    pictures: _Pictures,
    so_far: Fraction,
) -> None:
    """Hand over the packets of a piece, their times counted from its beginning, behind what there is so far."""
    waiting = set(pictures.own)
    begin, end = pictures.begin, pictures.end
    ended: set[int] = set()
    for packet in incoming.demux([incoming.streams[index] for index in streams]):
        index = packet.stream_index
        if not packet.size or packet.time_base is None:
            continue
        if index == picture_index:
            if packet.pts in waiting:
                waiting.discard(packet.pts)
                _hand_over(packet, streams[index], begin - so_far, outgoing)
            continue
        time = packet.pts if packet.pts is not None else packet.dts
        if time is None:
            continue
        starts = time * packet.time_base
        middle = starts + (packet.duration or 0) * packet.time_base / 2
        if end is not None and middle >= end:
            ended.add(index)
        elif middle >= begin:
            _hand_over(packet, streams[index], begin - so_far, outgoing)
        if not waiting and len(ended) == len(streams) - 1:
            break
    if waiting:
        raise DamagedError(f"{len(waiting)} pictures of it cannot be read")


def _hand_over(packet: Packet[Any], stream: Any, begin: Fraction, outgoing: OutputContainer) -> None:
    shift = round(begin / packet.time_base)
    packet.pts = None if packet.pts is None else packet.pts - shift
    packet.dts = None if packet.dts is None else packet.dts - shift
    packet.stream = stream
    outgoing.mux(packet)


def _count(container: InputContainer, stream: VideoStream) -> tuple[int, int]:
    """(pictures, time of the last keyframe): by the index of a finished MOV or MP4, else by reading all packets."""
    entries = stream.index_entries
    if container.format.name.startswith("mov") and len(entries) and len(entries) == stream.frames:
        return len(entries), max(entry.timestamp for entry in entries if entry.is_keyframe)
    count, last_key = 0, 0
    for packet in container.demux(stream):
        if packet.size:
            count += 1
            if packet.is_keyframe:
                last_key = max(last_key, packet.pts or 0)
    return count, last_key


def _prove(row: Row, partial: Path, pictures: int) -> Proof:
    """Read the copy again: it holds the pictures, and its first and last are those of the source."""
    try:
        with av.open(f"file:{partial}", options={"protocol_whitelist": "file"}) as container:
            stream = container.streams.video[0]
            found, last_key = _count(container, stream)
            if found != pictures:
                raise ProofError(f"the copy holds {found} pictures, it should hold {pictures}")
            tracks = len(container.streams.audio)
            container.seek(0, stream=stream)
            first = next(container.decode(stream))
            container.seek(last_key, stream=stream)
            last = max(container.decode(stream), key=lambda picture: picture.pts or 0)
    except (av.error.FFmpegError, StopIteration, ValueError) as error:
        raise ProofError(f"the copy cannot be read again: {error}") from None
    ends = row.pieces[0], row.pieces[-1]
    for piece, frame, picture, which in (
        (ends[0], ends[0].span.start, first, "first"),
        (ends[1], ends[1].span.end - 1, last, "last"),
    ):
        reel = piece.shot.reel
        _, wanted = next(read_pictures(reel.source, reel.table, Span(frame, frame + 1), threads=1))
        compare_looks(picture, picture_look(wanted), which)
    return Proof(pictures, tracks, partial.stat().st_size, file_checksum(partial))
