"""Reading finished files back: which source frame each picture is, and where the audio ticks."""

from __future__ import annotations

import hashlib
import json
import sys
from dataclasses import dataclass
from fractions import Fraction
from functools import lru_cache
from pathlib import Path

import av
import numpy as np

from boxkite.core.timebase import FrameRate, Span, sample_at
from boxkite.demo import find_ticks, read_barcode
from boxkite.demo.ticks import tick_frames
from tests.warm import Warm

PROGRAM = Path(sys.executable).with_name("boxkite")


@dataclass(frozen=True)
class Run:
    """What a command said and its exit status."""

    status: int
    out: str
    err: str

    @property
    def json(self):
        return json.loads(self.out)


def boxkite(
    *words: str | Path, cwd: Path | None = None, env: dict[str, str] | None = None, timeout: float = 120
) -> Run:
    """Run the program, as installed, from a process that has it loaded (see warm.py)."""
    status, out, err = _warm().run(list(map(str, words)), cwd, env, timeout)
    assert "Traceback" not in err, err
    return Run(status, out, err)


@lru_cache(maxsize=1)
def _warm() -> Warm:
    return Warm()


def frames_of(path: Path) -> list[tuple[int, int]]:
    """(source, frame) of every picture, after checking that each is shown exactly one frame after the last."""
    with av.open(str(path)) as container:
        stream = container.streams.video[0]
        stream.thread_type = "AUTO"
        rate, found = stream.average_rate or stream.guessed_rate or 1 / stream.time_base, []
        for number, picture in enumerate(container.decode(stream)):
            assert abs(picture.pts * picture.time_base * rate - number) < Fraction(1, 20), (path, number)
            found.append(read_barcode(picture))
    return found


def audio_of(path: Path, track: int = 0) -> tuple[np.ndarray, int]:
    """The first channel of an audio track as floats, and its sample rate."""
    with av.open(str(path)) as container:
        resampler = av.AudioResampler(format="fltp")
        parts = []
        for sound in container.decode(container.streams.audio[track]):
            parts += [part.to_ndarray()[0] for part in resampler.resample(sound)]
            rate = sound.sample_rate
    return np.concatenate(parts), rate


def assert_holds(
    path: Path, span: Span, rate: FrameRate, *, source: int = 1, sample_slack: int | None = 1
) -> None:
    """The file holds exactly the frames of the span, once each, and ticks on the samples of its ticking frames.

    sample_slack: how far a tick may be off, in samples; None where there is no audio.
    """
    assert frames_of(path) == [(source, frame) for frame in range(span.start, span.end)]
    if sample_slack is None:
        return
    samples, sample_rate = audio_of(path)
    origin = sample_at(span.start, rate, sample_rate)
    sure = (
        sample_at(span.end, rate, sample_rate) - origin - sample_rate // 50
    )  # later ticks may be cut in their rise
    ticks = [sample_at(frame, rate, sample_rate) - origin for frame in tick_frames(span.end, rate)]
    wanted = [tick for tick in ticks if 0 <= tick < sure]
    found = [tick for tick in find_ticks(samples, sample_rate) if tick < sure]
    assert len(found) == len(wanted), (path, found, wanted)
    assert all(abs(a - b) <= sample_slack for a, b in zip(found, wanted, strict=True)), (path, found, wanted)


def decoded_hash(path: Path) -> str:
    """A hash over every decoded picture of a file: equal for two files that show the same to the last bit."""
    found = hashlib.sha256()
    with av.open(str(path)) as container:
        for picture in container.decode(container.streams.video[0]):
            sample_bytes = -(-picture.format.components[0].bits // 8)
            for plane in picture.planes:  # without what lies beside each row, which is anything
                rows = np.frombuffer(plane, np.uint8).reshape(-1, plane.line_size)
                found.update(rows[:, : plane.width * sample_bytes].tobytes())
    return found.hexdigest()


def kinds(notices: list[dict]) -> list[str]:
    """The kinds of warnings or notices as JSON gives them: what they say is tested in one place."""
    return [one["kind"] for one in notices]
