"""Writing numbered images into a folder, each a separate file."""

from __future__ import annotations

import random
import time
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, cast

import av
from av.video.codeccontext import VideoCodecContext
from av.video.frame import VideoFrame

from boxkite.core.errors import RenderError, VerificationError
from boxkite.core.naming.images import FRAME_MARK
from boxkite.core.notices.notice import Notice
from boxkite.core.picture.chain import PictureChain
from boxkite.core.picture.colour_coding import is_full_range
from boxkite.core.picture.conversion import conversion_of
from boxkite.core.plan.rows import Row
from boxkite.core.presets.codecs import IMAGE_EXTENSIONS
from boxkite.core.render.encode.background import Background
from boxkite.core.render.encode.codec_options import ENCODERS, encoder_options
from boxkite.core.render.encode.file_writer import set_picture_options
from boxkite.core.render.frame_prints import FramePrints
from boxkite.core.render.result import Verification
from boxkite.core.render.thumbnails import compare_thumbnails
from boxkite.core.render.verifying import MOST_SAMPLED, SAMPLE_SHARE, Expected

if TYPE_CHECKING:
    from av.audio.frame import AudioFrame


class ImageWriter:
    """Writes one planned sequence of images, picture by picture."""

    def __init__(self, row: Row, folder: Path, threads: int) -> None:
        """folder: where to write, made if need be. threads: where it is 1, frames are coded between the others."""
        assert row.preset.video
        self.row = row
        self.folder = folder
        self.chain = PictureChain(conversion_of(row))
        self.first_frame: VideoFrame | None = None
        self.prints = FramePrints()
        self.last_frame: VideoFrame | None = None
        self.warnings: list[Notice] = []
        self._video = row.preset.video
        self._context: VideoCodecContext | None = None
        self._count = 0
        self._threads = threads
        self._background = Background()
        folder.mkdir(exist_ok=True)

    def put_frame(self, picture: VideoFrame) -> None:
        """Take the next frame of the span, as decoded."""
        for ready in self.chain.put(picture):
            if ready is not picture and self._threads != 1:
                self._background.start()
            self._background.put(partial(self._write, ready))

    def put_audio(self, place: int, block: AudioFrame) -> None:
        """Images hold no audio."""

    def end(self) -> None:
        """Write what is still held."""
        for ready in self.chain.end():
            self._background.put(partial(self._write, ready))
        self._background.end()
        if self._context:
            for packet in self._context.encode(None):
                self._save(bytes(packet))

    def abandon(self) -> None:
        """Let go of a sequence that is not going to be finished."""
        self._background.abandon()

    def _write(self, picture: VideoFrame) -> None:
        if self.first_frame is None:
            self.first_frame = picture
        self.last_frame = picture
        self.prints.add(picture)
        if self._context is None:
            self._context = self._make_context()
        try:
            packets = self._context.encode(picture)
        except av.error.FFmpegError as error:
            raise RenderError(f"the {self._video.codec} encoder does not take these frames") from error
        for packet in packets:
            self._save(bytes(packet))

    def _make_context(self) -> VideoCodecContext:
        created = av.CodecContext.create(ENCODERS[self._video.codec], "w")
        context = cast(VideoCodecContext, created)
        set_picture_options(context, self.row, self._video)
        context.options = encoder_options(self._video, self.row.rate.fraction, context.width)
        context.thread_count = 1  # with more an image could come later than its picture
        if is_full_range(self._video):
            context.color_range = 2
        return context

    def _save(self, data: bytes) -> None:
        self._count += 1
        (self.folder / image_name(self.row, self._count)).write_bytes(data)


def image_name(row: Row, number: int) -> str:
    """The name of one image of a row; number: its place in the sequence, from 1."""
    first = first_number(row)
    digits = max(row.image_digits or row.preset.digits, len(str(first + row.frames - 1)))
    pattern = row.image or f"{row.name.rpartition('/')[2]}.{FRAME_MARK}"
    written = pattern.replace(FRAME_MARK, f"{first - 1 + number:0{digits}d}")
    return f"{written}{IMAGE_EXTENSIONS[str(row.preset.container)]}"


def first_number(row: Row) -> int:
    """The number of a row's first image: the preset's, or that of the source's own image or frame."""
    if not row.preset.source_numbers:
        return row.preset.first_number
    sequence = row.shot.footage.source.sequence
    return row.span.start + (sequence.first if sequence else 0)


def verify_images(folder: Path, row: Row, expected: Expected) -> Verification:
    """Read the images again: all are there, none is empty, and the first and last show what was encoded.

    Raises VerificationError with what differs.
    """
    names = [image_name(row, number) for number in range(1, expected.frames + 1)]
    there = {path.name: path.stat().st_size for path in folder.iterdir()}
    if sorted(there) != sorted(names) or not all(there.values()):
        raise VerificationError(f"the folder holds {len(there)} images, it should hold {expected.frames}")
    for name, wanted, which in (
        (names[0], expected.first_frame, "first"),
        (names[-1], expected.last_frame, "last"),
    ):
        try:
            with av.open(f"file:{folder / name}", options={"protocol_whitelist": "file"}) as container:
                picture = next(container.decode(video=0))
        except (av.error.FFmpegError, StopIteration):
            raise VerificationError(f"the {which} image cannot be read again") from None
        if (picture.width, picture.height) != (expected.width_px, expected.height_px):
            raise VerificationError(f"the {which} image is {picture.width}x{picture.height}, not as planned")
        compare_thumbnails(picture, wanted, f"the {which} frame")
    _check_sample(folder, names, expected)
    return Verification(len(names), 0, sum(there.values()))


def _check_sample(folder: Path, names: list[str], expected: Expected) -> None:
    """Compare images at random with the frames that were encoded, as long as that takes next to no time."""
    until = time.monotonic() + SAMPLE_SHARE * expected.spent_seconds
    for number in random.sample(range(len(names)), min(len(names), MOST_SAMPLED)):
        with av.open(f"file:{folder / names[number]}", options={"protocol_whitelist": "file"}) as container:
            picture = next(container.decode(video=0))
        if expected.prints and expected.prints.differs(number, picture):
            raise VerificationError(f"image {names[number]} is not the picture that was encoded")
        if time.monotonic() > until:
            return
