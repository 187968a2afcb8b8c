"""Writing drawn footage to files of every ordinary kind."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from fractions import Fraction
from pathlib import Path
from typing import cast

import av
import numpy as np
from av.audio.frame import AudioFrame
from av.audio.stream import AudioStream
from av.video.frame import VideoFrame
from av.video.stream import VideoStream

from boxkite.core.timebase import FrameRate
from boxkite.demo.pictures import Place, draw_picture
from boxkite.demo.ticks import draw_audio

LONG_GOP = {"preset": "ultrafast", "crf": "18", "g": "100", "bf": "2", "b-adapt": "0"}


@dataclass(frozen=True)
class Movie:
    """A file of drawn footage to be written."""

    path: Path
    frames: int
    rate: FrameRate
    scenes: Sequence[tuple[int, Place]]
    """(first frame, place) in order."""
    source: int = 1
    """Its number in the bar code."""
    width: int = 1280
    height: int = 720
    timecode: str = ""
    reel: str = ""
    encoder: str = "libx264"
    options: dict[str, str] = field(default_factory=lambda: dict(LONG_GOP))
    pixel_format: str = "yuv420p"
    audio_codec: str = "pcm_s16le"
    audio_tracks: int = 1
    """How many, each of the layout; 0 for none."""
    layout: str = "stereo"
    sample_rate: int = 48_000
    turn_degrees: int = 0
    sample_aspect: Fraction = Fraction(1)
    times: Sequence[int] | None = None
    """Presentation times in milliseconds instead of a constant rate."""
    chapters: Sequence[tuple[int, str]] = ()
    """(first frame, name)."""
    picture_at: Callable[[int], VideoFrame] | None = None
    """A function that draws each frame, instead of scenes and source."""


def write_movie(movie: Movie, progress: Callable[[int], None] = lambda _: None) -> None:
    """Draw, encode and write a movie. progress gets the number of frames done."""
    rate = movie.rate.fraction
    with av.open(str(movie.path), "w") as container:
        options = dict(movie.options)
        stream = cast(VideoStream, container.add_stream(movie.encoder, rate=rate, options=options))
        stream.width, stream.height, stream.pix_fmt = movie.width, movie.height, movie.pixel_format
        context = stream.codec_context
        context.thread_type = "AUTO"
        context.time_base = Fraction(1, 1000) if movie.times else 1 / rate
        context.sample_aspect_ratio = movie.sample_aspect
        context.colorspace, context.color_primaries, context.color_trc, context.color_range = 1, 1, 1, 1
        if movie.timecode:
            stream.metadata["timecode"] = movie.timecode
        if movie.reel:
            stream.metadata["reel_name"] = movie.reel
        if movie.turn_degrees:
            stream.set_display_rotation(movie.turn_degrees)
        if movie.chapters:
            _set_chapters(container, movie)
        audio_streams = [
            cast(
                AudioStream,
                container.add_stream(movie.audio_codec, rate=movie.sample_rate, layout=movie.layout),
            )
            for _ in range(movie.audio_tracks)
        ]
        channels = len(av.AudioLayout(movie.layout).channels)
        wave = draw_audio(movie.frames, movie.rate, movie.sample_rate) if audio_streams else np.zeros(0)
        reached = 0
        for number in range(movie.frames):
            picture = _draw(movie, number)
            if movie.pixel_format != "yuv420p":
                picture = picture.reformat(format=movie.pixel_format)
            picture.pts = movie.times[number] if movie.times else number
            picture.time_base = context.time_base
            container.mux(stream.encode(picture))
            until = len(wave) * (number + 1) // movie.frames
            for audio_stream in audio_streams:
                if until > reached:
                    container.mux(
                        audio_stream.encode(_audio_block(wave[reached:until], channels, reached, movie))
                    )
            reached = until
            progress(number + 1)
        container.mux(stream.encode(None))
        for audio_stream in audio_streams:
            container.mux(audio_stream.encode(None))


def _draw(movie: Movie, frame: int) -> VideoFrame:
    if movie.picture_at:
        return movie.picture_at(frame)
    return draw_picture(_place(movie, frame), movie.source, frame, movie.width, movie.height)


def _place(movie: Movie, frame: int) -> Place:
    return next(place for first, place in reversed(movie.scenes) if first <= frame)


def _audio_block(samples: np.ndarray, channels: int, start: int, movie: Movie) -> AudioFrame:
    values = np.repeat(samples.astype(np.float32), channels)[None, :]
    block = AudioFrame.from_ndarray(np.ascontiguousarray(values), format="flt", layout=movie.layout)
    block.sample_rate = movie.sample_rate
    block.pts = start
    block.time_base = Fraction(1, movie.sample_rate)
    return block


def _set_chapters(container: av.container.OutputContainer, movie: Movie) -> None:
    ends = [first for first, _ in movie.chapters[1:]] + [movie.frames]
    container.set_chapters(
        [
            {
                "id": index,
                "start": round(movie.rate.seconds(first) * 1000),
                "end": round(movie.rate.seconds(end) * 1000),
                "time_base": Fraction(1, 1000),
                "metadata": {"title": name},
            }
            for index, ((first, name), end) in enumerate(zip(movie.chapters, ends, strict=True))
        ]
    )
