"""Writing the packets of planned pieces, of every track, into one file."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterator
from fractions import Fraction
from math import ceil, inf
from pathlib import Path
from typing import Any, BinaryIO

import av
from av.container import InputContainer, OutputContainer
from av.packet import Packet
from msgspec import Struct

from boxkite.core.errors import DamagedError, RenderError, VerificationError
from boxkite.core.footage.opening import video_stream
from boxkite.core.footage.read_ahead import read_ahead
from boxkite.core.footage.stream_start import may_need_note
from boxkite.core.notices.notice import counted
from boxkite.core.plan.rows import Row
from boxkite.core.presets.codecs import COPIED_AS
from boxkite.core.render.copy.checking import Copied
from boxkite.core.render.copy.pieces import Pieces, Share, ignored
from boxkite.core.render.copy.stored_pictures import StoredPictures, go_to_first

_KINDS = ("video", "audio", "subtitle")
_INTERLEAVED_SECONDS = 10
"""Packets of one moment are stored closer than this; subtitles are rare and do not tell when they end."""
_TOLD_EVERY = 32
"""Pictures."""
_HIDDEN_SECONDS = Fraction(1, 10)
"""Of audio before and after a cut: decoders need what goes before to begin rightly, an edit list hides it."""


def write_packets(
    row: Row,
    target: Path | BinaryIO,
    pieces: Pieces,
    options: dict[str, str],
    progress: Share = ignored,
) -> Copied:
    """Write the packets, piece after piece, and return the pictures among them. options: of the container.

    progress: gets how much of it is written.

    Raises VerificationError where those of a constant rate are not as many as the plan says.
    """
    copied = Copied()
    into = f"file:{target}" if isinstance(target, Path) else target
    with av.open(into, "w", format=COPIED_AS[row.extension.lower()], options=options) as outgoing:
        streams: dict[int, Any] = {}
        for place, piece in enumerate(row.pieces):
            with pieces.opened(place) as incoming:
                stream = video_stream(incoming)
                if stream is None or stream.time_base is None:
                    raise DamagedError("its picture has gone", path=piece.shot.footage.source.path)
                if not place:
                    streams = _add_streams(incoming, outgoing, row, stream.index)
                    if header := pieces.header:
                        streams[stream.index].codec_context.extradata = header
                copied.take_from(incoming, stream, outgoing)
                own = _same_streams(incoming, streams, stream.index) if place else streams
                pictures = pieces.pictures(place, incoming, stream)
                was_read = pieces.was_read or may_need_note(stream)
                go_to_first(incoming, stream, pictures.first_time, was_read=was_read)
                copied.begin_times.append(copied.seconds)
                tracks = {
                    index: _Track.of(
                        incoming, index, written, pictures, copied.seconds, cut=pieces.hides_audio
                    )
                    for index, written in own.items()
                }
                read = pieces.packets(
                    place, incoming, sorted(tracks, key=lambda index: index != stream.index)
                )
                _copy_packets(
                    read,
                    outgoing,
                    tracks,
                    stream.index,
                    pictures,
                    copied,
                    lambda pictures: progress(pictures / row.frames),
                )
                if piece.shot.footage.frame_index.constant and pictures.shown != piece.frames:
                    raise VerificationError(
                        f"{counted(pictures.shown, 'frame')} stored, the plan says {piece.frames}"
                    )
                copied.shown += pictures.shown
                copied.seconds += pictures.end - pictures.begin if pictures.end is not None else piece.seconds
                copied.hidden_from = pictures.hidden_from
        copied.audio = [
            written.index
            for written in streams.values()
            if written.type == "audio" and copied.packets[written.index]
        ]
    return copied


def _same_streams(incoming: InputContainer, first: dict[int, Any], picture_index: int) -> dict[int, Any]:
    """The streams of the file for those of a further source: picture to picture, audio in their order."""
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
    """A stream for each video, audio and subtitle stream of the source, by its index there."""
    found: dict[int, Any] = {}
    for stream in incoming.streams:
        if stream.type not in _KINDS or (stream.type == "video" and stream.index != picture_index):
            continue
        try:
            copied: Any = outgoing.add_stream_from_template(stream, opaque=True)
        except ValueError:
            codec = stream.codec_context.codec.canonical_name
            raise RenderError(f"{codec} is not written into {row.extension} files by copying") from None
        found[stream.index] = copied
        if stream.index == picture_index:
            copied.codec_context.framerate = stream.average_rate or row.rate.fraction
            if outgoing.format.name == "avi" and row.shot.footage.frame_index.constant:
                copied.time_base = 1 / row.rate.fraction  # its header states no other rate than this
            copied.metadata.update(row.in_timecode.for_file())
            if row.shot.footage.source.reel:
                copied.metadata["reel_name"] = row.shot.footage.source.reel
    outgoing.metadata["title"] = row.name.rpartition("/")[2]
    return found


def _copy_packets(
    read: Iterator[Packet[Any]],
    outgoing: OutputContainer,
    tracks: dict[int, _Track],
    picture_index: int,
    pictures: StoredPictures,
    copied: Copied,
    progress: Callable[[int], None],
) -> None:
    """Hand over the packets of a piece, their times counted from its beginning, after what there is so far.

    progress: gets how many pictures are written, now and then.
    """
    waiting = pictures.waiting
    others, ended = tracks.keys() - {picture_index}, set[int]()
    with contextlib.closing(read_ahead(read)) as packets:
        for packet in packets:
            index = packet.stream_index
            time = packet.pts if packet.pts is not None else packet.dts
            if not packet.size or time is None:
                continue
            track = tracks[index]
            middle_halves = 2 * time + (packet.duration or 0)
            if index == picture_index:
                if written := pictures.take(packet):
                    copied.sizes.append(written.size)
                    track.hand_over(written, outgoing)
                    if not len(copied.sizes) % _TOLD_EVERY:
                        progress(len(copied.sizes))
                elif middle_halves >= track.latest_halves:
                    ended.update(tracks)
            elif middle_halves >= track.end_halves:
                ended.add(index)
            elif middle_halves >= track.begin_halves:
                copied.take(track.written.index, packet)
                track.note(time, packet.duration or 0)
                track.hand_over(packet, outgoing)
            if not waiting and ended.issuperset(others):
                break
    for track in tracks.values():
        copied.audio_off = max(copied.audio_off, track.seconds_off(pictures))
    if waiting:
        raise DamagedError(f"{len(waiting)} frames of it cannot be read")


class _Track(Struct):
    """One track of a piece, in its own ticks."""

    written: Any
    """Its stream there."""
    shift: int
    """From the source's times to the file's."""
    begin_halves: int
    end_halves: float
    """Limits for the middle of a packet, in half ticks, infinite for the source's end."""
    latest_halves: float
    """After a frame this late nothing of the piece is stored, whatever its tracks."""
    is_picture: bool
    tick: Fraction
    ends: tuple[int, int] | None = None
    """Where its packets begin and end so far, in ticks of the source."""
    last_dts: int | None = None
    """Of the packet before, in ticks of the file."""

    @classmethod
    def of(
        cls,
        incoming: InputContainer,
        index: int,
        written: Any,
        pictures: StoredPictures,
        so_far: Fraction,
        *,
        cut: bool,
    ) -> _Track:
        """cut: whether audio is stored beyond both ends, to be hidden by an edit list."""
        tick = incoming.streams[index].time_base or Fraction(1, av.time_base)
        more = _HIDDEN_SECONDS if cut and written.type == "audio" else Fraction(0)
        end = inf if pictures.end is None else ceil(2 * (pictures.end + more) / tick)
        return cls(
            written,
            round((pictures.begin - so_far) / tick),
            ceil(2 * (pictures.begin - more) / tick),
            end,
            end + 2 * ceil(_INTERLEAVED_SECONDS / tick),
            written.type == "video",
            tick,
        )

    def note(self, time: int, duration: int) -> None:
        """Remember where its packets begin and end."""
        self.ends = (self.ends[0] if self.ends else time, time + duration)

    def seconds_off(self, pictures: StoredPictures) -> Fraction:
        """How far its packets begin and end from where the frames do; 0 where it has none."""
        if not self.ends or self.written.type != "audio" or pictures.end is None:
            return Fraction(0)
        first, last = (place * self.tick for place in self.ends)
        return max(abs(first - pictures.begin), abs(last - pictures.end))

    def hand_over(self, packet: Packet[Any], outgoing: OutputContainer) -> None:
        packet.pts = None if packet.pts is None else packet.pts - self.shift
        packet.dts = None if packet.dts is None else packet.dts - self.shift
        if packet.dts is not None and not self.is_picture:
            self._keep_apart(packet)
        packet.stream = self.written
        outgoing.mux(packet)

    def _keep_apart(self, packet: Packet[Any]) -> None:
        """Give a packet of audio a later time than the one before it: AVI, which counts packets, tells it by bytes."""
        tick = self.written.time_base
        if tick is None or packet.time_base is None or packet.dts is None:
            return
        dts = packet.dts if packet.time_base == tick else round(packet.dts * packet.time_base / tick)
        if self.last_dts is not None and dts <= self.last_dts:
            dts = self.last_dts + 1
            packet.pts, packet.dts, packet.time_base = dts, dts, tick
        self.last_dts = dts
