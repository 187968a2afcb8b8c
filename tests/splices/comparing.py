"""Files cut exactly, decoded in several ways and compared with what the bare codec library decodes of their source."""

from __future__ import annotations

import hashlib
import shutil
import subprocess
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import av
import numpy as np

LEAST_DB = 33.0
"""Of an encoded frame; copied ones are the same to the last bit."""
WAYS = ((1, "FRAME"), (3, "FRAME"), (3, "SLICE"))
"""Threads of the decoder, and how they share the work."""
_DEMUXERS = {".mp4": "qtdemux", ".mov": "qtdemux", ".mkv": "matroskademux", ".ts": "tsdemux"}
OTHER_DECODERS = (
    "h264parse ! openh264dec",
    "h264parse ! avdec_h264",
    "h265parse ! libde265dec",
    "h265parse ! avdec_h265",
)
"""Of another framework: for each codec one that is not the codec library, and another build of it."""


@dataclass(frozen=True)
class Decoded:
    """All frames of a file: when each is shown, in seconds, and its samples."""

    times: list[float]
    frames: list[np.ndarray]

    @classmethod
    def of(cls, path: Path, threads: int = 1, how: str = "FRAME") -> Decoded:
        """By the codec library, told not to guess how far the stream reorders."""
        times, frames = [], []
        with av.open(str(path)) as container:
            stream = container.streams.video[0]
            stream.codec_context.options = {"strict": "1"}
            stream.codec_context.thread_type, stream.codec_context.thread_count = how, threads
            for frame in container.decode(stream):
                times.append(float(frame.pts * stream.time_base))
                frames.append(samples_of(frame))
        return cls(times, frames)

    def part(self, start: int, end: int) -> Decoded:
        """Some of the frames."""
        return Decoded(self.times[start:end], self.frames[start:end])


def samples_of(frame: av.VideoFrame) -> np.ndarray:
    """All shown samples, plane after plane."""
    wide = frame.format.components[0].bits > 8
    parts = []
    for plane in frame.planes:
        rows = np.frombuffer(memoryview(plane), np.uint8).reshape(plane.height, plane.line_size)
        parts.append(rows[:, : plane.width * (1 + wide)].reshape(-1))
    return np.concatenate(parts).view(np.uint16 if wide else np.uint8)


def wrong_in(file: dict[str, Any], wanted: Decoded) -> list[str]:
    """What is wrong with a file, as run's JSON gives it; nothing where all is right."""
    found: list[str] = []
    for threads, how in WAYS:
        made = Decoded.of(Path(file["path"]), threads, how)
        if len(made.frames) != len(wanted.frames):
            return [f"{len(made.frames)} frames, not {len(wanted.frames)} ({threads} {how})"]
        away = [
            abs((one - made.times[0]) - (other - wanted.times[0]))
            for one, other in zip(made.times, wanted.times, strict=True)
        ]
        same = [np.array_equal(one, other) for one, other in zip(made.frames, wanted.frames, strict=True)]
        worst = min(map(_decibels, made.frames, wanted.frames))
        if max(away) > 0.0021:
            found.append(f"shown {max(away):.4f} s off")
        if file["how"] == "splice" and not is_encoded_whole(file) and sum(same) < file["copied_frames"]:
            found.append(
                f"{sum(same)} frames are the source's, {file['copied_frames']} are copied ({threads} {how})"
            )
        if worst < LEAST_DB:
            found.append(f"a frame at {worst:.1f} dB ({threads} {how})")
    return found


def is_encoded_whole(file: dict[str, Any]) -> bool:
    """Whether a file was encoded whole after all."""
    return any(one["kind"] == "encoded-not-copied" for one in file["warnings"])


def _decibels(one: np.ndarray, other: np.ndarray) -> float:
    error = float(np.mean((one.astype(np.float64) - other) ** 2))
    most = 255 if one.dtype == np.uint8 else 1023
    return 10 * np.log10(most * most / error) if error else 200.0


def decode_elsewhere(path: Path, decoder: str, into: Path) -> bytes | None:
    """The digest of all frames by a decoder of another framework; None where it is not here, or does not end."""
    launch = shutil.which("gst-launch-1.0")
    if not launch:
        return None
    words = [launch, "-q", "filesrc", f"location={path}", "!", _DEMUXERS[path.suffix], "!",
             *decoder.split(), "!", "filesink", f"location={into}"]  # fmt: skip
    try:
        done = subprocess.run(words, check=False, capture_output=True, timeout=30)
        return hashlib.sha256(into.read_bytes()).digest() if not done.returncode and into.exists() else None
    except subprocess.TimeoutExpired:
        return None
    finally:
        into.unlink(missing_ok=True)


def digest(decoded: Decoded) -> bytes:
    """Of all frames, one after the other."""
    return hashlib.sha256(b"".join(frame.tobytes() for frame in decoded.frames)).digest()
