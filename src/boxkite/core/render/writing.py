"""Encoding and muxing one file: streams, tags, timecode, in the order they come."""

from __future__ import annotations

from collections.abc import Iterator
from fractions import Fraction
from pathlib import Path
from typing import Any, cast

import av
from av.audio.frame import AudioFrame
from av.audio.stream import AudioStream
from av.container import OutputContainer
from av.video.frame import VideoFrame
from av.video.stream import VideoStream

from boxkite.core.errors import RenderError
from boxkite.core.picture.chain import PictureChain, colour_tags
from boxkite.core.plan.rows import Row
from boxkite.core.presets.model import Audio, Video
from boxkite.core.timebase import round_fraction, sample_at

_ENCODERS = {"h264": "libx264", "hevc": "libx265", "prores": "prores", "dnxhr": "dnxhd", "ffv1": "ffv1"}
_SOUND_ENCODERS = {
    "aac": "aac",
    "pcm16": "pcm_s16le",
    "pcm24": "pcm_s24le",
    "flac": "flac",
    "opus": "libopus",
}
_PRORES_PROFILES = {"proxy": "0", "lt": "1", "422": "2", "hq": "3"}
_MUXERS = {"mov": "mov", "mp4": "mp4", "mkv": "matroska"}
_INTERLACED_DCT = 1 << 18


def encoder_options(video: Video, rate: Fraction) -> dict[str, str]:
    """The codec library's own options for a preset's picture."""
    options: dict[str, str] = {}
    if video.codec in ("h264", "hevc"):
        options["preset"] = video.speed or "medium"
        if video.bitrate_mbps is None:
            options["crf"] = f"{video.quality if video.quality is not None else 23:g}"
        if video.profile:
            options["profile"] = video.profile
        if video.keyframe_seconds:
            options["g"] = str(max(1, round(Fraction(str(video.keyframe_seconds)) * rate)))
        if video.codec == "hevc":
            options["x265-params"] = "log-level=error"
    elif video.codec == "prores":
        options["profile"] = _PRORES_PROFILES[video.profile or "hq"]
    elif video.codec == "dnxhr":
        options["profile"] = f"dnxhr_{video.profile or 'hq'}"
    elif video.codec == "ffv1":
        options |= {"level": "3", "slicecrc": "1", "slices": "4"}
    return options


def muxer_options(container: str) -> dict[str, str]:
    """The codec library's own options for a container: in MP4 the index goes to the front."""
    return {"movflags": "+faststart"} if container == "mp4" else {}


class FileWriter:
    """Writes one planned file, picture by picture and sound by sound."""

    def __init__(self, row: Row, path: Path, threads: int) -> None:
        """path: where to write, whatever its ending. threads: of the picture encoder, 0 for its own choice."""
        self.row = row
        self.path = path
        self.chain = PictureChain(row)
        self.first_picture: VideoFrame | None = None
        self.last_picture: VideoFrame | None = None
        self._source_picture: VideoFrame | None = None
        self._threads = threads
        preset = row.preset
        self._container: OutputContainer = av.open(
            f"file:{path}", "w", format=_MUXERS[preset.container], options=muxer_options(preset.container)
        )
        self._video: VideoStream | None = None
        self._sounds: list[AudioStream] = []
        self._samples_in: list[int] = []

    def put_picture(self, picture: VideoFrame) -> None:
        """Take the next picture of the span, as decoded."""
        self._source_picture = self._source_picture or picture
        for ready in self.chain.put(picture):
            self._encode(ready)

    def put_sound(self, place: int, sound: AudioFrame) -> None:
        """Take the next sound of one of the row's tracks, by its place among them."""
        self._add_streams()
        stream = self._sounds[place]
        sound.pts = self._samples_in[place]
        sound.time_base = Fraction(1, sound.sample_rate)
        self._samples_in[place] += sound.samples
        self._container.mux(stream.encode(sound))

    def end(self) -> None:
        """Write what the encoders still hold, and the container's end."""
        for ready in self.chain.end():
            self._encode(ready)
        for stream in self._streams():
            self._container.mux(stream.encode(None))
        self._container.close()

    def abandon(self) -> None:
        """Let go of a file that is not going to be finished; its unfinished state is left on disk."""
        try:
            self._container.close()
        except (av.error.FFmpegError, OSError, ValueError):
            pass  # it is thrown away, whatever the library thinks of its state

    def _streams(self) -> Iterator[VideoStream | AudioStream]:
        if self._video is not None:
            yield self._video
        yield from self._sounds

    def _encode(self, picture: VideoFrame) -> None:
        self._add_streams()
        assert self._video is not None
        if self.first_picture is None:
            self.first_picture = picture
        self.last_picture = picture
        try:
            self._container.mux(self._video.encode(picture))
        except av.error.ArgumentError as error:
            raise RenderError(
                f"the {self.row.preset.video.codec} encoder refuses: {error.strerror}"
            ) from None

    def _add_streams(self) -> None:
        """Lay out all streams; the picture's comes first, with the source's colour tags."""
        if self._video is not None or self._source_picture is None:
            return
        row, video = self.row, self.row.preset.video
        rate = row.shot.reel.table.rate.fraction
        options = encoder_options(video, rate)
        stream = cast(
            VideoStream, self._container.add_stream(_ENCODERS[video.codec], rate=rate, options=options)
        )
        context = stream.codec_context
        context.width, context.height = row.geometry.width_px, row.geometry.height_px
        context.pix_fmt = video.written_format
        context.time_base = 1 / rate
        context.sample_aspect_ratio = row.geometry.sample_aspect
        context.thread_count = self._threads
        context.thread_type = "AUTO"
        if video.bitrate_mbps:
            context.bit_rate = round(video.bitrate_mbps * 1_000_000)
        for key, value in colour_tags(self._source_picture).items():
            setattr(context, key, value)
        if video.codec == "hevc" and row.preset.container in ("mp4", "mov"):
            context.codec_tag = "hvc1"
        self._tag_fields(context)
        stream.metadata["timecode"] = str(row.in_timecode)
        if row.shot.reel.source.reel:
            stream.metadata["reel_name"] = row.shot.reel.source.reel
        self._container.metadata["title"] = row.name.rpartition("/")[2]
        self._video = stream
        if row.preset.audio:
            for position in row.sound_tracks:
                self._add_sound(row.preset.audio, position)

    def _tag_fields(self, context: Any) -> None:
        source = self.row.shot.reel.source.video
        if self.row.preset.video.scan == "keep" and source and source.is_interlaced:
            context.flags |= _INTERLACED_DCT
            context.field_order = 2 if source.field_order == "top first" else 3

    def _add_sound(self, audio: Audio, position: int) -> None:
        facts = self.row.shot.reel.source.audio[position]
        name = _SOUND_ENCODERS[audio.codec]
        layout = "stereo" if audio.channels == "stereo" else facts.layout
        added = self._container.add_stream(name, rate=sound_rate(audio, facts.sample_rate_hz), layout=layout)
        stream = cast(AudioStream, added)
        if audio.bitrate_kbps:
            stream.bit_rate = audio.bitrate_kbps * 1000
        self._sounds.append(stream)
        self._samples_in.append(0)


def sound_rate(audio: Audio, source_rate_hz: int) -> int:
    """The sample rate a codec is written with: the source's where the codec takes it, else 48 kHz."""
    taken = av.codec.Codec(_SOUND_ENCODERS[audio.codec], "w").audio_rates
    return source_rate_hz if not taken or source_rate_hz in taken else 48_000


def expected_samples(row: Row, position: int) -> int:
    """Samples a sound track must hold in the finished file."""
    assert row.preset.audio
    facts = row.shot.reel.source.audio[position]
    table = row.shot.reel.table
    start = sample_at(row.span.start, table.rate, facts.sample_rate_hz)
    end = sample_at(row.span.end, table.rate, facts.sample_rate_hz)
    written = sound_rate(row.preset.audio, facts.sample_rate_hz)
    return round_fraction(Fraction((end - start) * written, facts.sample_rate_hz))
