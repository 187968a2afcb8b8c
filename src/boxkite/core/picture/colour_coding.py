"""How frames code their colours: matrix, range, R′G′B′ or Y′CbCr, and what a file is tagged with."""

from __future__ import annotations

from typing import TYPE_CHECKING

from av.video.frame import VideoFrame

from boxkite.core.presets.codecs import keeps_alpha

if TYPE_CHECKING:
    from boxkite.core.presets.coding import Video

BT709 = 1
UNSAID = 2
LIMITED = 1
FULL = 2
BT601 = 5
_SMPTE170M = 6
_SD_MATRICES = (4, 5, 6, 7)
MATRIX_NAMES = {1: "bt709", 4: "fcc", 5: "bt470", 6: "smpte170m", 7: "smpte240m", 9: "bt2020"}
"""By the numbers of ISO/IEC 23091-2, the library's names."""


def is_rgb_format(pixel_format: str) -> bool:
    """Whether a pixel format holds R′G′B′."""
    return pixel_format.startswith(("rgb", "gbr"))


def is_full_range(video: Video) -> bool:
    """Whether the picture is written as Y′CbCr that uses every code, as JPEG does."""
    return video.codec in ("mjpeg", "jpeg")


def working_format(video: Video) -> str:
    """The pixel format in which frames are sized and lettered, limited range Y′CbCr."""
    written = video.written_format
    if is_rgb_format(written):
        planar = "yuva444p" if keeps_alpha(written) else "yuv444p"
        return planar if written in ("rgb24", "rgba") else f"{planar}10le"
    return written


def matrix_of(picture: VideoFrame) -> int:
    """The matrix a frame was made with; where it does not say, BT.709 from HD on and BT.601 below."""
    matrix = int(picture.colorspace)
    if picture.format.is_rgb:
        return BT709
    if matrix in MATRIX_NAMES:
        return matrix
    return _assumed_matrix(picture.width, picture.height)


def _assumed_matrix(width_px: int, height_px: int) -> int:
    return BT709 if height_px >= 720 or width_px >= 1280 else BT601


def written_matrix(source: VideoFrame, video: Video) -> int:
    """The matrix that a file's frames are coded with: their source's, but for DNxHR that of HD.

    Its streams cannot say that of SD (SMPTE ST 2019-1), and readers take them for BT.709.
    """
    matrix = matrix_of(source)
    return BT709 if video.codec == "dnxhr" and matrix in _SD_MATRICES else matrix


def colour_tags(source: VideoFrame, video: Video, width_px: int, height_px: int) -> dict[str, int]:
    """Colour tags for the encoder of frames of this size: the source's, BT.709 for what came as RGB; limited range.

    What the source does not say stays unsaid (2), so that a player assumes what it would have assumed; where it would
    assume something else by the new size, the matrix is tagged.
    """
    if source.format.is_rgb:
        return {"colorspace": BT709, "color_primaries": BT709, "color_trc": BT709, "color_range": LIMITED}
    tags = {
        "colorspace": int(source.colorspace),
        "color_primaries": int(source.color_primaries),
        "color_trc": int(source.color_trc),
        "color_range": LIMITED,
    }
    if tags["colorspace"] == 0:  # the RGB tag on Y′CbCr frames
        tags["colorspace"] = UNSAID
    written = written_matrix(source, video)
    assumed = _assumed_matrix(width_px, height_px)
    if written != matrix_of(source) or (tags["colorspace"] == UNSAID and assumed != written):
        tags["colorspace"] = written
    if tags["colorspace"] == BT601:
        tags["colorspace"] = _SMPTE170M  # the same numbers under a name that ProRes and MOV have too
    return tags
