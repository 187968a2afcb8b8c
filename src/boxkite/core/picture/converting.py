"""From one size, format or coding of colours to another, and to the R′G′B′ that images hold, white being all of it."""

from __future__ import annotations

import threading
from typing import TYPE_CHECKING, Any

from av.video.frame import VideoFrame
from av.video.reformatter import VideoReformatter

if TYPE_CHECKING:
    from numpy import ndarray

EXACTLY = 0x4 | 0x2000 | 0x4000 | 0x40000
"""How the library converts colours where it counts: bicubic, all of the chroma, rounded. Its plain way is darker."""
_LIMITED, _FULL = 1, 2
_WORKED_IN = {
    "rgb48be": "rgb48le",
    "rgba64be": "rgba64le",
    "gbrp10be": "gbrp16le",
}
"""By the format wanted: that it is worked out in, of the processor's own order of bytes and of 16 bits."""
_OF_WHITE = 65535 / 65280
_OF_OPAQUE = 65535 / 65472


class Conversions(threading.local):
    """Conversions of frames by the codec library, each set up once a thread: that takes as long as some of them do."""

    def __init__(self) -> None:
        self._kept: dict[tuple[object, ...], VideoReformatter] = {}

    def convert(self, picture: VideoFrame, **how: Any) -> VideoFrame:
        """What VideoFrame.reformat gives; how: its options.

        With several threads its plain way writes over the first samples of a line now and then, where one thread's part
        ends (4:2:2 with 10 bits): only its exact way, which does not, is given them.
        """
        if how.get("interpolation") != EXACTLY:
            how["threads"] = 1
        key = tuple(how.items())
        if key not in self._kept:
            self._kept[key] = VideoReformatter()
        return self._kept[key].reformat(picture, **how)


def full_range_rgb(
    picture: VideoFrame, pixel_format: str, matrix: int, conversions: Conversions
) -> VideoFrame:
    """The picture in a format of R′G′B′. matrix: that it was coded with.

    With more than 8 bits the library's white is 255/256 of what it should be, and opaque 1023/1024: both are brought
    to the whole.
    """
    worked_in = _WORKED_IN.get(pixel_format, pixel_format)
    rgb = conversions.convert(
        picture,
        format=worked_in,
        src_colorspace=matrix,
        src_color_range=_LIMITED,
        dst_color_range=_FULL,
        interpolation=EXACTLY,
    )
    if worked_in in ("rgb24", "rgba"):
        return rgb
    import numpy as np  # few files need it, and it takes long to load

    for place, plane in enumerate(rgb.planes):
        if "f32" in worked_in:
            values = np.frombuffer(plane, np.float32)  # type: ignore[call-overload]
            values *= np.float32(_OF_OPAQUE if place == 3 else _OF_WHITE)
            np.minimum(values, 1, out=values)
            continue
        samples = np.frombuffer(plane, np.uint16)  # type: ignore[call-overload]
        alpha = samples[3::4].copy() if worked_in.startswith("rgba") else None
        _stretch(samples, 8)
        if alpha is not None:
            _stretch(alpha, 10)
            samples[3::4] = alpha
    return rgb if worked_in == pixel_format else conversions.convert(rgb, format=pixel_format)


def _stretch(samples: ndarray, bits: int) -> None:
    """Bring the largest number with so many leading ones to 65535, and all below in proportion, in place."""
    samples.clip(max=65536 - (65536 >> bits), out=samples)
    samples += samples // (1 << bits)
