"""Small pictures that tell one frame from another where their prints cannot be compared."""

from __future__ import annotations

import numpy as np
from av.video.frame import VideoFrame

from boxkite.core.errors import VerificationError
from boxkite.core.picture.converting import Conversions

_LOOK = (32, 18)
_CONVERSIONS = Conversions()
_MOST_DIFFERENCE = 10.0
"""Mean difference, in 8-bit steps, that a coded picture may have from the one that was encoded."""
_ANY_MATRIX, _FULL = 1, 2


def thumbnail_of(picture: VideoFrame) -> np.ndarray:
    """A frame's lightness, area-averaged to 32 × 18, as float: enough to tell one frame from another.

    By its samples alone, whatever its colour tags say: a decoder may report tags that the encoder did not get.
    """
    small = _CONVERSIONS.convert(
        picture,
        width=_LOOK[0],
        height=_LOOK[1],
        format="gray",
        interpolation="AREA",
        src_colorspace=_ANY_MATRIX,
        dst_colorspace=_ANY_MATRIX,
        src_color_range=_FULL,
        dst_color_range=_FULL,
    )
    return small.to_ndarray().astype(np.float32)


def compare_thumbnails(
    picture: VideoFrame, wanted: VideoFrame | None, which: str, most: float = _MOST_DIFFERENCE
) -> None:
    """Make sure that a frame looks as one that was encoded. which: in the message; most: mean difference allowed.

    Raises VerificationError.
    """
    if wanted is None:
        return
    difference = float(np.abs(thumbnail_of(picture) - thumbnail_of(wanted)).mean())
    if difference > most:
        raise VerificationError(f"{which} of the finished file is not the picture that was encoded")
