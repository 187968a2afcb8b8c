"""Feeding the files of one decode group: one decode, and its frames and audio handed on to each."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import Protocol

from av.audio.frame import AudioFrame
from av.video.frame import VideoFrame
from msgspec import Struct, field

from boxkite.core.errors import BoxkiteError
from boxkite.core.files.moving import discard
from boxkite.core.footage.decoding import Damage, KeptDecoder
from boxkite.core.notices.files import SILENCE_FILLED
from boxkite.core.notices.notice import Notice
from boxkite.core.plan.rows import Row, group_span
from boxkite.core.render.failures import failed
from boxkite.core.render.frame_prints import FramePrints
from boxkite.core.render.inputs import frames_until, open_audio, open_frames
from boxkite.core.render.mixing import silence
from boxkite.core.render.result import Result
from boxkite.core.timebase import Span, sample_at

Progress = Callable[[int], None]
SILENT_HZ = 48_000
"""Of a silent track."""


class Writer(Protocol):
    """A writer makes a file, or a folder of images, from frames and audio."""

    first_frame: VideoFrame | None
    last_frame: VideoFrame | None
    prints: FramePrints
    warnings: list[Notice]

    def put_frame(self, frame: VideoFrame) -> None:
        """Take the next frame, as decoded."""

    def put_audio(self, place: int, block: AudioFrame) -> None:
        """Take the next audio of one of the row's tracks."""

    def end(self) -> None:
        """Write what is still held, and the end."""

    def abandon(self) -> None:
        """Let go of what is not going to be finished."""


class FileBeingMade(Struct):
    """One file while it is made."""

    row: Row
    partial: Path
    writer: Writer
    span: Span
    """The frames of the source it takes: the row's, or a chunk of those."""
    reached: int = -1
    """The source's frame up to which it has its frames; its first while there are none."""
    begun: float = field(default_factory=time.monotonic)
    failure: Result | None = None
    warnings: list[Notice] = field(default_factory=list)

    def __post_init__(self) -> None:
        self.reached = max(self.reached, self.span.start)

    def fail(self, error: Exception) -> None:
        """Give it up, and remove what there is of it."""
        self.failure = failed(self.row, error)
        self.writer.abandon()
        discard(self.partial)

    def attempt(self, act: Callable[..., None], *what: object) -> None:
        """Do something with the writer; where that fails this file is given up, and the others go on."""
        if not self.failure:
            try:
                act(*what)
            except (BoxkiteError, OSError, ValueError) as error:
                self.fail(error)

    def put_frame(self, number: int, frame: VideoFrame) -> None:
        """Hand over the picture of a source's frame, as often as the row's rate asks."""
        if self.failure or not self.span.start <= number < self.span.end:
            return
        self.reached = number + 1
        times = 1
        if self.row.preset.frame_rate:
            place = number - self.row.span.start
            times = frames_until(self.row, place + 1) - frames_until(self.row, place)
        for _ in range(times):
            self.attempt(self.writer.put_frame, frame)

    @property
    def held(self) -> Span:
        """The frames of the source it has its frames of."""
        return Span(self.span.start, self.reached)


class _AudioFeed:
    """The audio of one span, for all files that hold just that span of just that source."""

    def __init__(self, files: Sequence[FileBeingMade], span: Span, kept: KeptDecoder | None) -> None:
        self.files = files
        self.span = span
        row = files[0].row
        self.tracks = tuple(sorted({track for file in files for track in file.row.audio_tracks}))
        self.reader = open_audio(row, span, self.tracks, kept)

    def until(self, frame: int) -> None:
        """Hand on what is heard before a frame."""
        if frame <= self.span.start:
            return
        for place, block in self.reader.until(min(frame, self.span.end)):
            track = self.tracks[place]
            for file in self.files:
                if track in file.row.audio_tracks:
                    own = file.row.audio_tracks.index(track)
                    file.attempt(file.writer.put_audio, own, block)

    def close(self) -> None:
        """Say how much silence there was, and let go of the file."""
        if self.reader.silence_samples > 1:
            for file in self.files:
                file.warnings.append(SILENCE_FILLED(samples=self.reader.silence_samples))
        self.reader.close()


def open_audio_feeds(files: Sequence[FileBeingMade], kept: KeptDecoder | None = None) -> list[_AudioFeed]:
    """A reader for each span that files take audio from: cut to its own samples. kept: as feed takes it."""
    by_span: dict[tuple[Span, int], list[FileBeingMade]] = {}
    for file in files:
        if file.row.audio_tracks:
            by_span.setdefault((file.span, id(file.row.shot.sound)), []).append(file)
    return [_AudioFeed(sharing, span, kept) for (span, _), sharing in by_span.items()]


def feed(
    files: Sequence[FileBeingMade],
    threads: int,
    progress: Progress,
    damage: Damage,
    *,
    with_audio: bool = True,
    chunk: Span | None = None,
    kept: KeptDecoder | None = None,
) -> None:
    """Decode the group's frames once and pass frames and audio on to each file that has not failed.

    chunk: the frames that all of them take, where that is a part of what their rows hold. kept: see read_frames.
    """
    if not files:
        return
    rows = [file.row for file in files]
    span = chunk or group_span(rows)
    feeds = open_audio_feeds(files, kept) if with_audio else []
    with_picture = [file for file in files if file.row.preset.video]
    try:
        frames = (
            open_frames(rows, span, threads, damage, kept)
            if with_picture
            else frames_for_audio(rows[0], span)
        )
        for number, frame in frames:
            if frame:
                for file in with_picture:
                    file.put_frame(number, frame)
            for one in feeds:
                one.until(number + 1)
            if with_audio:
                put_silence(files, number + 1)
            progress(number + 1 - span.start)
            if all(file.failure for file in files):
                return
        for file in files:
            if not file.row.preset.video:
                file.reached = file.span.end
            file.attempt(file.writer.end)
    finally:
        for one in feeds:
            one.close()


def frames_for_audio(row: Row, span: Span) -> Iterator[tuple[int, None]]:
    """Where only audio is made: about one frame number a second, and the last."""
    step = row.shot.footage.frame_index.rate.nominal
    yield from ((number, None) for number in range(span.start, span.end - 1, step))
    yield span.end - 1, None


def put_silence(files: Sequence[FileBeingMade], frame: int) -> None:
    """Silence up to a frame, for files that need a track and have no audio."""
    for file in files:
        span, rate = file.row.span, file.row.shot.footage.frame_index.rate
        if file.row.is_silent_track and span.start < frame <= span.end:
            samples = sample_at(frame, rate, SILENT_HZ) - sample_at(frame - 1, rate, SILENT_HZ)
            file.attempt(file.writer.put_audio, 0, silence(samples))
