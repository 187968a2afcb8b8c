"""How close frames are to those they were made from: PSNR and SSIM of luma.

PSNR as usual, 10·log10(peak² ÷ mean squared error), with all bits; SSIM after Wang, Bovik, Sheikh and Simoncelli (2004)
over windows of 8 × 8, with the upper 8 bits. Both in one pass of compiled code; without that, by the codec
library's own filters. docs/decisions/0014-quality.md has what each costs.
"""

from __future__ import annotations

import math
from functools import cache
from typing import Any, NamedTuple

import av
import av.filter
import numpy as np
from av.video.format import VideoFormat
from av.video.frame import VideoFrame
from msgspec import Struct

from boxkite.core.picture import compiled
from boxkite.core.picture.converting import Conversions

BEST_DB = 100.0
"""Of frames that are the same to the last bit, whose PSNR has no limit."""
_PSNR = ("lavfi.psnr.psnr.y", "lavfi.psnr.psnr_avg")
_SSIM = ("lavfi.ssim.Y", "lavfi.ssim.All")
_LINES_COMPARED_FIRST = 4
_LEAST_COMPILED_PX = 8
_LINES_KEPT = 64
_GOLDEN = (5**0.5 - 1) / 2
"""Its multiples, less their whole parts, lie as far from each other as any."""


class Closeness(Struct, frozen=True):
    """How close one frame is to another."""

    psnr_db: float
    """0 … BEST_DB."""
    ssim: float
    """1 for the same."""


class QualityMeter:
    """Compares frames of one size and format, pair by pair."""

    def __init__(self) -> None:
        self._filters: dict[str, _Filter] = {}
        self._conversions = Conversions()

    def compare(self, frame: VideoFrame, wanted: VideoFrame) -> Closeness:
        """How close a frame is to the wanted one, which is brought to its format where their lumas are not alike.

        Raises ValueError for other sizes.
        """
        if (frame.width, frame.height) != (wanted.width, wanted.height):
            raise ValueError("the frames are not of one size")
        is_compiled = bool(compiled.closeness) and min(frame.width, frame.height) >= _LEAST_COMPILED_PX
        are_alike = _have_like_lumas(frame.format.name, wanted.format.name, is_compiled)
        if not are_alike and _plain(frame) != _plain(wanted):
            wanted = self._conversions.convert(wanted, format=_plain(frame))
            are_alike = _have_like_lumas(frame.format.name, wanted.format.name, is_compiled)
        if are_alike and is_compiled:
            return _compared(frame, wanted)
        first, second, bits = _luma(frame), _luma(wanted), frame.format.components[0].bits
        if first is None or second is None:
            return self._of_frames(_in_integers(frame), _in_integers(wanted))
        if _same(first, second):
            return Closeness(BEST_DB, 1.0)
        if bits == 8:
            return self._of_frames(*(_grey(luma, "gray") for luma in (first, second)))
        name = f"gray{bits}le" if bits in (10, 12, 14, 16) else "gray16le"
        psnr = self._value("psnr", name, *(_grey(luma, name) for luma in (first, second)))
        upper = [(luma >> (bits - 8)).astype(np.uint8) for luma in (first, second)]
        return Closeness(psnr, self._value("ssim", "gray", *(_grey(luma, "gray") for luma in upper)))

    def _of_frames(self, frame: VideoFrame, wanted: VideoFrame) -> Closeness:
        name = frame.format.name
        return Closeness(*(self._value(kind, name, frame, wanted) for kind in ("psnr", "ssim")))

    def _value(self, kind: str, name: str, frame: VideoFrame, wanted: VideoFrame) -> float:
        key = f"{kind} {name} {frame.width}x{frame.height}"
        if key not in self._filters:
            self._filters[key] = _Filter(kind, name, frame.width, frame.height)
        return self._filters[key].value(frame, wanted)


class _Filter:
    """One of the library's filters that compare two frames."""

    def __init__(self, kind: str, name: str, width: int, height: int) -> None:
        graph: Any = av.filter.Graph()
        graph.threads = 1  # several files are compared at a time
        self._first, self._second = (
            graph.add_buffer(width=width, height=height, format=name, time_base=1) for _ in range(2)
        )
        node, self._sink = graph.add(kind), graph.add("buffersink")
        self._first.link_to(node, 0, 0)
        self._second.link_to(node, 0, 1)
        node.link_to(self._sink)
        graph.configure()
        self._graph, self._keys, self._count = graph, _PSNR if kind == "psnr" else _SSIM, 0

    def value(self, frame: VideoFrame, wanted: VideoFrame) -> float:
        for one, end in ((frame, self._first), (wanted, self._second)):
            one.pts, one.time_base = self._count, 1  # type: ignore[assignment]
            end.push(one)
        self._count += 1
        found = self._sink.pull().metadata
        return min(float(next(found[key] for key in self._keys if key in found)), BEST_DB)


def _psnr_db(mean_squared_error: float, bits: int) -> float:
    if not mean_squared_error:
        return BEST_DB
    return min(10 * math.log10(((1 << bits) - 1) ** 2 / mean_squared_error), BEST_DB)


def _plain(frame: VideoFrame) -> str:
    """The name of a frame's format; of JPEG's that of the same layout, whose range is told elsewhere."""
    return frame.format.name.replace("yuvj", "yuv")


@cache
def _have_like_lumas(name: str, wanted: str, is_compiled: bool) -> bool:
    """Whether two formats have a luma of its own, of as many bits; compiled code takes fewer of the wanted one."""
    if not (_sample_of_luma(name) and _sample_of_luma(wanted)):
        return False
    own, other = (VideoFormat(one).components[0].bits for one in (name, wanted))
    return own == other or (is_compiled and other < own)


def _compared(frame: VideoFrame, wanted: VideoFrame) -> Closeness:
    """How close the lumas of two frames are, by compiled code."""
    assert compiled.closeness
    first, second, bits = frame.planes[0], wanted.planes[0], frame.format.components[0].bits
    size = frame.width, frame.height
    steps = first.line_size, second.line_size
    fewer = bits - wanted.format.components[0].bits
    error, ssim = compiled.closeness(first, second, steps, size, bits, fewer)
    return Closeness(_psnr_db(error / (size[0] * size[1]), bits), ssim)


class SomeLines(NamedTuple):
    """Some lines of a frame's luma, evenly over its height, kept apart from the frame."""

    samples: np.ndarray
    bits: int

    def psnr_db(self, other: SomeLines) -> float | None:
        """PSNR against those of another frame, in the bits of the one that has more; None for other sizes."""
        if self.samples.shape != other.samples.shape:
            return None
        fewer = self.bits - other.bits
        if compiled.closeness and fewer >= 0 and min(self.samples.shape) >= _LEAST_COMPILED_PX:
            height, width = self.samples.shape
            steps = self.samples.strides[0], other.samples.strides[0]
            error, _ = compiled.closeness(
                self.samples, other.samples, steps, (width, height), self.bits, fewer
            )
            return _psnr_db(error / self.samples.size, self.bits)
        bits = max(self.bits, other.bits)
        first, second = (one.samples.astype(np.int32) << (bits - one.bits) for one in (self, other))
        difference = (first - second).astype(np.float32).ravel()
        return _psnr_db(float(np.dot(difference, difference)) / len(difference), bits)


def some_lines(frame: VideoFrame) -> SomeLines | None:
    """_LINES_KEPT lines of a frame, apart from it; None where its luma is no plane of its own."""
    luma = _luma(frame)
    if luma is None:
        return None
    return SomeLines(luma[_lines_kept(len(luma))], frame.format.components[0].bits)


@cache
def _lines_kept(height: int) -> np.ndarray:
    """One of each stretch of the height, each time elsewhere in it: what is drawn by rule may repeat as often."""
    edges = np.arange(min(_LINES_KEPT, height) + 1) * height // min(_LINES_KEPT, height)
    places = np.arange(len(edges) - 1) * _GOLDEN % 1
    return np.asarray(edges[:-1] + (places * np.diff(edges)).astype(int))


def _luma(frame: VideoFrame) -> np.ndarray | None:
    """The luma of a frame, without a copy; None for formats where it is no plane of whole samples of its own."""
    sample = _sample_of_luma(frame.format.name)
    if sample is None:
        return None
    plane: Any = frame.planes[0]
    lines = np.frombuffer(plane, sample).reshape(-1, plane.line_size // sample.itemsize)
    return lines[: frame.height, : frame.width]


@cache
def _sample_of_luma(name: str) -> np.dtype[Any] | None:
    kind = VideoFormat(name)
    bits = kind.components[0].bits
    is_luma = name.startswith(
        ("yuv", "gray", "nv")
    )  # in those of p0… the bits are the upper ones of each sample
    if not is_luma or kind.is_big_endian or not 8 <= bits <= 16 or "f" in name.removeprefix("yuv"):
        return None
    if not kind.is_planar and name.startswith("yuv"):
        return None
    return np.dtype(np.uint8 if bits == 8 else np.uint16)


def _same(first: np.ndarray, second: np.ndarray) -> bool:
    """Whether two lumas are the same; most that are not differ in a few lines already."""
    step = max(1, len(first) // _LINES_COMPARED_FIRST)
    return np.array_equal(first[::step], second[::step]) and np.array_equal(first, second)


def _grey(luma: np.ndarray, name: str) -> VideoFrame:
    """A frame over the samples of an array."""
    return VideoFrame.from_numpy_buffer(luma, format=name)


def _in_integers(frame: VideoFrame) -> VideoFrame:
    """The frame in a format that the filters take, as a frame of its own."""
    name = frame.format.name
    if "f32" in name or "f16" in name:
        return frame.reformat(format="gray16le" if name.startswith("gray") else "rgb48le")
    if name.startswith(("pal", "bayer", "mono")):
        return frame.reformat(format="rgb24")
    return frame
