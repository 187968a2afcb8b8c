"""Measuring where the frames of a file lie: by its index, by its packets, or by decoding it once."""

from __future__ import annotations

from collections.abc import Callable
from fractions import Fraction

import av
import numpy as np
from av.container import InputContainer
from av.stream import Discard
from av.video.stream import VideoStream
from msgspec import Struct, field
from msgspec.structs import replace

from boxkite.core.errors import FootageError
from boxkite.core.footage.frame_index import INDEXED_CONTAINERS, PLAUSIBLE_HOLD_SECONDS, FrameIndex
from boxkite.core.footage.kinds import BARE_STREAMS
from boxkite.core.footage.opening import open_source, video_stream
from boxkite.core.footage.reordering import (
    count_frames,
    holds_frame,
    may_reorder,
    shows_out_of_order,
    shows_without_times,
)
from boxkite.core.footage.source import Source
from boxkite.core.notices.footage import (
    BEFORE_KEYFRAME,
    BREAKS_OFF,
    HEADER_LONGER,
    LONG_HOLD,
    TIMES_RESTART,
    VARIABLE_RATE,
)
from boxkite.core.notices.notice import Notice
from boxkite.core.timebase import FrameRate, round_fraction

_REORDER_WINDOW = 64
"""Packets read to find the earliest presentation time: more than any codec's reordering needs."""
_ROUNDED_TICKS = 0.51
"""How far off rounding to whole ticks brings a time; a whole tick may be a frame, as in AVI."""
_SURELY_ON_GRID = 0.06
"""Of a frame."""
_LONGEST_REORDERING_SECONDS = 2


def measure_file(source: Source) -> FrameIndex:
    """The index of the frames of a file with a picture. Raises FootageError."""
    try:
        with open_source(source) as container:
            stream = video_stream(container)
            if stream is None:
                raise FootageError("there is no longer a picture in it", path=source.path)
            table = _from_index(container, stream, source) or _from_packets(container, stream, source)
            if not table:
                table = _from_decoding(source)
            assert source.video
            rotation = source.video.rotation_degrees or _rotation(container, stream)
            warnings = (*table.warnings, *_broken_off(stream, source, table))
            table = replace(table, rotation_degrees=rotation, warnings=warnings)
    except av.error.FFmpegError as error:
        raise FootageError("its packets cannot be read", path=source.path) from error
    if table.frame_count < 1:
        raise FootageError("it contains no complete frame", path=source.path)
    return table


def _from_index(container: InputContainer, stream: VideoStream, source: Source) -> FrameIndex | None:
    """The table from the container's index alone; None where that does not settle it."""
    assert source.video
    entries = stream.index_entries
    if source.container not in INDEXED_CONTAINERS or not stream.time_base:
        return None
    if not stream.frames or len(entries) < stream.frames:
        return None
    codec = stream.codec_context.name
    shown = [entry.timestamp for entry in entries if not entry.is_discard and holds_frame(entry.size, codec)]
    if len(shown) != len(entries):
        return None  # an edit list hides frames: only the packets tell where the first one shown lies
    decode_times = np.array(shown, dtype=np.int64)
    rate = source.video.rate
    if not _on_grid(decode_times - decode_times.min(), rate, stream.time_base):
        return None
    beginning = _first_times(container, stream)
    if not beginning or tells_no_order(stream, beginning):
        return None
    first = min(pts for pts, _ in beginning)
    return FrameIndex(rate, len(shown), len(shown), first, stream.time_base, constant=True)


def _broken_off(stream: VideoStream, source: Source, table: FrameIndex) -> list[Notice]:
    """Whether a file ends before its index or its header says."""
    lost = sum(entry.pos + entry.size > source.size_bytes for entry in stream.index_entries)
    if lost:
        return [BREAKS_OFF(lost=lost, frames=table.stored_count)]
    lasts = table.rate.seconds(table.frame_count)
    if source.duration > lasts + 1 and source.duration > lasts * Fraction(21, 20):
        return [HEADER_LONGER(header_seconds=float(source.duration), seconds=float(lasts))]
    return []


def _first_times(container: InputContainer, stream: VideoStream) -> list[tuple[int, int | None]]:
    """(PTS, DTS) of the first packets."""
    times: list[tuple[int, int | None]] = []
    for packet in container.demux(stream):
        if packet.pts is None:
            break
        times.append((packet.pts, packet.dts))
        if len(times) >= _REORDER_WINDOW:
            break
    return times


def tells_no_order(stream: VideoStream, times: list[tuple[int, int | None]]) -> bool:
    """Whether the times of showing are all those of decoding, though the codec may reorder."""
    return may_reorder(stream) and len(times) > 1 and all(pts == dts for pts, dts in times)


def _rotation(container: InputContainer, stream: VideoStream) -> int:
    """The rotation stored beside the picture; the codec library hands it out with decoded frames only."""
    if container.format.name.split(",")[0] != "matroska":
        return 0  # MOV and MP4 were asked when the source was read
    try:
        container.seek(0)
        picture = next(container.decode(stream), None)
    except av.error.FFmpegError:
        return 0  # damage is reported by the shot that needs the frame
    return round(picture.rotation / 90) * 90 % 360 if picture else 0


def _on_grid(times: np.ndarray, rate: FrameRate, time_base: Fraction) -> bool:
    """Whether sorted times are one apiece on the grid of the rate, less than half a frame or a rounding off."""
    step = 1 / (time_base * rate.fraction)
    expected = np.arange(len(times), dtype=np.float64) * float(step)
    tolerance = max(0.45 * float(step), _ROUNDED_TICKS)
    return bool(np.all(np.abs(times - expected) <= tolerance))


class _Packets(Struct):
    """The packets of a picture, as far as they can be read."""

    count: int = 0
    times: list[tuple[int, int | None]] = field(default_factory=list)
    """(PTS, DTS) of those that have one and are shown."""
    keyframes: list[int] = field(default_factory=list)
    """Which of the times are those of keyframes."""
    first_key: int | None = None
    last_duration: int = 0


def _read_packets(container: InputContainer, stream: VideoStream) -> _Packets:
    found = _Packets()
    codec = stream.codec_context.name
    try:
        for packet in container.demux(stream):
            if not holds_frame(packet.size, codec):
                continue
            if found.first_key is None and packet.is_keyframe:
                found.first_key = packet.pts  # an edit list may hide it, but what follows is decoded from it
            if packet.is_discard:
                continue
            found.count += 1
            if packet.pts is not None:
                if packet.is_keyframe:
                    found.keyframes.append(len(found.times))
                found.times.append((packet.pts, packet.dts))
                found.last_duration = packet.duration or found.last_duration
    except av.error.FFmpegError:
        if not found.times:
            raise
    return found


def _from_packets(container: InputContainer, stream: VideoStream, source: Source) -> FrameIndex | None:
    """The table from the packets; None where they do not tell in which order frames are shown."""
    assert source.video
    for other in container.streams:
        if other.index != stream.index:
            other.discard = Discard.all
    if source.container in INDEXED_CONTAINERS:
        container.seek(0)  # the index was tried first, and that read a few packets
    packets = _read_packets(container, stream)
    time_base = stream.time_base or Fraction(1, 1000)
    rate = source.video.rate
    # AVI stores the order of decoding only: with reordered frames its times belong to other frames.
    if source.container == "avi" and may_reorder(stream):
        return None
    if tells_no_order(stream, packets.times) and is_out_of_order(source):
        return None
    if restarts := _restarts(packets, time_base):
        table = _from_decoding(source, timestamped=False)
        return replace(table, warnings=(TIMES_RESTART(times=restarts, frames=table.frame_count),))
    is_bare = source.container in BARE_STREAMS
    if is_bare or _lack_times(packets, source):
        first = 0 if is_bare else min((pts for pts, _ in packets.times[:_REORDER_WINDOW]), default=0)
        return FrameIndex(
            rate, packets.count, packets.count, first, time_base, constant=True, timestamped=False
        )
    shown = presentation_times(stream, packets.times)
    by_decoding = bool(shown[0] != packets.times[0][0])
    first_key = None if by_decoding else packets.first_key
    table = table_from_times(shown, first_key, packets.last_duration, time_base, rate)
    return replace(table, by_decoding=by_decoding)


def _lack_times(packets: _Packets, source: Source) -> bool:
    """Whether frames have no time. Half of the packets may have none where each is one of the two fields of a frame."""
    if len(packets.times) < max(1, packets.count // 2):
        return True
    if len(packets.times) == packets.count:
        return False
    return _at_its_beginning(source, shows_without_times)


def _restarts(packets: _Packets, time_base: Fraction) -> int:
    """How often a keyframe is shown long before a frame that was stored earlier: recordings joined end to end.

    Frames that are none may follow the one that they are shown before, however late that one is.
    """
    longest = int(_LONGEST_REORDERING_SECONDS / time_base)
    shown = np.array([pts for pts, _ in packets.times], dtype=np.int64)
    if not np.any(np.maximum.accumulate(shown) - shown > longest):
        return 0
    count, latest, keyframes = 0, int(shown[0]), set(packets.keyframes)
    for position, time in enumerate(map(int, shown)):
        if latest - time <= longest:
            latest = max(latest, time)
        elif position in keyframes:
            count, latest = count + 1, time
    return count


def distinct(times: np.ndarray) -> np.ndarray:
    """Times in their order, each once. NumPy's own way loads a further part of it, which takes 0.02 s."""
    ordered = np.sort(times)
    return np.asarray(ordered[np.diff(ordered, prepend=ordered[:1] - 1) != 0])


def presentation_times(stream: VideoStream, times: list[tuple[int, int | None]]) -> np.ndarray:
    """When packets are shown, in ticks, in the order they are stored. times: (PTS, DTS) of each."""
    shown = np.array([pts for pts, _ in times], dtype=np.int64)
    if not may_reorder(stream) and all(dts is not None for _, dts in times):
        decoded = np.array([dts for _, dts in times], dtype=np.int64)
        if len(distinct(decoded)) > len(distinct(shown)):
            return decoded  # as in Ogg, where the first packet of a stream may carry a later time
    return shown


def is_out_of_order(source: Source) -> bool:
    """Whether the beginning of a source decodes in another order than its times tell."""
    return _at_its_beginning(source, shows_out_of_order)


def _at_its_beginning(source: Source, is_so: Callable[[InputContainer, VideoStream], bool]) -> bool:
    """What is asked of a source that was just opened; False where it has no picture any longer."""
    with open_source(source) as container:
        stream = video_stream(container)
        return stream is not None and is_so(container, stream)


def _from_decoding(source: Source, *, timestamped: bool = True) -> FrameIndex:
    """The table of a file that stores the times of decoding only: as many frames as the decoder gives out.

    timestamped: False where its times say nothing at all.
    """
    assert source.video
    times = []
    with open_source(source) as container:
        stream = video_stream(container)
        assert stream
        times = [packet.pts for packet in container.demux(stream) if packet.size and packet.pts is not None]
        time_base = stream.time_base or Fraction(1, 1000)
    with open_source(source) as container:
        stream = video_stream(container)
        assert stream
        count = count_frames(container, stream)
    rate, first = source.video.rate, 0
    if timestamped and source.container != "avi" and len(times) >= count > 1:
        shown = distinct(np.array(times, dtype=np.int64))[:count]
        table = table_from_times(shown, None, 0, time_base, rate)
        if not table.constant and not _is_about_constant(shown, table.rate, time_base):
            return replace(table, display_times=tuple(int(time) for time in shown))
        rate, first = table.rate, table.first_pts
    return FrameIndex(rate, count, count, first, time_base, constant=True, timestamped=False)


def _is_about_constant(times: np.ndarray, rate: FrameRate, time_base: Fraction) -> bool:
    """Whether times of decoding are those of a constant rate, a frame off at most: then each frame lasts as long."""
    step = float(1 / (time_base * rate.fraction))
    return bool(np.all(np.abs(times - times[0] - np.arange(len(times)) * step) <= 1.1 * step))


def table_from_times(
    times: np.ndarray, first_key: int | None, last_duration: int, time_base: Fraction, rate: FrameRate
) -> FrameIndex:
    """The table of frames shown at some times, in ticks.

    first_key: time of the first keyframe, where it is known. last_duration: of the last frame, in ticks, 0 where
    the file does not say. rate: that the file states; another one is taken where times lie on it.
    """
    times = distinct(times)
    warnings: list[Notice] = []
    if first_key is not None and (lost := int(np.count_nonzero(times < first_key))):
        times = times[times >= first_key]
        warnings.append(BEFORE_KEYFRAME(frames=lost))
    first, last = int(times[0]), int(times[-1])
    if _on_grid(times - first, rate, time_base):
        return FrameIndex(rate, len(times), len(times), first, time_base, True, warnings=tuple(warnings))
    grid_rate = _grid_rate(times, rate, time_base)
    if _on_grid(times - first, grid_rate, time_base):
        return FrameIndex(grid_rate, len(times), len(times), first, time_base, True, warnings=tuple(warnings))
    frame_ticks = 1 / (time_base * grid_rate.fraction)
    end = last + max(last_duration, round_fraction(frame_ticks))
    count = max(1, round_fraction((end - first) / frame_ticks))
    warnings.append(VARIABLE_RATE(stored=len(times), frames=count, rate=str(grid_rate)))
    longest = max(1, int(np.diff(times, append=end).max() / float(frame_ticks)))
    if longest > grid_rate.frames_in(PLAUSIBLE_HOLD_SECONDS):
        warnings.append(LONG_HOLD(hours=float(grid_rate.seconds(longest)) / 3600))
    return FrameIndex(
        grid_rate, count, len(times), first, time_base, False, warnings=tuple(warnings), longest_hold=longest
    )


def _grid_rate(times: np.ndarray, rate: FrameRate, time_base: Fraction) -> FrameRate:
    """The constant rate a variable one is laid on: the usual rate nearest to the commonest step."""
    if len(times) < 2:
        return rate
    places = (times - times[0]) / float(1 / (time_base * rate.fraction))
    nearest = np.rint(places)
    if np.median(np.diff(nearest)) == 1 and np.all(np.abs(places - nearest) <= _SURELY_ON_GRID):
        return rate  # only some of its frames are missing
    steps = np.diff(times)
    median = Fraction(int(np.median(steps))) * time_base
    if median <= 0:
        return rate
    fastest = 1 / median
    best = FrameRate.near(fastest)
    usual = ["23.976", "24", "25", "29.97", "30", "48", "50", "59.94", "60", "119.88", "120"]
    candidates = [rate, best, *(FrameRate.parse(name) for name in usual)]
    mean = Fraction(len(times) - 1, int(times[-1] - times[0])) / time_base
    # Timestamps in whole milliseconds make 29.97 look like 30.3 or 29.4: the mean settles it when it is near.
    target = mean if abs(mean / fastest - 1) < Fraction(1, 20) else fastest
    return min(candidates, key=lambda candidate: abs(candidate.fraction / target - 1))
