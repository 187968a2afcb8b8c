"""One frame of a planned file as it will be: decoded, put through the picture chain, encoded and decoded again."""

from __future__ import annotations

from av.video.frame import VideoFrame
from PIL import Image

from boxkite.core.errors import PlanError, setting
from boxkite.core.picture.colour_coding import matrix_of
from boxkite.core.picture.converting import EXACTLY
from boxkite.core.plan.rows import Row
from boxkite.core.render.still import source_frame, still_frame
from boxkite.core.timebase import Timecode


def frame_named(row: Row, where: str) -> int:
    """The source's frame that words name: a timecode, a frame of the source, a share as 25%; empty for the middle.

    Raises PlanError when it is not in the shot.
    """
    text = where.strip() or "50%"
    span, footage = row.span, row.shot.footage
    if text.endswith("%") and text[:-1].isascii() and text[:-1].isdigit():
        return span.start + min(span.length - 1, span.length * int(text[:-1]) // 100)
    if text.isascii() and text.isdigit():
        frame = int(text)
    else:
        frame = (
            Timecode.parse(text, footage.frame_index.rate, drop=footage.start.drop).frame
            - footage.start.frame
        )
    if not span.start <= frame < span.end:
        raise PlanError(
            f"{setting('at')} {where}: {row.name} runs from {row.in_timecode} to {row.out_timecode}",
            hint=f"frames {span.start} to {span.end - 1} of its source",
        )
    return frame


def still_of(row: Row, frame: int) -> Image.Image:
    """A frame as the finished file will show it, its pixels as they are stored. Raises RenderError, DamagedError."""
    return as_image(still_frame(row, frame))


def source_still(row: Row, frame: int) -> Image.Image:
    """The same frame as its source holds it, upright."""
    footage = row.shot.footage
    image = as_image(source_frame(row, frame))
    turn = footage.frame_index.rotation_degrees
    return image.rotate(turn, expand=True) if turn else image


def as_image(picture: VideoFrame) -> Image.Image:
    """A frame as R′G′B′ of 8 bit, by the matrix that it says or that its size lets assume."""
    if picture.format.is_rgb:
        return Image.fromarray(picture.reformat(format="rgb24").to_ndarray())
    shown = picture.reformat(format="rgb24", src_colorspace=matrix_of(picture), interpolation=EXACTLY)
    return Image.fromarray(shown.to_ndarray())
