"""Laying a small frame with transparency over the planes of a video frame, in place."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from av.video.plane import VideoPlane
from msgspec import Struct

from boxkite.core.picture import compiled
from boxkite.core.picture.pixel_layout import PixelLayout

Array = np.ndarray

_ALPHA_ONE = 256
ACTION_SAFE = 0.035
"""Share of each side outside the safe area for action (EBU R 95)."""


class Stamp(Struct, frozen=True):
    """Something to lay over a frame: out = picture × keep ÷ 256 + add, for Y′, Cb and Cr."""

    keep: tuple[Array, Array, Array]
    """Arrays (height, width) in 0…256, one a plane."""
    add: tuple[Array, Array, Array]
    """Already weighted, and never more than there is room for. Both uint16 for frames of 8 bit, else uint32. Chroma
    arrays are of the size that the subsampling gives."""

    @property
    def size(self) -> tuple[int, int]:
        """Width and height in luma pixels."""
        height, width = self.keep[0].shape
        return int(width), int(height)


def make_stamp(rgb: Array, alpha: Array, layout: PixelLayout) -> Stamp:
    """Prepare a frame once for laying over many.

    rgb: float (height, width, 3) in 0…1; alpha: float (height, width) in 0…1. Both sides must be multiples
    of the subsampling. Converted by the BT.709 matrix to limited range.
    """
    red, green, blue = rgb[..., 0], rgb[..., 1], rgb[..., 2]
    luma = 0.2126 * red + 0.7152 * green + 0.0722 * blue
    planes = (16 + 219 * luma, 128 + 224 * (blue - luma) / 1.8556, 128 + 224 * (red - luma) / 1.5748)
    scale = 1 << (layout.bit_depth - 8)
    kind = np.uint16 if layout.bit_depth == 8 else np.uint32
    keeps, adds = [], []
    for index, plane in enumerate(planes):
        weighted, weight = plane * scale * alpha, alpha
        if index:
            weighted, weight = _subsample(weighted, layout), _subsample(weight, layout)
        keep = np.rint((1 - weight) * _ALPHA_ONE).astype(kind)
        highest = (1 << layout.bit_depth) - 1
        keeps.append(keep)
        room = highest - keep.astype(np.uint32) * highest // _ALPHA_ONE
        adds.append(np.minimum(np.rint(weighted), room).astype(kind))
    return Stamp((keeps[0], keeps[1], keeps[2]), (adds[0], adds[1], adds[2]))


def _subsample(plane: Array, layout: PixelLayout) -> Array:
    height, width = plane.shape
    step_x, step_y = 1 << layout.shift_x, 1 << layout.shift_y
    blocks = plane.reshape(height // step_y, step_y, width // step_x, step_x)
    return np.asarray(blocks.mean(axis=(1, 3)))


def join_stamps(stamps: list[Stamp]) -> Stamp:
    """Several stamps of one height, side by side."""
    keeps = zip(*(stamp.keep for stamp in stamps), strict=True)
    adds = zip(*(stamp.add for stamp in stamps), strict=True)
    return Stamp(
        tuple(np.concatenate(planes, axis=1) for planes in keeps),  # type: ignore[arg-type]
        tuple(np.concatenate(planes, axis=1) for planes in adds),  # type: ignore[arg-type]
    )


def replace_part(stamp: Stamp, part: Stamp, left: int, layout: PixelLayout) -> None:
    """Put a stamp of the same height in the place of some columns of another. left: in luma pixels."""
    for index in range(3):
        x = left >> layout.shift_x if index else left
        columns = slice(x, x + part.keep[index].shape[1])
        stamp.keep[index][:, columns] = part.keep[index]
        stamp.add[index][:, columns] = part.add[index]


def lay_over(planes: Sequence[VideoPlane], stamp: Stamp, left: int, top: int, layout: PixelLayout) -> None:
    """Lay a stamp over a frame, in place; what lies outside the picture is cut off.

    planes: of a writable frame, or its luma alone. left, top: luma pixels, multiples of the subsampling.
    """
    if layout.has_alpha:
        area = plane_array(planes[3], layout)
        area = area[top : top + stamp.keep[0].shape[0], left : left + stamp.keep[0].shape[1]]
        keep, highest = stamp.keep[0][: area.shape[0], : area.shape[1]], (1 << layout.bit_depth) - 1
        area[:] = (area * keep >> 8) + (highest * (_ALPHA_ONE - keep) >> 8)
    for index in range(min(3, len(planes))):
        plane, keep, add = planes[index], stamp.keep[index], stamp.add[index]
        x, y = (left >> layout.shift_x, top >> layout.shift_y) if index else (left, top)
        if compiled.lay_over is None:
            _lay_over_plane(
                plane_array(plane, layout)[y : y + keep.shape[0], x : x + keep.shape[1]], keep, add
            )
            continue
        compiled.lay_over(
            plane, plane.line_size, (plane.width, plane.height), (x, y), keep, add, keep.shape[::-1],
            1 if layout.bit_depth == 8 else 2,
        )  # fmt: skip


def _lay_over_plane(area: Array, keep: Array, add: Array) -> None:
    if area.shape != keep.shape:
        keep, add = keep[: area.shape[0], : area.shape[1]], add[: area.shape[0], : area.shape[1]]
    mixed = area * keep
    mixed //= _ALPHA_ONE  # many times as fast as shifting
    np.add(mixed, add, out=area, casting="unsafe")  # there is room: see Stamp.add


def plane_array(plane: VideoPlane, layout: PixelLayout) -> Array:
    """A plane's samples as an array (height, width) that shares the frame's memory."""
    return np.asarray(plane_lines(plane, layout)[: plane.height, : plane.width])


def plane_lines(plane: VideoPlane, layout: PixelLayout) -> Array:
    """The same with the padding at the end of its lines, and perhaps below them: in one piece."""
    kind = np.uint8 if layout.bit_depth == 8 else np.uint16
    samples = np.frombuffer(plane, dtype=kind)  # type: ignore[call-overload]
    return np.asarray(samples.reshape(-1, plane.line_size // samples.itemsize))


def position_of(
    position: str,
    stamp: Stamp,
    picture_width: int,
    picture_height: int,
    nudge: tuple[float, float] = (0.0, 0.0),
) -> tuple[int, int]:
    """Left and top of a stamp at one of the nine positions, inside the action-safe margin, even numbers.

    The margin is 3.5 % of each side (the action-safe area of EBU R 95). nudge: moved right and down by so many
    percent of the picture's width and height, but never out of the picture.
    """
    width, height = stamp.size
    margin_x, margin_y = picture_width * ACTION_SAFE, picture_height * ACTION_SAFE
    words = position.split()
    left = (picture_width - width) / 2
    top = (picture_height - height) / 2
    if "left" in words:
        left = margin_x
    elif "right" in words:
        left = picture_width - margin_x - width
    if "top" in words:
        top = margin_y
    elif "bottom" in words:
        top = picture_height - margin_y - height
    left = min(left + picture_width * nudge[0] / 100, picture_width - width)
    top = min(top + picture_height * nudge[1] / 100, picture_height - height)
    return max(0, int(left / 2) * 2), max(0, int(top / 2) * 2)
