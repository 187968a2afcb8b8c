"""The first of two passes: the encoder looks at every frame and leaves notes for the second."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import av
from av.audio.frame import AudioFrame
from av.video.frame import VideoFrame

from boxkite.core.errors import RenderError
from boxkite.core.notices.notice import Notice
from boxkite.core.picture.chain import PictureChain
from boxkite.core.picture.conversion import conversion_of
from boxkite.core.plan.rows import Row
from boxkite.core.render.encode.codec_options import ENCODERS, encoder_options
from boxkite.core.render.encode.file_writer import set_picture_options
from boxkite.core.render.frame_prints import FramePrints


class FirstPass:
    """Takes the frames of a row as its file will, and keeps nothing but the encoder's notes."""

    def __init__(self, row: Row, threads: int, notes: Path) -> None:
        """notes: where the encoder leaves them."""
        assert row.preset.video
        video = row.preset.video
        self.chain = PictureChain(conversion_of(row))
        self.first_frame: VideoFrame | None = None
        self.prints = FramePrints()
        self.last_frame: VideoFrame | None = None
        self.warnings: list[Notice] = []
        context: Any = av.CodecContext.create(ENCODERS[video.codec], "w")
        set_picture_options(context, row, video)
        context.framerate = row.rate.fraction
        context.bit_rate = round((video.bitrate_mbps or 0) * 1_000_000)
        context.options = encoder_options(video, row.rate.fraction, context.width, threads, (1, str(notes)))
        context.thread_count = threads
        context.thread_type = "AUTO"
        self._context = context

    def put_frame(self, picture: VideoFrame) -> None:
        """Take the next frame, as decoded."""
        for ready in self.chain.put(picture):
            self._encode(ready)

    def put_audio(self, place: int, block: AudioFrame) -> None:
        """Audio is of no use here."""

    def end(self) -> None:
        """Let the encoder write its notes."""
        for ready in self.chain.end():
            self._encode(ready)
        self._encode(None)
        self._context = None  # the encoder writes its notes when it goes

    def abandon(self) -> None:
        """Let go of it."""
        self._context = None

    def _encode(self, picture: VideoFrame | None) -> None:
        try:
            self._context.encode(picture)
        except av.error.FFmpegError as error:
            if not isinstance(error, av.error.EOFError):
                raise RenderError("the encoder does not take these frames") from error
