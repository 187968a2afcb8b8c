"""What the bare codec library decodes of a file, frame by frame, and how made files compare with it."""

from __future__ import annotations

import hashlib
from bisect import bisect_left, bisect_right
from dataclasses import dataclass, field
from fractions import Fraction
from pathlib import Path

import av
import numpy as np

_THUMBNAIL = (32, 18)
_MOST_DIFFERENCE = 16.0
"""Mean difference in lightness, of 255, that encoding may make."""
MOST_FRAMES = 15_000
MOST_PIXELS = 900 * 1920 * 1080
"""Of all frames of a clip together."""


@dataclass
class Decoded:
    """The frames of a file as the library gives them out."""

    seconds: list[Fraction | None] = field(default_factory=list)
    thumbnails: list[np.ndarray] = field(default_factory=list)
    digests: list[str] = field(default_factory=list)
    errors: int = 0
    flagged: int = 0

    @property
    def is_clean(self) -> bool:
        """Whether the library reads it all without a doubt."""
        return not self.errors and not self.flagged

    def shown_at(self) -> list[Fraction] | None:
        """When each frame is shown, from the first on; None where the file does not tell."""
        known = [time for time in self.seconds if time is not None]
        if len(known) < len(self.seconds):
            return None
        times = sorted(known)  # where times are those of decoding, the n-th frame has the n-th
        return [time - times[0] for time in times]


def decode(path: Path) -> Decoded | None:
    """Decode a whole file; None where the library finds no picture in it, or more frames than are tried."""
    found = Decoded()
    try:
        with av.open(str(path), metadata_errors="replace") as container:
            stream = container.streams.best("video")
            if stream is None or stream.codec_context is None:
                return None
            stream.codec_context.thread_count = 1
            if stream.codec_context.name == "h264":
                stream.codec_context.options = {
                    "strict": "1"
                }  # else it drops frames that come later than it guessed
            for packet in container.demux(stream):
                if not packet.size and packet.dts is not None:
                    continue  # an empty packet repeats a frame; the binding takes it for the end
                try:
                    frames = packet.decode()
                except av.error.FFmpegError:
                    found.errors += 1
                    continue
                for frame in frames:
                    _add(found, frame, stream.time_base)
                pixels = len(found.digests) * stream.codec_context.width * stream.codec_context.height
                if len(found.digests) > MOST_FRAMES or pixels > MOST_PIXELS:
                    return None
    except (av.error.FFmpegError, ValueError, OSError):
        return None
    return found if found.digests else None


def _add(found: Decoded, frame: av.VideoFrame, base: Fraction) -> None:
    found.seconds.append(None if frame.pts is None else frame.pts * base)
    width, height = _THUMBNAIL if frame.rotation % 180 == 0 else _THUMBNAIL[::-1]
    small = frame.reformat(width=width, height=height, format="rgb24", interpolation="AREA")
    upright = np.rot90(small.to_ndarray(), k=round(frame.rotation / 90))  # as a player shows it
    found.thumbnails.append(upright.astype(np.int16))
    found.digests.append(digest_of(frame))
    found.flagged += frame.is_corrupt


def digest_of(frame: av.VideoFrame) -> str:
    """Of the samples, without what pads the lines."""
    digest = hashlib.md5()
    try:
        digest.update(np.ascontiguousarray(frame.to_ndarray()).tobytes())
    except (ValueError, AssertionError):
        digest.update(frame.reformat(format="rgb24").to_ndarray().tobytes())
    return digest.hexdigest()


def differs(wanted: Decoded, made: Decoded, rate: Fraction) -> str:
    """What is wrong with frames made at a constant rate; empty if nothing.

    Each must look as a frame that is shown then, half a frame off at most, or as the last one before it.
    """
    times = None if len(wanted.digests) == len(made.digests) else wanted.shown_at()
    if times is None:
        if abs(len(wanted.digests) - len(made.digests)) > 0:
            return f"{len(made.digests)} frames, the library gives {len(wanted.digests)}"
        times = [number / rate for number in range(len(wanted.digests))]
    half = Fraction(1, 2) / rate + Fraction(2, 1000)
    for number, thumbnail in enumerate(made.thumbnails):
        time = number / rate
        near = range(bisect_left(times, time - half), bisect_right(times, time + half))
        before = range(bisect_right(times, time))
        least = min(
            float(np.abs(wanted.thumbnails[place] - thumbnail).mean())
            for place in {*near, *before[-1:]} or {0}
        )
        if least > _MOST_DIFFERENCE:
            return f"frame {number} is another picture (by {least:.0f} of 255)"
    last = len(made.thumbnails) / rate
    if times[-1] > last + half:
        return f"it ends after {float(last):.2f} s, the last frame is shown at {float(times[-1]):.2f} s"
    return ""
