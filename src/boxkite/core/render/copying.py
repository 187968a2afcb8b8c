"""Cutting without re-encoding: the packets of a span, of every track, in a file of the same container."""

from __future__ import annotations

import contextlib
from contextlib import AbstractContextManager
from fractions import Fraction
from math import ceil, inf
from pathlib import Path
from typing import Any, Protocol

import av
import numpy as np
from av.container import InputContainer, OutputContainer
from av.packet import Packet
from av.video.stream import VideoStream
from msgspec import Struct

from boxkite.core.errors import DamagedError, RenderError, VerificationError
from boxkite.core.files.moving import discard, start_syncing, sync
from boxkite.core.footage.decoding import LOOK_BACK_SECONDS
from boxkite.core.footage.keyframes import stored_frames
from boxkite.core.footage.measuring import distinct
from boxkite.core.footage.opening import open_source, video_stream
from boxkite.core.footage.read_ahead import read_ahead
from boxkite.core.plan.rows import Row
from boxkite.core.presets.codecs import COPIED_AS
from boxkite.core.render.avi_headers import count_audio_by_packets
from boxkite.core.render.checking_copies import Copied, check_copy, rewind
from boxkite.core.render.edit_lists import hide_after
from boxkite.core.render.failures import failed
from boxkite.core.render.result import Result

_KINDS = ("video", "audio", "subtitle")
_INTERLEAVED_SECONDS = 10
"""Packets of one moment are stored closer than this; subtitles are rare and do not tell when they end."""
_RESERVING_PAYS_BYTES = 64_000_000
_INDEX_BYTES_AT_LEAST, _BYTES_A_PACKET = 65_536, 40
_HIDDEN_SECONDS = Fraction(1, 10)
"""Of audio before and after a cut: decoders need what goes before to begin rightly, an edit list hides it."""
_LEAST_SAMPLES = 960
"""In a packet of audio, as codecs and the library's readers make them; fewer are rare."""


def copy_shot(row: Row, partial: Path) -> Result:
    """Copy one planned shot and verify it; it waits for its name. Never raises for what happens: the result tells."""
    try:
        copied = copy_packets(row, partial)
        start_syncing(partial)
        verification = check_copy(row, partial, copied)
        sync(partial)
    except Exception as error:
        discard(partial)
        return failed(row, error)
    return Result(row.number, row.path, verification=verification)


def copy_packets(row: Row, partial: Path, splice: Splicing | None = None) -> Copied:
    """Write the file and return the pictures in it; an index stands before them. splice: of which edges are encoded."""
    if COPIED_AS[row.extension.lower()] not in ("mov", "mp4"):
        return _write(row, partial, {}, splice)
    if row.expected_bytes >= _RESERVING_PAYS_BYTES:
        try:
            return _write(row, partial, {"moov_size": str(_index_bytes(row))}, splice)
        except av.error.ArgumentError:
            pass  # there are more packets than such sources have: the library makes room by writing all of it again
    return _write(row, partial, {"movflags": "+faststart"}, splice)


def _index_bytes(row: Row) -> int:
    """Room for the index of a copy: place, size, time, shift and kind of each packet (ISO/IEC 14496-12, 8.6, 8.7)."""
    pictures = sum(piece.span.length for piece in row.pieces)
    seconds = sum(piece.seconds for piece in row.pieces)
    audio_packets = sum(seconds * audio.sample_rate_hz / _LEAST_SAMPLES for audio in row.audio_source.audio)
    return round((pictures + audio_packets) * _BYTES_A_PACKET) + _INDEX_BYTES_AT_LEAST


def cuts_audio(row: Row) -> bool:
    """Whether an edit list can cut the audio of a spliced file at the very sample."""
    return len(row.pieces) == 1 and COPIED_AS[row.extension.lower()] in ("mov", "mp4")


def _write(row: Row, partial: Path, options: dict[str, str], splice: Splicing | None = None) -> Copied:
    """Write the file, piece after piece, and return the pictures in it. splice: of which edges are encoded.

    Raises VerificationError where those of a constant rate are not as many as the plan says.
    """
    copied, so_far, hidden_from = Copied(), Fraction(0), None
    hides_audio = splice is not None and cuts_audio(row)
    if hides_audio and row.audio_source.audio:
        options = {**options, "movie_timescale": str(row.audio_source.audio[0].sample_rate_hz)}
    with av.open(
        f"file:{partial}", "w", format=COPIED_AS[row.extension.lower()], options=options
    ) as outgoing:
        streams: dict[int, Any] = {}
        for place, piece in enumerate(row.pieces):
            with splice.opened(place) if splice else open_source(piece.shot.footage.source) as incoming:
                stream = video_stream(incoming)
                if stream is None or stream.time_base is None:
                    raise DamagedError("its picture has gone", path=piece.shot.footage.source.path)
                if not place:
                    streams = _add_streams(incoming, outgoing, row, stream.index)
                    if splice:
                        streams[stream.index].codec_context.extradata = splice.header
                copied.take_from(incoming, stream, outgoing)
                own = _same_streams(incoming, streams, stream.index) if place else streams
                pictures = splice.pictures(place) if splice else StoredPictures.of(piece, stream.time_base)
                _go_to_first(incoming, stream, pictures.first_time, was_read=splice is not None)
                copied.begin_times.append(so_far)
                tracks = {
                    index: _Track.of(incoming, index, written, pictures, so_far, cut=hides_audio)
                    for index, written in own.items()
                }
                _copy_packets(incoming, outgoing, tracks, stream.index, pictures, copied)
                if piece.shot.footage.frame_index.constant and pictures.shown != piece.frames:
                    raise VerificationError(
                        f"{pictures.shown} frames are stored, the plan says {piece.frames}"
                    )
                copied.shown += pictures.shown
                so_far += pictures.end - pictures.begin if pictures.end is not None else piece.seconds
                hidden_from = pictures.hidden_from
    if hidden_from is not None:
        hide_after(partial, hidden_from)
    if hides_audio:
        for written in streams.values():
            if written.type == "audio" and copied.packets[written.index]:
                hide_after(partial, so_far, written.index)
    if COPIED_AS[row.extension.lower()] == "avi":
        count_audio_by_packets(partial, copied.packets)
    return copied


class Splicing(Protocol):
    """A copy whose edges are encoded."""

    @property
    def header(self) -> bytes:
        """Of its stream, for the container."""

    def opened(self, place: int) -> AbstractContextManager[InputContainer]:
        """The source of one piece."""

    def pictures(self, place: int) -> StoredPictures:
        """Those of one piece. They can be asked for again, for a second attempt at writing."""


class StoredPictures(Struct):
    """The stored frames of a piece: the times of their packets, where they begin and end in the source's own time."""

    waiting: set[int]
    """The times of packets that are still to come."""
    first_time: int
    """Of the packet to seek to."""
    shown: int
    """Frames that no edit list hides."""
    begin: Fraction
    """The first frame that is shown, in seconds."""
    end: Fraction | None
    """None where the piece goes up to the source's end."""
    hidden_from: Fraction | None
    """Where the frames at its end begin that an edit list hides, in seconds after the first that is shown."""

    def take(self, packet: Packet[Any]) -> Packet[Any] | None:
        """The packet to write for one of the source, which is not waited for any longer; None where none is."""
        time = packet.pts if packet.pts is not None else packet.dts
        if time is None or time not in self.waiting:
            return None
        self.waiting.discard(time)
        return packet

    @classmethod
    def of(cls, row: Row, base: Fraction) -> StoredPictures:
        """Those of a copied row. base: of the source's ticks. Raises DamagedError where they cannot be told."""
        stored = stored_frames(row.shot.footage.source)
        places = stored.places(row.shot.footage.frame_index, row.span)
        if places is None:
            raise DamagedError("there is no keyframe to begin at")
        part = slice(places[0], places[1] + 1)
        wanted, hidden = stored.written[part], stored.hidden[part]
        if len(distinct(wanted)) < len(wanted):
            raise DamagedError("two of its frames carry the same time, so it cannot be copied")
        kept = wanted >= wanted[0]
        shown = wanted[kept & ~hidden]
        if not len(shown):
            raise DamagedError("an edit list hides all frames of it")
        rest = stored.written[places[1] + 1 :]
        first, last = int(shown.min()), int(shown.max())
        late, early = wanted[hidden & (wanted > last)], wanted[hidden & (wanted < first)]
        if len(late) + len(early) < np.count_nonzero(hidden):
            raise DamagedError("an edit list hides frames in the middle of it")
        return cls(
            {int(time) for time in wanted[kept]},
            int(wanted[0]),
            len(shown),
            first * base,
            int(rest.min()) * base if len(rest) else None,
            (int(late.min()) - first) * base if len(late) else None,
        )


def _go_to_first(incoming: InputContainer, stream: VideoStream, first_time: int, *, was_read: bool) -> None:
    if first_time * (stream.time_base or 1) > 0:
        seek_before(incoming, stream, first_time)
    elif was_read:
        rewind(incoming)


def seek_before(incoming: InputContainer, stream: VideoStream, first_time: int) -> None:
    """Go to where no picture of a piece has been passed; some containers seek by other times than they show."""
    for seconds in LOOK_BACK_SECONDS:
        target = first_time - round(seconds / (stream.time_base or Fraction(1)))
        try:
            incoming.seek(target, stream=stream)
            found = next((packet.pts for packet in incoming.demux(stream) if packet.pts is not None), None)
            incoming.seek(target, stream=stream)
        except av.error.FFmpegError:
            continue
        if found is not None and found <= first_time:
            return
    rewind(incoming)


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
            copied.metadata["timecode"] = str(row.in_timecode)
            if row.shot.footage.source.reel:
                copied.metadata["reel_name"] = row.shot.footage.source.reel
    outgoing.metadata["title"] = row.name.rpartition("/")[2]
    return found


def _copy_packets(
    incoming: InputContainer,
    outgoing: OutputContainer,
    tracks: dict[int, _Track],
    picture_index: int,
    pictures: StoredPictures,
    copied: Copied,
) -> None:
    """Hand over the packets of a piece, their times counted from its beginning, after what there is so far."""
    waiting = pictures.waiting
    others, ended = tracks.keys() - {picture_index}, set[int]()
    read = incoming.demux([incoming.streams[index] for index in tracks])
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
