"""Decoding exactly the frames of a span, whatever the keyframes."""

from __future__ import annotations

import contextlib
from collections.abc import Generator, Iterator
from typing import Any

import av
from av.packet import Packet
from av.video.frame import VideoFrame
from av.video.stream import VideoStream
from msgspec import Struct, field

from boxkite.core.errors import BoxkiteError, DamagedError
from boxkite.core.footage.exr import only_part
from boxkite.core.footage.frame_index import FrameIndex
from boxkite.core.footage.opening import KeptSource, OpenedSource, open_source, video_stream
from boxkite.core.footage.reordering import is_empty_repeat, prepare_decoder
from boxkite.core.footage.seeking import packets_from, seek_targets
from boxkite.core.footage.source import Source
from boxkite.core.notices.footage import FRAMES_DAMAGED, FRAMES_FLAGGED, FRAMES_MISSING
from boxkite.core.notices.notice import Notice
from boxkite.core.timebase import Span

_FARTHEST_SECONDS = 20
"""How far ahead a kept decoder goes on to; containers without an index cannot tell where the next keyframe is."""

CAN_HURRY = ("h264", "hevc", "mpeg1video", "mpeg2video", "mpeg4")
"""Decoders whose skip mode may change before each packet; those of AV1 keep the first setting."""


class _DoubtfulEntryError(Exception):
    """The decoder has flagged the first frame that is wanted: it may be clean when more before it is decoded."""


class Damage(Struct):
    """The damage found while decoding, by the numbers of frames."""

    accepted: bool = True
    """Whether to go on where a frame is missing or damaged."""
    missing: list[int] = field(default_factory=list)
    corrupt: list[int] = field(default_factory=list)
    flagged: list[int] = field(default_factory=list)
    """At the very start of a file, before the first clean frame: the decoder shows them and has its doubts."""

    def notices(self, span: Span) -> list[Notice]:
        """The damage in a span that was read with it."""
        found = []
        missing, corrupt, flagged = (
            [number for number in numbers if span.start <= number < span.end]
            for numbers in (self.missing, self.corrupt, self.flagged)
        )
        if missing:
            found.append(FRAMES_MISSING(frames=len(missing), first=missing[0]))
        if corrupt:
            found.append(FRAMES_DAMAGED(frames=len(corrupt), first=corrupt[0]))
        if flagged:
            found.append(FRAMES_FLAGGED(frames=len(flagged)))
        return found


class _Wanted(Struct):
    """The frames a decoder is asked for: others once it has given the first ones, where it is kept for them."""

    span: Span
    damage: Damage | None
    is_sure: bool = False
    """Whether a frame that is flagged is damaged, and would not be clean if more before it were decoded."""
    opened: OpenedSource | None = None
    stream: VideoStream | None = None
    last: int = -1
    """The frame that has come last."""


class _Pass(Struct):
    """A decoder on its way through a source."""

    key: tuple[object, ...]
    """What another reading must share to go on with it."""
    wanted: _Wanted
    pictures: Generator[tuple[int, VideoFrame], None, None]

    def goes_on_to(self, table: FrameIndex, frame: int) -> bool:
        """Whether it is no farther from a frame than the keyframe before that is."""
        stream, at = self.wanted.stream, self.wanted.last + 1
        if stream is None or not at <= frame <= at + _FARTHEST_SECONDS * table.rate.fraction:
            return False
        if frame == at:
            return True
        entries = stream.index_entries
        if not len(entries):
            return frame - at <= table.rate.nominal  # who knows: keyframes are mostly as far apart
        place = entries.search_timestamp(table.pts_of(frame))
        return place >= 0 and entries[place].timestamp <= table.pts_of(at)


class KeptDecoder:
    """A decoder that stays where it is after a span, for one that begins soon after it: so the frames from the keyframe
    before that are not decoded once more. One process uses one for what it reads there; close it at the end.
    """

    def __init__(self) -> None:
        self._pass: _Pass | None = None
        self.audio = KeptSource()
        """The source whose audio was read last."""

    def take(
        self, key: tuple[object, ...], table: FrameIndex, span: Span, damage: Damage | None
    ) -> _Pass | None:
        """The decoder, asked for a span now; None where it had better begin anew, or is of another source."""
        one = self._pass
        if one and one.key == key and one.goes_on_to(table, span.start):
            self._pass = None
            one.wanted.span, one.wanted.damage, one.wanted.is_sure = span, damage, True
            return one
        self._drop()
        return None

    def keep(self, one: _Pass) -> None:
        """Keep a decoder that has given the whole span. Raises ChangedError where the source has changed meanwhile."""
        if one.wanted.opened:
            one.wanted.opened.check()
        self._pass = one

    def close(self) -> None:
        """Let go of the files."""
        self.audio.close()
        self._drop()

    def _drop(self) -> None:
        one, self._pass = self._pass, None
        if one:
            with contextlib.suppress(BoxkiteError):  # what was taken of it was looked at when it was kept
                one.pictures.close()


def read_frames(
    source: Source,
    table: FrameIndex,
    span: Span,
    *,
    threads: int = 0,
    damage: Damage | None = None,
    hardware: str = "",
    kept: KeptDecoder | None = None,
) -> Generator[tuple[int, VideoFrame], None, None]:
    """Yield (frame number, picture) for every frame of the span, once each and in order.

    On variable-rate sources the same frame may come for several numbers. threads: of the decoder, 0 for
    one a core; hardware: a kind of decoder outside the CPU, taken where it works. Raises DamagedError when a frame
    inside the span is missing or cannot be decoded whole; with damage that is accepted, what is missing inside shows
    the picture before it, what is missing at the end does not come, and both are counted there. Frames at the very
    start of a file that the decoder flags and shows are counted there and raise nothing. kept: a decoder that may be
    near, and is kept for the next span. Raises ChangedError, at the end or when it is closed, where the source has
    changed meanwhile.
    """
    key = (source.path, source.identity, source.layer, table.rate, threads, hardware)
    can_stay = table.constant and table.timestamped and not table.display_times
    kept = kept if can_stay else None
    if kept and (near := kept.take(key, table, span, damage)):
        with contextlib.closing(_frames_of(near, table, span, damage, kept)) as frames:
            first = None
            with contextlib.suppress(DamagedError):  # before the span, and perhaps before the next keyframe
                first = next(frames, None)
            if first:
                yield first
                yield from frames
                return
    wanted = _Wanted(span, damage)
    anew = _Pass(key, wanted, _pictures_from(source, table, wanted, threads, hardware))
    yield from _frames_of(anew, table, span, damage, kept)


def _frames_of(
    one: _Pass, table: FrameIndex, span: Span, damage: Damage | None, kept: KeptDecoder | None
) -> Generator[tuple[int, VideoFrame], None, None]:
    """The frames of a span by a decoder, which is kept after it or closed."""
    stays = False
    try:
        yield from _fill_span(one.pictures, table, span, damage)
        if kept:
            kept.keep(one)
            stays = True
    finally:
        if not stays:
            one.pictures.close()  # which looks whether the source is still what it was


def _pictures_from(
    source: Source, table: FrameIndex, wanted: _Wanted, threads: int, hardware: str
) -> Generator[tuple[int, VideoFrame], None, None]:
    """Decoded frames with their numbers, the first of them no later than the span's first frame.

    Looks for a keyframe shown at or before it, ever further back: also when the decoder, after a keyframe
    that only begins to refresh the picture, gives out nothing until later, or flags all it gives out, as after one that
    does not say that it can be begun with. At last reads from the start.
    """
    attempts = [
        *((target, True) for target in seek_targets(source, table, wanted.span.start)),
        (None, True),
        (None, False),
    ]
    for target, may_hurry in attempts:
        opened = open_source(source, hardware)
        with opened as container:
            stream = video_stream(container)
            if stream is None:
                raise DamagedError("its picture has gone", path=source.path)
            stream.codec_context.thread_count = threads
            stream.thread_type = "AUTO"
            prepare_decoder(stream)
            start = wanted.span.start
            found = packets_from(container, stream, table, start, target)
            if found is None:
                continue
            packets, from_start = found
            if source.layer and source.layer.part:
                packets = _of_part(packets, source.layer.part)
            hurries = may_hurry and table.constant and table.timestamped
            if hurries and stream.codec_context.name in CAN_HURRY:
                half_a_frame = round(1 / table.rate.fraction / table.time_base / 2)
                packets = _hurrying(packets, stream, table, wanted, half_a_frame)
            wanted.is_sure = from_start and (start == 0 or not may_hurry)
            pictures = _decode(packets, table, wanted, from_start)
            try:
                first = next(pictures, None)
                if first is None or (first[0] > start and target is not None):
                    continue
                wanted.opened, wanted.stream = opened, stream
                yield first
                yield from pictures
            except _DoubtfulEntryError:
                continue  # what came so far was before the span
            return


def _of_part(packets: Iterator[Packet[VideoStream]], part: int) -> Iterator[Packet[VideoStream]]:
    """The same packets, of EXR images of several parts, with one of them."""
    for packet in packets:
        if packet.size:
            image: Any = Packet(only_part(bytes(packet), part))
            image.pts, image.dts, image.time_base = packet.pts, packet.dts, packet.time_base
            image.stream = packet.stream
            yield image
        else:
            yield packet


def _hurrying(
    packets: Iterator[Packet[VideoStream]],
    stream: VideoStream,
    table: FrameIndex,
    wanted: _Wanted,
    half_a_frame: int,
) -> Iterator[Packet[VideoStream]]:
    """The same packets; of those shown before what is wanted only what others need is decoded."""
    span, begins, was_early = wanted.span, table.pts_of(wanted.span.start) - half_a_frame, False
    for packet in packets:
        if wanted.span is not span:
            span, begins = wanted.span, table.pts_of(wanted.span.start) - half_a_frame
        is_early = packet.pts is not None and packet.pts < begins
        if is_early != was_early:  # to set it takes a tenth of a millisecond
            stream.codec_context.skip_frame, was_early = "NONREF" if is_early else "DEFAULT", is_early
        yield packet


def _decode(
    packets: Iterator[Packet[VideoStream]],
    table: FrameIndex,
    wanted: _Wanted,
    from_start: bool,
) -> Iterator[tuple[int, VideoFrame]]:
    """Decoded frames with the frame at which each is shown; stops soon after the span."""
    counted, keyframes, times = 0, 0, table.display_times
    may_flag = from_start
    for packet in packets:
        if is_empty_repeat(packet):
            continue
        keyframes += packet.is_keyframe
        may_flag = may_flag and keyframes <= 1
        try:
            frames = packet.decode()
        except av.error.FFmpegError as error:
            if isinstance(error, av.error.EOFError):
                return
            if wanted.damage and wanted.damage.accepted:
                continue
            frame = table.frame_at(packet.pts) if packet.pts is not None else counted
            raise DamagedError(f"the picture is damaged near frame {max(frame, 0)}") from error
        for picture in frames:
            if times:
                number = table.frame_at(times[min(counted, len(times) - 1)])
                counted += 1
            else:
                time = picture.dts if table.by_decoding else picture.pts
                number = table.frame_at(time) if table.timestamped and time is not None else counted
                counted = number + 1
            may_flag = may_flag and picture.is_corrupt
            if wanted.span.start <= number < wanted.span.end:
                if picture.is_corrupt and not wanted.is_sure:
                    raise _DoubtfulEntryError
                if picture.is_corrupt:
                    _count_corrupt(number, wanted.damage, may_flag)
                wanted.is_sure = True
            wanted.last = number
            yield number, picture
            if number >= wanted.span.end:
                return


def _count_corrupt(number: int, damage: Damage | None, may_flag: bool) -> None:
    """Note that the decoder has its doubts about a frame. Raises DamagedError where that is not taken."""
    if may_flag:
        if damage:
            damage.flagged.append(number)
    elif damage and damage.accepted:
        damage.corrupt.append(number)
    else:
        raise DamagedError(f"the picture of frame {number} is damaged")


def _fill_span(
    pictures: Iterator[tuple[int, VideoFrame]], table: FrameIndex, span: Span, damage: Damage | None
) -> Iterator[tuple[int, VideoFrame]]:
    """Every number of the span with its picture; on variable-rate sources the last one shown is held."""
    wanted = span.start
    held: VideoFrame | None = None
    goes_on = damage is not None and damage.accepted
    for number, picture in pictures:
        if table.constant:
            if number < wanted:
                continue
            if number > wanted and not goes_on:
                raise DamagedError(f"frame {wanted} cannot be decoded: the next frame is frame {number}")
            while goes_on and wanted < min(number, span.end):
                assert damage
                damage.missing.append(wanted)
                yield wanted, held or picture
                wanted += 1
            if wanted >= span.end:
                return
            held = picture
            yield wanted, picture
            wanted += 1
        else:
            while held is not None and wanted < min(number, span.end):
                yield wanted, held
                wanted += 1
            held = picture
        if wanted >= span.end:
            return
    while not table.constant and held is not None and wanted < span.end:
        yield wanted, held
        wanted += 1
    if wanted < span.end and not goes_on:
        raise DamagedError(f"the picture ends at frame {wanted}, {span.end - wanted} frames before it should")
