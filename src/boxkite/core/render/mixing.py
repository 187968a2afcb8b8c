"""From the audio of a source's tracks to the tracks of a file: side by side, mixed, in another layout, louder."""

from __future__ import annotations

from collections.abc import Iterator
from math import sqrt
from typing import Any

import av
import numpy as np
from av.audio.frame import AudioFrame

from boxkite.core.plan.rows import Row
from boxkite.core.presets.audio_tracks import file_tracks, layout_of
from boxkite.core.presets.codecs import is_unsaid

_SILENCE_HZ = 48_000


class AudioChain:
    """Takes the audio of a row's tracks, in order and without gaps, and gives out that of its file's tracks.

    gains: factors, one for each track of the file. Several tracks are mixed at equal power: their sum, divided
    by the square root of their number; so are channels of which the file does not say what they are.
    """

    def __init__(self, row: Row, gains: tuple[float, ...] = ()) -> None:
        audio = row.preset.audio
        assert audio
        self._gains = gains
        several = len(row.audio_tracks) > 1
        self._mixed = several and audio.tracks == "mixed"
        self._merged = several and audio.tracks == "merged"
        self._buffer = _Buffer(len(row.audio_tracks)) if self._merged or self._mixed else None
        tracks = row.audio_source.audio
        self._layouts = [
            layout_of(audio, [tracks[place] for place in places])
            for places in file_tracks(audio, row.audio_tracks)
        ] or ["stereo"]  # of silence
        self._resamplers: dict[int, av.AudioResampler] = {}

    def put(self, place: int, block: AudioFrame) -> Iterator[tuple[int, AudioFrame]]:
        """Take the next audio of one of the row's tracks, by its place among them; yield (file's track, audio)."""
        if self._merged:
            yield from self._join(place, block)
            return
        for part in self._in_layout(place, block, self._layouts[0 if self._mixed else place]):
            yield from self._join(place, part)

    def _in_layout(self, place: int, block: AudioFrame, layout: str) -> list[AudioFrame]:
        if block.layout.name == layout and not self._mixed:
            return [block]
        if is_unsaid(block.layout.name):
            block = _named(block, layout)
            if block.layout.name == layout and not self._mixed:
                return [block]
        if place not in self._resamplers:
            self._resamplers[place] = av.AudioResampler(format="flt", layout=layout, rate=block.sample_rate)
        return self._resamplers[place].resample(block)

    def _join(self, place: int, block: AudioFrame) -> Iterator[tuple[int, AudioFrame]]:
        if self._buffer is None:
            yield place, self._louder(place, block)
            return
        layout = self._layouts[0]
        for parts, rate in self._buffer.put(place, block, "flt" if self._mixed else "s32"):
            if self._mixed:
                yield 0, self._louder(0, as_block(sum(parts) / sqrt(len(parts)), layout, rate))
            else:
                samples = np.concatenate(parts, axis=1)
                whole = as_block(samples, f"{samples.shape[1]} channels", rate)
                for part in self._in_layout(0, whole, layout):
                    yield 0, self._louder(0, part)

    def _louder(self, place: int, block: AudioFrame) -> AudioFrame:
        gain = self._gains[place] if self._gains else 1.0
        if gain == 1.0:
            return block
        changed = []
        for part in av.AudioResampler(
            format="flt", layout=block.layout.name, rate=block.sample_rate
        ).resample(block):
            changed.append(interleaved(part) * np.float32(gain))
        return as_block(np.concatenate(changed), block.layout.name, block.sample_rate)


class _Buffer:
    """Holds the audio of several tracks until all of them have the samples."""

    def __init__(self, count: int) -> None:
        self._waiting: list[list[np.ndarray]] = [[] for _ in range(count)]

    def put(self, place: int, block: AudioFrame, kind: str) -> Iterator[tuple[list[Any], int]]:
        """Take the next audio of one track; give out (samples by channels of each track, sample rate)."""
        even = av.AudioResampler(format=kind, layout=block.layout.name, rate=block.sample_rate)
        self._waiting[place] += [interleaved(part) for part in even.resample(block)]
        ready = min(sum(len(part) for part in parts) for parts in self._waiting)
        if not ready:
            return
        columns = []
        for index, parts in enumerate(self._waiting):
            whole = np.concatenate(parts)
            columns.append(whole[:ready])
            self._waiting[index] = [whole[ready:]]
        yield columns, block.sample_rate


def _named(block: AudioFrame, layout: str) -> AudioFrame:
    """Audio with only a number of channels, in a named layout.

    One or two channels are mono or stereo, as many as the layout has are those, others are mixed to both sides.
    """
    channels = len(block.layout.channels)
    wanted = layout if is_unsaid(layout) else {1: "mono", 2: "stereo"}.get(channels, layout)
    if is_unsaid(wanted):
        return block
    (packed,) = av.AudioResampler(format="flt", layout=block.layout.name, rate=block.sample_rate).resample(
        block
    )
    samples = interleaved(packed)
    if channels != len(av.AudioLayout(wanted).channels):
        mixed = samples.sum(axis=1, keepdims=True, dtype=np.float32) / np.float32(sqrt(channels))
        samples, wanted = np.repeat(mixed, 2, axis=1), "stereo"
    return as_block(samples, wanted, block.sample_rate)


def interleaved(block: AudioFrame) -> np.ndarray:
    """Samples by channels, of audio whose format is interleaved."""
    samples: np.ndarray = block.to_ndarray()
    return samples.reshape(-1, len(block.layout.channels))


def as_block(samples: np.ndarray, layout: str, rate_hz: int) -> AudioFrame:
    """A frame of audio from samples by channels, float32 or int32."""
    kind = "flt" if samples.dtype == np.float32 else "s32"
    frame = AudioFrame.from_ndarray(np.ascontiguousarray(samples.reshape(1, -1)), format=kind, layout=layout)
    frame.sample_rate = rate_hz
    return frame


def silence(samples: int) -> AudioFrame:
    """Stereo silence at 48 kHz, for files that need a track and have no audio."""
    return as_block(np.zeros((samples, 2), np.float32), "stereo", _SILENCE_HZ)
