"""One frame of a row as its finished file will hold it: decoded, changed, encoded and decoded again."""

from __future__ import annotations

import os
from collections.abc import Iterator
from typing import Any

import av
from av.video.frame import VideoFrame

from boxkite.core.errors import RenderError
from boxkite.core.picture.chain import PictureChain
from boxkite.core.picture.conversion import conversion_of
from boxkite.core.plan.rows import Row
from boxkite.core.render.encode.codec_options import encoder_name, encoder_options
from boxkite.core.render.encode.file_writer import prepare_context
from boxkite.core.render.inputs import open_frames
from boxkite.core.timebase import Span

_AROUND = 2
"""Frames read before and after the wanted one: filters that look at neighbours need them."""
_DECODERS = {"libsvtav1": "libdav1d", "prores_ks": "prores", "libx264": "h264", "libx265": "hevc",
             "libvpx-vp9": "libvpx-vp9"}  # fmt: skip


def still_frame(row: Row, frame: int) -> VideoFrame:
    """A frame of the source as the row's file will show it, its pixels as they are stored.

    Raises RenderError, DamagedError.
    """
    return through_encoder(row, _prepared(row, frame))


def source_frame(row: Row, frame: int) -> VideoFrame:
    """A frame as the row's source holds it. Raises DamagedError."""
    _, picture = next(open_frames([row], Span(frame, frame + 1), 1, None))
    return picture


def _prepared(row: Row, frame: int) -> VideoFrame:
    """The frame after the picture chain."""
    span = Span(max(row.span.start, frame - _AROUND), min(row.span.end, frame + _AROUND + 1))
    chain = PictureChain(conversion_of(row), first=_picture_at(row, span.start))
    wanted = frame - span.start
    for place, picture in enumerate(_through(chain, row, span)):
        if place == wanted:
            return picture
    raise RenderError("the frame cannot be prepared")


def _picture_at(row: Row, frame: int) -> int:
    """Which of the row's frames shows a frame first."""
    ahead = frame - row.span.start
    if row.preset.frame_rate is None:
        return ahead
    return -int(-ahead * row.rate.fraction // row.shot.footage.frame_index.rate.fraction)


def _through(chain: PictureChain, row: Row, span: Span) -> Iterator[VideoFrame]:
    for _, picture in open_frames([row], span, 1, None):
        yield from chain.put(picture)
    yield from chain.end()


def through_encoder(row: Row, picture: VideoFrame) -> VideoFrame:
    """A prepared frame through the preset's encoder, and back. Raises RenderError."""
    video = row.preset.video
    assert video
    os.environ.setdefault("SVT_LOG", "1")  # the AV1 encoder talks on the terminal otherwise
    name = encoder_name(video)
    encoder: Any = av.CodecContext.create(name, "w")
    prepare_context(encoder, row, video, picture, threads=1)
    encoder.options = encoder_options(video, row.rate.fraction, encoder.width, 1)
    encoder.framerate = row.rate.fraction
    picture.pts = 0
    try:
        packets = [*encoder.encode(picture), *encoder.encode(None)]
        decoder: Any = av.CodecContext.create(_DECODERS.get(name, name), "r")
        decoder.extradata = encoder.extradata
        decoder.width, decoder.height = encoder.width, encoder.height
        for packet in [*packets, None]:
            for shown in decoder.decode(packet):
                return _tagged(shown, picture)
    except (av.error.FFmpegError, ValueError) as error:
        raise RenderError(f"the {video.codec} encoder does not take this frame") from error
    raise RenderError(f"the {video.codec} encoder gives no picture")


def _tagged(shown: VideoFrame, encoded: VideoFrame) -> VideoFrame:
    """A frame with the colour tags of the one it was made from, which single packets do not always carry."""
    if not shown.format.is_rgb:
        shown.colorspace, shown.color_range = encoded.colorspace, encoded.color_range
    return shown
