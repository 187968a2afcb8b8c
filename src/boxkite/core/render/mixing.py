"""From the audio of a source's tracks to the tracks of a file: side by side, mixed, in another layout, louder."""

from __future__ import annotations

from collections.abc import Iterator

import av
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
        self._buffer = None
        if self._merged or self._mixed:
            from boxkite.core.render.audio_blocks import (
                TrackBuffer,  # NumPy, here as below only where it is needed
            )

            self._buffer = TrackBuffer(len(row.audio_tracks))
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
            from boxkite.core.render.audio_blocks import named

            block = named(block, layout)
            if block.layout.name == layout and not self._mixed:
                return [block]
        if place not in self._resamplers:
            self._resamplers[place] = av.AudioResampler(format="flt", layout=layout, rate=block.sample_rate)
        return self._resamplers[place].resample(block)

    def _join(self, place: int, block: AudioFrame) -> Iterator[tuple[int, AudioFrame]]:
        if self._buffer is None:
            yield place, self._louder(place, block)
            return
        from boxkite.core.render.audio_blocks import mixed, side_by_side

        layout = self._layouts[0]
        for tracks, rate in self._buffer.put(place, block, "flt" if self._mixed else "s32"):
            if self._mixed:
                yield 0, self._louder(0, mixed(tracks, layout, rate))
            else:
                for part in self._in_layout(0, side_by_side(tracks, rate), layout):
                    yield 0, self._louder(0, part)

    def _louder(self, place: int, block: AudioFrame) -> AudioFrame:
        gain = self._gains[place] if self._gains else 1.0
        if gain == 1.0:
            return block
        from boxkite.core.render.audio_blocks import louder

        return louder(block, gain)


def silence(samples: int) -> AudioFrame:
    """Stereo silence at 48 kHz, for files that need a track and have no audio."""
    frame = AudioFrame(format="flt", layout="stereo", samples=samples)
    for plane in frame.planes:
        plane.update(bytes(plane.buffer_size))
    frame.sample_rate = _SILENCE_HZ
    return frame
