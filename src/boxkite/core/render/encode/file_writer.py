"""Encoding and muxing one file: streams, tags, timecode, in the order they come."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from fractions import Fraction
from functools import partial
from pathlib import Path
from typing import IO, Any, cast

import av
from av.audio.frame import AudioFrame
from av.audio.stream import AudioStream
from av.container import OutputContainer
from av.packet import Packet
from av.video.frame import VideoFrame
from av.video.stream import VideoStream
from msgspec import Struct

from boxkite.core.errors import RenderError
from boxkite.core.notices.files import ENCODER_FELL_BACK
from boxkite.core.notices.notice import Notice
from boxkite.core.picture.chain import PictureChain
from boxkite.core.picture.colour_coding import colour_tags, is_full_range
from boxkite.core.picture.conversion import conversion_of
from boxkite.core.plan.rows import Row
from boxkite.core.presets.audio_tracks import file_tracks, layout_of
from boxkite.core.presets.coding import Audio, Video
from boxkite.core.render.audio_reader import samples_of
from boxkite.core.render.encode.background import Background
from boxkite.core.render.encode.codec_options import (
    AUDIO_ENCODERS,
    MUXERS,
    audio_rate,
    encoder_name,
    encoder_options,
    hardware_encoders,
    muxer_options,
)
from boxkite.core.render.frame_prints import FramePrints
from boxkite.core.render.mixing import AudioChain
from boxkite.core.timebase import Span, round_fraction, sample_at

MOV_KEYS = {key: f"com.apple.quicktime.{key}" for key in ("title", "keywords", "comment")}
"""MOV metadata keys under which players look for these."""
_MOST_EARLY_SECONDS = 60
"""By how much a frame can be decoded before it is shown: encoders hold a few dozen frames."""
_INTERLACED_DCT = 1 << 18


class Prepared(Struct, frozen=True):
    """The results of earlier passes for one file: the encoder's statistics, the gain of each track."""

    stats: tuple[int, str] | None = None
    gains: tuple[float, ...] = ()
    warnings: tuple[Notice, ...] = ()


class FileWriter:
    """Writes one planned file, frame by frame."""

    def __init__(
        self,
        row: Row,
        path: Path,
        threads: int,
        prepared: Prepared | None = None,
        *,
        first: int = 0,
        into: IO[bytes] | None = None,
    ) -> None:
        """path: where to write, whatever its extension. threads: of the picture encoder, 0 for its own choice.

        prepared: what passes before this one found out. first: which of the file's frames the first one put is.
        into: where the container is written instead.
        """
        prepared = prepared or Prepared()
        self.row = row
        self.path = path
        self.chain = PictureChain(conversion_of(row), first=first) if row.preset.video else None
        self.first_frame: VideoFrame | None = None
        self.prints = FramePrints()
        self.last_frame: VideoFrame | None = None
        self._source_picture: VideoFrame | None = None
        self._threads = threads
        self._first = first
        self._background = Background()
        container = row.preset.container
        assert container
        self._container: OutputContainer = av.open(
            into or f"file:{path}", "w", format=MUXERS[container], options=muxer_options(container)
        )
        self._video: VideoStream | None = None
        self._audio_streams: list[AudioStream] = []
        self._samples_in: list[int] = []
        self._stats = prepared.stats
        self._audio_chain = AudioChain(row, prepared.gains) if row.preset.audio else None
        self.warnings: list[Notice] = list(prepared.warnings)

    def put_frame(self, picture: VideoFrame) -> None:
        """Take the next frame of the span, as decoded."""
        self._source_picture = self._source_picture or picture
        assert self.chain
        for ready in self.chain.put(picture):
            if ready is not picture and self._threads != 1:
                self._background.start()  # one that came in as it is goes to other files too: it is encoded first
            self._background.put(partial(self._encode, ready))

    def put_audio(self, place: int, block: AudioFrame) -> None:
        """Take the next audio of one of the row's tracks, by its place among them."""
        if not self._background.is_started:
            self._add_streams()
        assert self._audio_chain
        for track, made in self._audio_chain.put(place, block):
            self._background.put(partial(self._encode_audio, track, made))

    def end(self) -> None:
        """Write what the encoders still hold, and the container's end."""
        for ready in self.chain.end() if self.chain else ():
            self._background.put(partial(self._encode, ready))
        self._background.end()
        for stream in self._streams():
            self._write(stream.encode(None))
        self._container.close()

    def abandon(self) -> None:
        """Let go of a file that is not going to be finished; its unfinished state is left on disk."""
        self._background.abandon()
        try:
            self._container.close()
        except (av.error.FFmpegError, OSError, ValueError):
            pass  # it is thrown away, whatever the library thinks of its state

    def _streams(self) -> Iterator[VideoStream | AudioStream]:
        if self._video is not None:
            yield self._video
        yield from self._audio_streams

    def _encode(self, picture: VideoFrame) -> None:
        self._add_streams()
        assert self._video is not None and self.row.preset.video
        if self.first_frame is None:
            self.first_frame = picture
        self.last_frame = picture
        self.prints.add(picture)
        try:
            self._write(self._video.encode(picture))
        except av.error.ArgumentError as error:
            raise RenderError(
                f"the {self.row.preset.video.codec} encoder does not take these frames"
            ) from error

    def _encode_audio(self, place: int, block: AudioFrame) -> None:
        stream = self._audio_streams[place]
        block.pts = self._samples_in[place]
        block.time_base = Fraction(1, block.sample_rate)
        self._samples_in[place] += block.samples
        self._put_coded(place, stream.encode(block))

    def _put_coded(self, place: int, packets: Sequence[Packet[Any]]) -> None:
        """Take coded audio of a track."""
        self._container.mux(packets)

    def _write(self, packets: Sequence[Packet[Any]]) -> None:
        for packet in self._with_times(packets):
            self._container.mux(packet)

    @staticmethod
    def _with_times(packets: Sequence[Packet[Any]]) -> Iterator[Packet[Any]]:
        """x265 leaves the time of decoding at random in files shorter than its delay."""
        for packet in packets:
            if packet.pts is not None and packet.dts is not None and packet.time_base:
                early = (packet.pts - packet.dts) * packet.time_base
                if not 0 <= early <= _MOST_EARLY_SECONDS:
                    packet.dts = packet.pts
            yield packet

    def _add_streams(self) -> None:
        """Lay out all streams; the picture's comes first, with the source's colour tags."""
        row = self.row
        if self._video is not None or self._audio_streams:
            return
        if row.preset.video:
            if self._source_picture is None:
                return
            self._add_picture(row.preset.video, self._source_picture)
        self._container.metadata.update(_metadata_of(row))
        if row.preset.container == "wav" and row.shot.footage.has_timecode and row.audio_tracks:
            rate_hz = row.audio_source.audio[row.audio_tracks[0]].sample_rate_hz
            start = row.in_timecode
            self._container.metadata["time_reference"] = str(sample_at(start.frame, start.rate, rate_hz))
        self._add_audio_streams()

    def _add_audio_streams(self) -> None:
        audio = self.row.preset.audio
        if audio:
            for positions in file_tracks(audio, self.row.audio_tracks):
                self._add_audio(audio, positions)
            if self.row.is_silent_track:
                self._add_audio_stream(audio, 48_000, "stereo")

    def _add_picture(self, video: Video, source_picture: VideoFrame) -> None:
        row = self.row
        rate = row.rate.fraction
        assert row.geometry
        options = encoder_options(
            video, rate, row.geometry.width_px, self._threads, self._stats, goes_on=self._first > 0
        )
        name = encoder_name(video)
        if video.hardware:
            name, options = self._hardware(video, name, options)
        stream = cast(VideoStream, self._container.add_stream(name, rate=rate, options=options))
        context = stream.codec_context
        prepare_context(context, row, video, source_picture, self._threads)
        if video.codec == "hevc" and row.preset.container in ("mp4", "mov"):
            context.codec_tag = "hvc1"
        self._tag_fields(context, video)
        stream.metadata.update(row.start_timecode.for_file())
        if row.shot.footage.source.reel:
            stream.metadata["reel_name"] = row.shot.footage.source.reel
        self._video = stream

    def _hardware(self, video: Video, name: str, options: dict[str, str]) -> tuple[str, dict[str, str]]:
        """The first encoder outside the CPU that can be opened here; else the one of the CPU, with a warning."""
        for candidate in hardware_encoders(video):
            if encoder_works_here(candidate, self.row, video):
                kept = {key: value for key, value in options.items() if key == "g"}
                return candidate, kept
        self.warnings.append(ENCODER_FELL_BACK(kind=video.hardware, codec=video.codec))
        return name, options

    def _tag_fields(self, context: Any, video: Video) -> None:
        source = self.row.shot.footage.source.video
        assert self.row.geometry
        rotated = self.row.geometry.rotation_degrees  # which makes it progressive
        if video.scan == "keep" and source and source.is_interlaced and not rotated:
            context.flags |= _INTERLACED_DCT
            context.field_order = 2 if source.field_order == "top first" else 3

    def _add_audio(self, audio: Audio, positions: tuple[int, ...]) -> None:
        """A stream for one track of the source, or for several put side by side or mixed."""
        tracks = [self.row.audio_source.audio[position] for position in positions]
        self._add_audio_stream(audio, tracks[0].sample_rate_hz, layout_of(audio, tracks))

    def _add_audio_stream(self, audio: Audio, rate_hz: int, layout: str) -> None:
        name = AUDIO_ENCODERS[audio.codec]
        added = self._container.add_stream(name, rate=audio_rate(self.row.preset, rate_hz), layout=layout)
        stream = cast(AudioStream, added)
        if audio.bitrate_kbps:
            stream.bit_rate = audio.bitrate_kbps * 1000
        self._audio_streams.append(stream)
        self._samples_in.append(0)


def prepare_context(context: Any, row: Row, video: Video, source_picture: VideoFrame, threads: int) -> None:
    """An encoder's parameters other than its options. source_picture: as decoded, for its colour tags."""
    set_picture_options(context, row, video)
    context.thread_count = threads
    context.thread_type = "AUTO"
    if video.bitrate_mbps:
        context.bit_rate = round(video.bitrate_mbps * 1_000_000)
    elif video.codec in ("vp9", "av1"):
        context.bit_rate = 0  # with a bitrate the quality would only be a bound
    for key, value in colour_tags(source_picture, video, context.width, context.height).items():
        setattr(context, key, value)
    if is_full_range(video):
        context.color_range = 2


def encoder_works_here(encoder: str, row: Row, video: Video) -> bool:
    """Whether an encoder exists and takes such frames, found by opening it."""
    try:
        trial: Any = av.CodecContext.create(encoder, "w")
        set_picture_options(trial, row, video)
        trial.open()
    except (av.error.FFmpegError, ValueError, RuntimeError):
        return False
    return True


def _metadata_of(row: Row) -> dict[str, str]:
    """The metadata written into a file: title, keywords, note, scene and take."""
    shot = row.shot
    metadata = {key.casefold(): value for key, value in shot.metadata.items()} if shot.metadata else {}
    texts = {
        "title": row.name.rpartition("/")[2],
        "keywords": ", ".join(shot.keywords) or metadata.get("keywords", ""),
        "comment": shot.note or metadata.get("note", ""),
        "clip": shot.clip_name,
        "scene": metadata.get("scene", ""),
        "take": metadata.get("take", ""),
    }
    named = MOV_KEYS if row.preset.container == "mov" else {}
    return {named.get(key, key): _as_utf8(value) for key, value in texts.items() if value}


def _as_utf8(text: str) -> str:
    """A text that containers take: odd bytes of file names become the character for what cannot be shown."""
    return text.encode("utf-8", "replace").decode()


def set_picture_options(context: Any, row: Row, video: Video) -> None:
    """Size, pixel format, time and pixel aspect of an encoder."""
    assert row.geometry
    context.width, context.height = row.geometry.width_px, row.geometry.height_px
    context.pix_fmt = video.written_format
    context.time_base = 1 / row.rate.fraction
    context.sample_aspect_ratio = row.geometry.sample_aspect


def expected_samples(row: Row, span: Span, position: int) -> int:
    """Samples an audio track must hold in the finished file, of so many frames."""
    assert row.preset.audio
    info = row.audio_source.audio[position]
    start, end = samples_of(row.shot.footage, span, info)
    written = audio_rate(row.preset, info.sample_rate_hz)
    return round_fraction(Fraction((end - start) * written, info.sample_rate_hz))
