"""Reading a finished file again before it gets its name: what it holds against what it should."""

from __future__ import annotations

import math
import random
import time
from collections.abc import Iterator
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import av.logging
from av.container import InputContainer
from av.video.frame import VideoFrame
from av.video.stream import VideoStream
from msgspec import Struct

from boxkite.core.errors import VerificationError
from boxkite.core.footage.decoding import CAN_HURRY
from boxkite.core.footage.opening import LEAST_PROBED
from boxkite.core.render.frame_prints import FramePrints
from boxkite.core.render.result import Verification
from boxkite.core.timebase import FrameRate, round_fraction

SAMPLE_SHARE = 0.01
"""Of the time a file took, for comparing frames of it at random."""
MOST_SAMPLED, _FRAMES_AT_ONCE = 50, 12
_LISTS_ALL = ("mov", "mp4")
"""Containers that say what their streams are: opening one need not decode a frame, nor find out what it is."""
_FRAMES = {"aac": 1024, "mp3": 1152}
_OPUS_FRAME = 960
"""Samples in a packet as our encoders make them, of Opus at 48 kHz: readers do not always tell."""


class Expected(Struct, frozen=True):
    """The content that a file must have."""

    frames: int
    """0 where it has no picture."""
    rate: FrameRate
    width_px: int
    height_px: int
    samples: tuple[tuple[int, int, int], ...]
    """(how many, Hz, how far off) of each audio track."""
    first_frame: VideoFrame | None = None
    """The first frame as encoded, or a thumbnail of it."""
    last_frame: VideoFrame | None = None
    """The last one."""
    container: str = ""
    """By presets.codecs; empty where it is not known."""
    prints: FramePrints | None = None
    """Of all frames as encoded."""
    threads: int = 0
    """For decoding it; 0 for the decoder's own choice."""
    spent_seconds: float = 0.0
    """On making the file: reading it again takes a small part of that."""


def verify(path: Path, expected: Expected) -> Verification:
    """Read every packet of a file, and decode its first and last frame, and what the last one needs.

    Raises VerificationError with what differs: count, times, size, audio, or a picture. All that differs is looked at
    twice: the first time pictures are decoded without the deblocking filter, which takes less.
    """
    order = random.random()
    try:
        return _verify(path, expected, order, is_first_look=True)
    except VerificationError:
        return _verify(path, expected, order, is_first_look=False)


def _verify(path: Path, expected: Expected, order: float, *, is_first_look: bool) -> Verification:
    """order: in which frames are compared at random; the second look compares them as long as it takes."""
    try:
        with _open(path, expected.container) as container:
            times, keys = _check_packets(container, expected)
            if times:
                pictures = _Pictures(container, times, keys, expected, deblocked=not is_first_look)
                pictures.check(order, SAMPLE_SHARE * expected.spent_seconds if is_first_look else math.inf)
            return Verification(len(times), len(container.streams.audio), path.stat().st_size)
    except av.error.FFmpegError as error:
        raise VerificationError(f"the finished file cannot be read again: {error.strerror}") from None


def _open(path: Path, container: str) -> InputContainer:
    """Open a finished file. container: as Expected has it."""
    options = {"protocol_whitelist": "file"}
    if container not in _LISTS_ALL:
        return av.open(f"file:{path}", options=options)
    undecoded: Any = [{"skip_frame": "all"}]
    av.logging.set_libav_level(av.logging.ERROR)  # it would warn each time that it has not seen a frame
    try:
        return av.open(f"file:{path}", format="mov", options=options | LEAST_PROBED, stream_options=undecoded)
    finally:
        av.logging.set_libav_level(av.logging.WARNING)


def _check_packets(container: InputContainer, expected: Expected) -> tuple[list[int], list[int]]:
    """Read every packet; the times of all frames in order, in ticks, and of the keyframes."""
    pictures = 1 if expected.frames else 0
    if len(container.streams.video) != pictures or len(container.streams.audio) != len(expected.samples):
        raise VerificationError(
            f"the finished file has {len(container.streams.video)} picture and"
            f" {len(container.streams.audio)} audio tracks, it should have {pictures} and {len(expected.samples)}"
        )
    stream = container.streams.video[0] if expected.frames else None
    if stream and (stream.width, stream.height) != (expected.width_px, expected.height_px):
        raise VerificationError(f"the picture is {stream.width}x{stream.height}, not as planned")
    times: list[int] = []
    keys: list[int] = []
    audio_ends: dict[int, list[int]] = {stream.index: [0, 0] for stream in container.streams.audio}
    for packet in container.demux():
        if packet.size and packet.pts is not None:
            if stream and packet.stream_index == stream.index:
                times.append(packet.pts)
                if packet.is_keyframe:
                    keys.append(packet.pts)
            elif packet.stream_index in audio_ends:
                ends = packet.pts + (packet.duration or 0)
                audio_ends[packet.stream_index][0] = max(audio_ends[packet.stream_index][0], ends)
                audio_ends[packet.stream_index][1] += 1
    times.sort()
    if stream:
        _check_times(times, stream, expected)
    _check_audio(container, audio_ends, expected)
    return times, keys


def _check_times(times: list[int], stream: VideoStream, expected: Expected) -> None:
    if len(times) != expected.frames:
        raise VerificationError(
            f"the finished file holds {len(times)} frames, it should hold {expected.frames}"
        )
    time_base = stream.time_base or Fraction(1, 1000)
    for number, pts in enumerate(times):
        if round_fraction((pts - times[0]) * time_base * expected.rate.fraction) != number:
            raise VerificationError(f"frame {number} of the finished file is shown at the wrong time")
    if round_fraction(times[0] * time_base * expected.rate.fraction) != 0:
        raise VerificationError("the finished file does not begin at its first frame")


def _check_audio(container: InputContainer, audio_ends: dict[int, list[int]], expected: Expected) -> None:
    for (samples, rate, rounded), stream in zip(expected.samples, container.streams.audio, strict=True):
        time_base = stream.time_base or Fraction(1, rate)
        ends, packets = audio_ends[stream.index]
        found = round_fraction(ends * time_base * rate)
        # Lossy codecs fill their last frame up; containers with coarse times round where it begins and how long it is.
        context = stream.codec_context
        frame = context.frame_size or _FRAMES.get(context.name.removesuffix("float"), 0)
        if not frame and "opus" in context.name:
            frame = _OPUS_FRAME * rate // 48_000
        tick, is_coarse = round_fraction(time_base * rate, "up"), time_base > Fraction(1, rate)
        slack = frame + (2 * tick if is_coarse else tick) if frame > 1 or is_coarse else 0
        if (samples and not packets) or abs(found - samples) > slack + rounded:
            raise VerificationError(f"an audio track ends after {found} samples, it should after {samples}")


class _Pictures:
    """The pictures of a finished file, compared with those that were encoded."""

    def __init__(
        self,
        container: InputContainer,
        times: list[int],
        keys: list[int],
        expected: Expected,
        *,
        deblocked: bool,
    ) -> None:
        """times: of all frames, in ticks; deblocked: whether the decoder applies its deblocking filter."""
        self._container = container
        self._stream = container.streams.video[0]
        self._stream.codec_context.thread_count = expected.threads
        self._first, self._last = times[0], times[-1]
        self._keys = keys or [times[0]]
        self._numbers = {pts: number for number, pts in enumerate(times)}
        self._expected = expected
        if not deblocked:
            self._stream.codec_context.options = {"skip_loop_filter": "all"}

    def check(self, order: float, seconds: float) -> None:
        """Compare the first and the last frame, and others from keyframes at random as long as there is time.

        Raises VerificationError.
        """
        until = time.monotonic() + seconds
        seen = self._compare_from(max(self._keys), {self._first, self._last})
        if self._first not in seen:
            seen |= self._compare_from(self._first, {self._first})
        for moment, name in ((self._first, "first"), (self._last, "last")):
            if moment not in seen:
                raise VerificationError(f"the {name} frame of the finished file cannot be decoded")
        if self._expected.prints:
            self._compare_some(random.Random(order), until)

    def _compare_from(self, start: int, wanted: set[int]) -> set[int]:
        """Compare the pictures from a keyframe to the last one that is wanted, by their times; which have come."""
        seen = set()
        for picture in self._decoded(start, wanted):
            seen.add(picture.pts or 0)
            if self._compare(picture) or picture.pts not in (self._first, self._last):
                continue
            from boxkite.core.render.thumbnails import (
                compare_thumbnails,  # few need them, and NumPy with them
            )

            if picture.pts == self._first:
                compare_thumbnails(picture, self._expected.first_frame, "the first frame")
            if picture.pts == self._last:
                compare_thumbnails(picture, self._expected.last_frame, "the last frame")
        return seen

    def _decoded(self, start: int, wanted: set[int]) -> Iterator[VideoFrame]:
        """Pictures from a keyframe to the last wanted one; others only as far as that needs them."""
        self._container.seek(0 if start == self._first else start, stream=self._stream)
        context, last, was_needed = self._stream.codec_context, max(wanted), True
        context.skip_frame = "DEFAULT"
        for packet in self._container.demux(self._stream):
            is_needed = packet.pts in wanted or context.name not in CAN_HURRY
            if is_needed != was_needed:
                context.skip_frame, was_needed = "DEFAULT" if is_needed else "NONREF", is_needed
            yield from packet.decode()
            if packet.pts == last and packet.size:
                yield from self._stream.decode(None)  # what waits for its turn to be shown
                return

    def _compare(self, picture: VideoFrame) -> bool:
        """Compare a picture with the print of the one that was encoded; False where there is none to compare."""
        number = self._numbers.get(-1 if picture.pts is None else picture.pts, -1)
        prints = self._expected.prints
        differs = prints.differs(number, picture) if prints and number >= 0 else None
        if differs:
            raise VerificationError(
                f"frame {number} of the finished file is not the picture that was encoded"
            )
        return differs is not None

    def _compare_some(self, chance: random.Random, until: float) -> None:
        for key in chance.sample(self._keys, min(len(self._keys), MOST_SAMPLED)):
            if time.monotonic() > until:
                return
            self._container.seek(key, stream=self._stream)
            self._stream.codec_context.skip_frame = "DEFAULT"
            for count, picture in enumerate(self._container.decode(self._stream)):
                self._compare(picture)
                if count >= _FRAMES_AT_ONCE or time.monotonic() > until:
                    break
