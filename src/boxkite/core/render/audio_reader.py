"""Reading the audio of a span cut to the sample: every track, silence where the source has none."""

from __future__ import annotations

from collections.abc import Iterator
from fractions import Fraction
from itertools import dropwhile
from typing import cast

import av
from av.audio.frame import AudioFrame
from av.audio.stream import AudioStream
from av.packet import Packet
from msgspec import Struct, field

from boxkite.core.errors import DamagedError
from boxkite.core.footage.opening import LISTS_ALL, TIMED_BY_READING, KeptSource, open_source
from boxkite.core.footage.source import AudioInfo
from boxkite.core.shots.shot import IndexedSource
from boxkite.core.timebase import Span, round_fraction, sample_at

_BEGINNING_SECONDS = Fraction(1, 4)
_LEAD_SECONDS, _LEAD_OF_PCM_SECONDS = Fraction(1, 2), Fraction(1, 20)
"""Read before the wanted sample: decoders of lossy codecs need some frames to settle."""


class _Track(Struct):
    stream: AudioStream
    info: AudioInfo
    start: int
    end: int
    reached: int
    next_sample: int | None = None
    ready: list[AudioFrame] = field(default_factory=list)
    silence_samples: int = 0
    missing_samples: int = 0
    """Of the silence, those at the end, where the file has no more."""


def samples_of(footage: IndexedSource, span: Span, info: AudioInfo) -> tuple[int, int]:
    """The first sample of a span and the first after it; audio without a picture ends where it ends."""
    start = sample_at(span.start, footage.frame_index.rate, info.sample_rate_hz)
    end = sample_at(span.end, footage.frame_index.rate, info.sample_rate_hz)
    if footage.source.video is None:
        end = max(start, min(end, round_fraction(footage.source.duration * info.sample_rate_hz)))
    return start, end


class AudioReader:
    """The audio of a span. Sample 0 of each track is the moment its source's frame 0 begins."""

    def __init__(
        self,
        footage: IndexedSource,
        span: Span,
        tracks: tuple[int, ...],
        *,
        accept_damaged: bool = False,
        kept: KeptSource | None = None,
    ) -> None:
        """tracks: which audio streams, by position. accept_damaged: what cannot be decoded is silence.

        kept: a source that may be this one, and is kept for the next span, where decoders remember nothing.

        Raises FootageError when the source has gone.
        """
        self._footage = footage
        self._accept_damaged = accept_damaged
        source = footage.audio_source
        self._zero = (
            footage.sound.begins
            if footage.sound
            else footage.frame_index.first_pts * footage.frame_index.time_base
        )
        self._is_found_alone = bool(tracks) and LISTS_ALL in source.container  # not by the picture's keyframe
        self._is_pcm = all(source.audio[position].codec.startswith("pcm_") for position in tracks)
        self._kept = kept if self._is_found_alone and self._is_pcm else None
        near = self._kept.take(source) if self._kept else None
        self._opened = near or open_source(source)
        self._container = self._opened.container
        self._tracks: list[_Track] = []
        self._at_end = self._is_damaged = False
        for position in tracks:
            info = source.audio[position]
            start, end = samples_of(footage, span, info)
            self._tracks.append(_Track(self._container.streams.audio[position], info, start, end, start))
        self._packets = self._seek(span, is_at_start=near is None)

    def close(self) -> None:
        """Let go of the file, or keep it. Raises ChangedError."""
        if self._kept and not self._is_damaged:
            self._kept.keep(self._footage.audio_source, self._opened)
        else:
            self._opened.close()

    @property
    def silence_samples(self) -> int:
        """The most samples that had to be filled with silence on any track."""
        return max((track.silence_samples for track in self._tracks), default=0)

    @property
    def missing_seconds(self) -> list[float]:
        """How much earlier than it should each track ends."""
        return [track.missing_samples / track.info.sample_rate_hz for track in self._tracks]

    def until(self, frame: int) -> Iterator[tuple[int, AudioFrame]]:
        """Yield (place in the list of tracks, audio) up to the moment a frame begins, in order, without gaps.

        Raises DamagedError when audio inside the span cannot be decoded.
        """
        for track in self._tracks:
            wanted = min(
                sample_at(frame, self._footage.frame_index.rate, track.info.sample_rate_hz), track.end
            )
            while track.reached < wanted and not self._at_end:
                self._read_packet()
            if track.reached < wanted:
                track.missing_samples += wanted - track.reached
                self._fill(track, wanted)
        for place, track in enumerate(self._tracks):
            for block in track.ready:
                yield place, block
            track.ready.clear()

    def _seek(self, span: Span, *, is_at_start: bool) -> Iterator[Packet[AudioStream]]:
        streams = tuple(track.stream for track in self._tracks)
        lead = _LEAD_OF_PCM_SECONDS if self._is_found_alone and self._is_pcm else _LEAD_SECONDS
        seconds = self._zero + self._footage.frame_index.rate.seconds(span.start) - lead
        start_time = self._container.start_time
        begins = Fraction(start_time, av.time_base) if start_time is not None else Fraction(0)
        packets = cast("Iterator[Packet[AudioStream]]", self._container.demux(*streams))
        if self._container.format.name == TIMED_BY_READING:
            if seconds <= begins:
                return packets  # also of a file that tells no times at all
            return dropwhile(
                lambda packet: packet.pts is None or packet.pts * packet.time_base < seconds, packets
            )
        if seconds > begins or not is_at_start:
            seconds = max(seconds, begins)
            try:
                if self._is_found_alone and (base := streams[0].time_base):
                    self._container.seek(int(seconds / base), stream=streams[0])
                else:
                    self._container.seek(int(seconds * av.time_base))
            except av.error.FFmpegError:
                self._container.seek(0)
        return packets

    def _read_packet(self) -> None:
        packet = next(self._packets, None)
        if packet is None:
            self._at_end = True
            return
        track = next(track for track in self._tracks if track.stream.index == packet.stream.index)
        try:
            blocks = packet.decode()
        except av.error.EOFError:
            return
        except av.error.FFmpegError as error:
            self._is_damaged = True
            if (
                self._is_wanted(track, packet)
                and not self._accept_damaged
                and not self._begins(track, packet)
            ):
                raise DamagedError("the audio is damaged") from error
            return
        for block in blocks:
            self._take(track, block)

    def _begins(self, track: _Track, packet: Packet[AudioStream]) -> bool:
        """Whether a packet is among the first of its stream: MP3 that was cut needs bytes of frames before it."""
        if track.next_sample is not None:
            return False
        if packet.pts is None or packet.time_base is None:
            return True
        after = (packet.pts - (track.stream.start_time or 0)) * packet.time_base
        return after <= _BEGINNING_SECONDS

    def _is_wanted(self, track: _Track, packet: Packet[AudioStream]) -> bool:
        if packet.pts is None:
            return True
        sample = self._sample_of(track, packet.pts, packet.time_base)
        return track.start <= sample < track.end

    def _sample_of(self, track: _Track, pts: int, time_base: Fraction) -> int:
        """The sample of a moment; fractions written out, as this is asked for every packet."""
        zero, rate_hz = self._zero, track.info.sample_rate_hz
        ticks = pts * time_base.numerator * zero.denominator - zero.numerator * time_base.denominator
        divisor = 2 * time_base.denominator * zero.denominator
        return (2 * ticks * rate_hz + divisor // 2) // divisor

    def _position(self, track: _Track, block: AudioFrame) -> int:
        """The sample at which decoded audio begins: by its time, but unbroken where times are only rounded."""
        expected = track.next_sample
        if block.pts is None or block.time_base is None:
            return expected if expected is not None else track.start
        sample = self._sample_of(track, block.pts, block.time_base)
        if expected is not None and abs(sample - expected) <= 2:
            return expected
        tick = round_fraction(block.time_base * track.info.sample_rate_hz, "up")
        if expected is not None and abs(sample - expected) <= tick:
            return expected
        if tick > 1:
            # Times in milliseconds: codecs' frames are of one length and counted from the stream's start.
            begin = track.stream.start_time or 0
            first = self._sample_of(track, begin, block.time_base)
            on_grid = first + round((sample - first) / max(1, block.samples)) * block.samples
            if abs(on_grid - sample) <= tick:
                return on_grid
        return sample

    def _take(self, track: _Track, block: AudioFrame) -> None:
        position = self._position(track, block)
        track.next_sample = position + block.samples
        if block.rate != track.info.sample_rate_hz:
            raise DamagedError(
                f"the audio changes its sample rate from {track.info.sample_rate_hz} to {block.rate}"
            )
        if position > track.reached and position < track.end:
            self._fill(track, position)
        first = max(track.reached, position) - position
        last = min(track.end, position + block.samples) - position
        if first >= last:
            return
        track.ready.append(_part_of(_alike(track, block), first, last))
        track.reached = position + last

    def _fill(self, track: _Track, until: int) -> None:
        """Silence up to a sample."""
        missing = until - track.reached
        track.silence_samples += missing
        while missing > 0:
            samples = min(missing, 48_000)
            silence = AudioFrame(format=_kept_format(track), layout=track.info.layout, samples=samples)
            for plane in silence.planes:
                plane.update(bytes(plane.buffer_size))
            silence.sample_rate = track.info.sample_rate_hz
            track.ready.append(silence)
            missing -= samples
        track.reached = until


def _kept_format(track: _Track) -> str:
    """The sample format a track is handed on in: its decoder's, interleaved where there are many channels.

    PyAV reaches only the first eight planes of planar audio, and not all of them safely.
    """
    decoded = track.stream.codec_context.format
    return decoded.packed.name if track.info.channels >= 8 else decoded.name


def _alike(track: _Track, block: AudioFrame) -> AudioFrame:
    """The audio in the format and layout its track began with, whatever the stream does midway."""
    wanted = (_kept_format(track), track.info.layout)
    if (block.format.name, block.layout.name) == wanted:
        return block
    return av.AudioResampler(format=wanted[0], layout=wanted[1], rate=block.rate).resample(block)[0]


def _part_of(block: AudioFrame, first: int, last: int) -> AudioFrame:
    """Samples first … last of decoded audio; the audio itself when that is all of it."""
    if first == 0 and last == block.samples:
        return block
    part = AudioFrame(format=block.format.name, layout=block.layout.name, samples=last - first)
    step = block.format.bytes * (1 if block.format.is_planar else len(block.layout.channels))
    for plane, whole in zip(part.planes, block.planes, strict=True):
        content = memoryview(whole)
        plane.update(bytes(content[first * step : last * step]).ljust(plane.buffer_size, b"\0"))
    part.sample_rate = block.sample_rate
    return part
