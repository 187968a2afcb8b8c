"""A spliced file before it gets its name: its stream by the standard, its packets by their bytes, its joins decoded."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import xxhash
from av.packet import Packet
from av.stream import Discard

from boxkite.core.footage.bitstream.nal_units import StreamHeader, header_of
from boxkite.core.footage.bitstream.obstacles import NotSpliceableError, Obstacle
from boxkite.core.render.copy.checking import Copied
from boxkite.core.render.splice.edges import decoded, decoder, fingerprint
from boxkite.core.render.splice.preparing import needed_for
from boxkite.core.render.splice.writing import SplicedPictures


def check_stream(pieces: Sequence[SplicedPictures]) -> None:
    """Make sure that the standard's decoder shows the written pictures in the order of their times.

    Raises NotSpliceableError where it does not.
    """
    coded = [picture for piece in pieces for picture in piece.coded]
    times = [(place, time) for place, piece in enumerate(pieces) for time in piece.times]
    if len(coded) != len(times):
        raise NotSpliceableError(Obstacle.DIFFERS)
    pieces[0].prepared.coding.check_order(coded, sorted(range(len(times)), key=times.__getitem__))


def check_file(
    path: Path, pieces: Sequence[SplicedPictures], begin_times: Sequence[Fraction], threads: int
) -> None:
    """Read a spliced file again: every packet is the one that was handed over, and what stands around joins is right.

    begin_times: of the pieces, in seconds; threads: for decoding. Raises NotSpliceableError where it differs.
    """
    checksums = [one for piece in pieces for one in piece.checksums]
    with av.open(f"file:{path}", options={"protocol_whitelist": "file"}) as container:
        stream = container.streams.video[0]
        context = stream.codec_context
        header = header_of(context.codec.canonical_name, bytes(context.extradata or b""))
        base = stream.time_base or Fraction(1)
        packets = _packets(container.demux(stream))
        first_time: int | None = None
        number = 0
        for piece, start in zip(pieces, begin_times, strict=True):
            begin, own_base = min(piece.times), piece.prepared.pictures.base
            joins = _Joins(piece, header)
            for place, time in enumerate(piece.times):
                shown, data = next(packets, (0, b""))
                if header.checksum(data) != checksums[number]:
                    raise NotSpliceableError(Obstacle.DIFFERS)
                first_time = shown if first_time is None and time == begin else first_time
                joins.put(place, data)
                wanted = start + (time - begin) * own_base
                if first_time is not None and abs((shown - first_time) * base - wanted) > max(base, own_base):
                    raise NotSpliceableError(Obstacle.DIFFERS)
                number += 1
            joins.check(threads)
        if next(packets, None) is not None:
            raise NotSpliceableError(Obstacle.DIFFERS)


def check_audio(path: Path, copied: Copied) -> None:
    """Read what is beside the picture again, what edit lists hide included. Raises NotSpliceableError if it differs."""
    options = {"protocol_whitelist": "file", "ignore_editlist": "1"}
    with av.open(f"file:{path}", options=options) as container:
        found = {index: xxhash.xxh3_64() for index in copied.contents}
        for stream in container.streams:
            if stream.index not in found:
                stream.discard = Discard.all
        for packet in container.demux([container.streams[index] for index in found]) if found else ():
            if packet.size and packet.stream_index in found:
                found[packet.stream_index].update(packet)
    for index, content in copied.contents.items():
        if found[index].digest() != content.digest():
            raise NotSpliceableError(Obstacle.DIFFERS)


def _packets(read: Iterator[Packet[Any]]) -> Iterator[tuple[int, bytes]]:
    for packet in read:
        if packet.size and packet.pts is not None:
            yield packet.pts, bytes(packet)


class _Joins:
    """Decodes what stands around the joins of a piece, as it is read."""

    def __init__(self, piece: SplicedPictures, header: StreamHeader) -> None:
        prepared = piece.prepared
        cut, head, tail = prepared.pictures.cut, prepared.head, prepared.tail
        self._header = header
        self._piece = piece
        self._known = [
            dict(zip(head.times, head.fingerprints, strict=True)) | prepared.after_head,
            dict(zip(tail.times, tail.fingerprints, strict=True)) | prepared.before_tail,
        ]
        tail_from = len(head.times) + cut.tail_from - cut.body[0]
        last = max((place for place, time in enumerate(piece.times) if time in self._known[0]), default=-1)
        self._regions = range(last + 1), range(tail_from, len(piece.times) if tail.times else tail_from)
        self._kept: tuple[list[tuple[int, bytes]], list[tuple[int, bytes]]] = ([], [])

    def put(self, place: int, data: bytes) -> None:
        """Take the next packet."""
        for region, kept in zip(self._regions, self._kept, strict=True):
            if place in region:
                kept.append((self._piece.times[place], data))

    def check(self, threads: int) -> None:
        """Decode them and compare every frame that is known. Raises NotSpliceableError."""
        for packets, known in zip(self._kept, self._known, strict=True):
            if not packets:
                continue
            needed = needed_for(known, packets, self._header)
            found = [
                (time, fingerprint(frame))
                for time, frame in decoded(decoder(self._header, threads), needed)
                if time in known
            ]
            if found != sorted(known.items()):
                raise NotSpliceableError(Obstacle.DIFFERS)
