"""Cutting without coding anew: the packets of a span, of every track, in a file of the same container."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path
from typing import Any

import av
from av.container import InputContainer, OutputContainer
from av.packet import Packet

from boxkite.core.errors import DamagedError, ProofError
from boxkite.core.footage.keyframes import StoredPictures, stored_pictures
from boxkite.core.footage.opening import open_source, picture_stream
from boxkite.core.plan.rows import Action, Row
from boxkite.core.presets.codecs import COPIED_AS
from boxkite.core.records.checksum import file_checksum
from boxkite.core.render.explaining import explain
from boxkite.core.render.pictures import read_pictures
from boxkite.core.render.proving import compare_looks, picture_look
from boxkite.core.render.publishing import discard, partial_path, publish
from boxkite.core.render.result import Proof, Result
from boxkite.core.timebase import Span

_KINDS = ("video", "audio", "subtitle")


def copy_shot(row: Row) -> Result:
    """Copy one planned shot. Never raises for what happens to the file: the result tells."""
    partial = partial_path(row.path)
    try:
        row.path.parent.mkdir(parents=True, exist_ok=True)
        pictures = stored_pictures(row.shot.reel.source)
        count = _copy(row, pictures, partial)
        proof = _prove(row, partial, count)
        publish(partial, row.path, replacing=row.action is Action.REPLACE)
    except Exception as error:
        discard(partial)
        return Result(row.number, row.path, failure=explain(error))
    return Result(row.number, row.path, proof=proof)


def _copy(row: Row, pictures: StoredPictures, partial: Path) -> int:
    """Write the file and return how many pictures are in it."""
    reel, span = row.shot.reel, row.span
    places = pictures.places(reel.table, span)
    if places is None:
        raise DamagedError("there is no keyframe to begin at")
    first_time = int(pictures.times[places[0]])
    last_place = places[1]
    with open_source(reel.source) as incoming:
        stream = picture_stream(incoming)
        if stream is None or stream.time_base is None:
            raise DamagedError("its picture has gone")
        base = stream.time_base
        begin = first_time * base
        rest = pictures.times[last_place + 1 :]
        end = int(rest.min()) * base if len(rest) else None
        wanted = pictures.times[places[0] : last_place + 1]
        own = {int(time) for time in wanted if time >= first_time}
        options = {"movflags": "+faststart"} if reel.source.container == "mov" else {}
        with av.open(
            f"file:{partial}", "w", format=COPIED_AS[row.ending.lower()], options=options
        ) as outgoing:
            streams = _add_streams(incoming, outgoing, row, stream.index)
            if begin > 0:
                incoming.seek(first_time, stream=stream)
            _copy_packets(incoming, outgoing, streams, stream.index, own, begin, end)
    return len(own)


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
    own: set[int],
    begin: Fraction,
    end: Fraction | None,
) -> None:
    """Hand over the packets of the span, their times counted from its beginning."""
    waiting = set(own)
    ended: set[int] = set()
    for packet in incoming.demux([incoming.streams[index] for index in streams]):
        index = packet.stream_index
        if not packet.size or packet.time_base is None:
            continue
        if index == picture_index:
            if packet.pts in waiting:
                waiting.discard(packet.pts)
                _hand_over(packet, streams[index], begin, outgoing)
            continue
        time = packet.pts if packet.pts is not None else packet.dts
        if time is None:
            continue
        starts = time * packet.time_base
        middle = starts + (packet.duration or 0) * packet.time_base / 2
        if end is not None and middle >= end:
            ended.add(index)
        elif middle >= begin:
            _hand_over(packet, streams[index], begin, outgoing)
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


def _prove(row: Row, partial: Path, pictures: int) -> Proof:
    """Read the copy again: it holds the pictures, and its first and last are those of the source."""
    source, table, span = row.shot.reel.source, row.shot.reel.table, row.span
    try:
        with av.open(f"file:{partial}", options={"protocol_whitelist": "file"}) as container:
            stream = container.streams.video[0]
            packets = [packet for packet in container.demux(stream) if packet.size]
            if len(packets) != pictures:
                raise ProofError(f"the copy holds {len(packets)} pictures, it should hold {pictures}")
            tracks = len(container.streams.audio)
            last_key = max(packet.pts or 0 for packet in packets if packet.is_keyframe)
            container.seek(0, stream=stream)
            first = next(container.decode(stream))
            container.seek(last_key, stream=stream)
            last = max(container.decode(stream), key=lambda picture: picture.pts or 0)
    except (av.error.FFmpegError, StopIteration, ValueError) as error:
        raise ProofError(f"the copy cannot be read again: {error}") from None
    for frame, picture, which in ((span.start, first, "first"), (span.end - 1, last, "last")):
        _, wanted = next(read_pictures(source, table, Span(frame, frame + 1), threads=1))
        compare_looks(picture, picture_look(wanted), which)
    return Proof(pictures, tracks, partial.stat().st_size, file_checksum(partial))
