"""Facts that need every packet of a file, but no decoding: keyframes, constant or variable rate."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from fractions import Fraction
from itertools import pairwise
from pathlib import Path

import av
import numpy as np
from av.stream import Discard
from msgspec import Struct

from boxkite.core.errors import FootageError
from boxkite.core.footage.bitstream.obstacles import Obstacle
from boxkite.core.footage.bitstream.starts import Entries
from boxkite.core.footage.cache import memory
from boxkite.core.footage.kinds import BARE_STREAMS
from boxkite.core.footage.measuring import distinct, table_from_times
from boxkite.core.footage.opening import open_source, video_stream
from boxkite.core.footage.probe import read_source
from boxkite.core.footage.source import Source

_SHADES = "▁▂▃▄▅▆▇█"


class DeepInfo(Struct, frozen=True):
    """The packets of a video stream, summed up."""

    pictures: int
    """How many."""
    keyframes: tuple[int, ...]
    """Their places in order of showing, counted from 0."""
    least_rate: Fraction | None
    most_rate: Fraction | None
    """Frames a second of the longest and the shortest step between frames; None for fewer than two."""
    is_variable: bool
    odd_images: tuple[int, ...] = ()
    """Numbers of a sequence's images that cannot be read or are of another size than its first."""
    longest_uncut: int = 0
    """Frames from one keyframe that decoding can start at to the next: exact cuts encode no more at each end."""
    uncut_because: str = ""
    """Why shots that begin or end between keyframes have to be encoded to be exact; empty where only their ends are."""

    @property
    def spacings(self) -> tuple[int, ...]:
        """Frames from each keyframe to the next, the last one to the end."""
        places = [*self.keyframes, self.pictures]
        return tuple(b - a for a, b in pairwise(places) if b > a)

    @property
    def spacing(self) -> tuple[int, int, int] | None:
        """Least, median and longest spacing; None without a keyframe."""
        ordered = sorted(self.spacings)
        return (ordered[0], ordered[len(ordered) // 2], ordered[-1]) if ordered else None

    def drawn(self, columns: int) -> str:
        """Where the keyframes fall, over the whole length in so many columns: the taller, the more of them."""
        if not self.pictures:
            return ""
        columns = min(columns, self.pictures)
        counts = [0] * columns
        for place in self.keyframes:
            counts[min(place * columns // self.pictures, columns - 1)] += 1
        most = max(counts) or 1
        return "".join(
            _SHADES[(count - 1) * 7 // most if most > 1 else 7] if count else "·" for count in counts
        )


def remembered_deep(
    sources: Sequence[Source], progress: Callable[[Source], None] = lambda source: None
) -> dict[Path, DeepInfo]:
    """Read the packets of sources, by path; what was read before and is unchanged is remembered.

    progress gets each source before it is read. Raises FootageError.
    """
    found: dict[Path, DeepInfo] = {}
    with memory() as known:
        for source in sources:
            progress(source)
            info = known.recall("deep", source.path, DeepInfo) if not source.sequence else None
            if info is None and (info := read_deep(source)):
                known.keep("deep", source.path, info)
            if info:
                found[source.path] = info
    return found


def read_deep(source: Source) -> DeepInfo | None:
    """Read every packet of a source's frame; None for audio and single images. Raises FootageError."""
    if not source.video or source.kind.value == "still":
        return None
    if source.sequence:
        count = source.video.frame_count
        rate = source.video.rate.fraction
        return DeepInfo(count, tuple(range(count)), rate, rate, False, _odd_images(source))
    times: list[int] = []
    keys: list[int] = []
    starts: list[int] = []
    untimed, hides = 0, False
    try:
        with open_source(source) as container:
            stream = video_stream(container)
            assert stream is not None
            for other in container.streams:
                if other.index != stream.index:
                    other.discard = Discard.all
            time_base = stream.time_base or Fraction(1, 1000)
            entries = Entries.of(stream.codec_context, source.container)
            for packet in container.demux(stream):
                if not packet.size or packet.is_discard:
                    hides = hides or packet.is_discard
                    continue
                time = packet.pts if packet.pts is not None else packet.dts
                if time is None:
                    time, untimed = untimed, untimed + 1
                times.append(time)
                if packet.is_keyframe:
                    keys.append(time)
                    if entries.begins(packet):
                        starts.append(time)
    except av.error.FFmpegError as error:
        raise FootageError("its packets cannot be read", path=source.path) from error
    ordered = distinct(np.array(times, dtype=np.int64))
    places = np.searchsorted(ordered, np.array(sorted(set(keys)), dtype=np.int64))
    steps = np.diff(ordered)
    if untimed or not len(steps) or source.container in BARE_STREAMS:
        return DeepInfo(len(times), tuple(int(place) for place in places), None, None, False)
    shortest, longest = int(steps.min()), int(steps.max())
    entered = np.searchsorted(ordered, np.array([*sorted(set(starts)), ordered[-1] + 1], dtype=np.int64))
    is_variable = not table_from_times(ordered, None, 0, time_base, source.video.rate).constant
    obstacle = entries.obstacle or (Obstacle.HIDDEN if hides else Obstacle.RATE if is_variable else None)
    return DeepInfo(
        len(ordered),
        tuple(int(place) for place in places),
        1 / (longest * time_base),
        1 / (shortest * time_base),
        is_variable,
        longest_uncut=int(np.diff(entered).max(initial=0)) if starts else len(ordered),
        uncut_because="" if len(keys) == len(times) else str(obstacle or ""),
    )


def _odd_images(source: Source) -> tuple[int, ...]:
    sequence, first = source.sequence, source.video
    assert sequence and first
    odd = []
    for number in sorted(set(range(sequence.first, sequence.last + 1)) - set(sequence.missing)):
        try:
            video = read_source(sequence.folder / sequence.file_name(number)).video
        except (FootageError, OSError):
            video = None
        if video is None or video.size != first.size:
            odd.append(number)
    return tuple(odd)
