"""Reading a finished file again before it gets its name: what it holds against what it should."""

from __future__ import annotations

import random
import time
from collections.abc import Iterator
from fractions import Fraction
from pathlib import Path

import av
import numpy as np
from av.container import InputContainer
from av.video.frame import VideoFrame
from av.video.stream import VideoStream
from msgspec import Struct

from boxkite.core.errors import VerificationError
from boxkite.core.picture.converting import Conversions
from boxkite.core.render.frame_prints import FramePrints
from boxkite.core.render.result import Verification
from boxkite.core.timebase import FrameRate, round_fraction

_LOOK = (32, 18)
_CONVERSIONS = Conversions()
_MOST_DIFFERENCE = 10.0
SAMPLE_SHARE = 0.02
"""Of the time a file took, for comparing frames of it at random."""
MOST_SAMPLED, _FRAMES_AT_ONCE = 50, 12
_ANY_MATRIX, _FULL = 1, 2
_OPUS_FRAME = 960
"""Samples at 48 kHz in a packet as our encoder makes them; readers do not always tell."""
"""Mean difference, in 8-bit steps, that a coded picture may have from the one that was encoded."""


class Expected(Struct, frozen=True):
    """The content that a file must have."""

    frames: int
    """0 where it has no picture."""
    rate: FrameRate
    width_px: int
    height_px: int
    samples: tuple[tuple[int, int, int], ...]
    """(how many, Hz, how far off) of each audio track."""
    first_thumbnail: np.ndarray | None
    """The first frame as encoded, reduced by thumbnail_of."""
    last_thumbnail: np.ndarray | None
    """The last one."""
    prints: FramePrints | None = None
    """Of all frames as encoded."""
    spent_seconds: float = 0.0
    """On making the file: reading it again takes a small part of that."""


def thumbnail_of(picture: VideoFrame) -> np.ndarray:
    """A frame's lightness, area-averaged to 32 × 18, as float: enough to tell one frame from another.

    By its samples alone, whatever its colour tags say: a decoder may report tags that the encoder did not get.
    """
    small = _CONVERSIONS.convert(
        picture,
        width=_LOOK[0],
        height=_LOOK[1],
        format="gray",
        interpolation="AREA",
        src_colorspace=_ANY_MATRIX,
        dst_colorspace=_ANY_MATRIX,
        src_color_range=_FULL,
        dst_color_range=_FULL,
    )
    return small.to_ndarray().astype(np.float32)


def verify(path: Path, expected: Expected) -> Verification:
    """Read every packet of a file, and decode its first and last frame.

    Raises VerificationError with what differs: count, times, size, audio, or the picture at either end.
    """
    try:
        with av.open(f"file:{path}", options={"protocol_whitelist": "file"}) as container:
            return _verify(container, path, expected)
    except av.error.FFmpegError as error:
        raise VerificationError(f"the finished file cannot be read again: {error.strerror}") from None


def _verify(container: InputContainer, path: Path, expected: Expected) -> Verification:
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
    if stream:
        _check_ends(container, stream, times, keys, expected)
        _check_sample(container, stream, times, keys, expected)
    return Verification(len(times), len(audio_ends), path.stat().st_size)


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
        frame = context.frame_size or (_OPUS_FRAME * rate // 48_000 if "opus" in context.name else 0)
        tick, is_coarse = round_fraction(time_base * rate, "up"), time_base > Fraction(1, rate)
        slack = frame + (2 * tick if is_coarse else tick) if frame > 1 or is_coarse else 0
        if (samples and not packets) or abs(found - samples) > slack + rounded:
            raise VerificationError(f"an audio track ends after {found} samples, it should after {samples}")


def _check_ends(
    container: InputContainer, stream: VideoStream, times: list[int], keys: list[int], expected: Expected
) -> None:
    container.seek(0)
    first = next(_decode_for(container, stream, times[0]), None)
    if first is None:
        raise VerificationError("the first frame of the finished file cannot be decoded")
    compare_thumbnails(first, expected.first_thumbnail, "the first frame")
    container.seek(max(keys, default=times[0]), stream=stream)
    last = next(_decode_for(container, stream, times[-1]), None)
    if last is None:
        raise VerificationError("the last frame of the finished file cannot be decoded")
    compare_thumbnails(last, expected.last_thumbnail, "the last frame")


def _check_sample(
    container: InputContainer, stream: VideoStream, times: list[int], keys: list[int], expected: Expected
) -> None:
    """Compare frames from keyframes at random with those that were encoded, as long as that takes next to no time."""
    if not expected.prints or not keys:
        return
    until = time.monotonic() + SAMPLE_SHARE * expected.spent_seconds
    places = {pts: number for number, pts in enumerate(times)}
    for key in random.sample(keys, min(len(keys), MOST_SAMPLED)):
        container.seek(key, stream=stream)
        stream.codec_context.skip_frame = "DEFAULT"
        for count, picture in enumerate(container.decode(stream)):
            number = places.get(picture.pts if picture.pts is not None else -1, -1)
            if number >= 0 and expected.prints.differs(number, picture):
                raise VerificationError(
                    f"frame {number} of the finished file is not the picture that was encoded"
                )
            if count >= _FRAMES_AT_ONCE or time.monotonic() > until:
                break
        if time.monotonic() > until:
            return


def _decode_for(container: InputContainer, stream: VideoStream, wanted: int) -> Iterator[VideoFrame]:
    """Decode up to the picture shown at a time, in ticks, and give it out; others only as far as it needs them."""
    stream.codec_context.skip_frame = "NONREF"
    for packet in container.demux(stream):
        is_it = packet.pts == wanted
        if is_it:
            stream.codec_context.skip_frame = "DEFAULT"
        pictures = packet.decode()
        if is_it and packet.size:
            pictures += stream.decode(None)  # what waits for its turn to be shown
        yield from (picture for picture in pictures if picture.pts == wanted)


def compare_thumbnails(
    picture: VideoFrame, look: np.ndarray | None, which: str, most: float = _MOST_DIFFERENCE
) -> None:
    """Make sure that a frame looks as one that was encoded. which: in the message; most: mean difference allowed.

    Raises VerificationError.
    """
    if look is None:
        return
    difference = float(np.abs(thumbnail_of(picture) - look).mean())
    if difference > most:
        raise VerificationError(f"{which} of the finished file is not the picture that was encoded")
