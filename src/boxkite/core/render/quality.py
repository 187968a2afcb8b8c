"""How close frames are to those they were made from: PSNR and SSIM of luma, by the codec library's own filters.

PSNR as usual, 10·log10(peak² ÷ mean squared error); SSIM after Wang, Bovik, Sheikh and Simoncelli (2004) over windows
of 8 × 8. docs/decisions/0014-quality.md has how the filters compare with a second implementation.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import av
import av.filter
from av.video.frame import VideoFrame

BEST_DB = 100.0
"""Of frames that are the same to the last bit, whose PSNR has no limit."""
_LUMA = ("lavfi.psnr.psnr.y", "lavfi.ssim.Y")
_ALL = ("lavfi.psnr.psnr_avg", "lavfi.ssim.All")


@dataclass(frozen=True)
class Closeness:
    """How close one frame is to another."""

    psnr_db: float
    """0 … BEST_DB."""
    ssim: float
    """1 for the same."""


class QualityMeter:
    """Compares frames of one size and format, pair by pair."""

    def __init__(self) -> None:
        self._graph: av.filter.Graph | None = None
        self._ends: tuple[Any, Any, Any] | None = None
        self._shape: tuple[int, int, str] | None = None
        self._count = 0

    def compare(self, frame: VideoFrame, wanted: VideoFrame) -> Closeness:
        """How close a frame is to the wanted one, which is brought to its format. Raises ValueError for other sizes."""
        if (frame.width, frame.height) != (wanted.width, wanted.height):
            raise ValueError("the frames are not of one size")
        frame, wanted = _comparable(frame), _comparable(wanted)
        if frame.format.name != wanted.format.name:
            wanted = wanted.reformat(format=frame.format.name)
        shape = (frame.width, frame.height, frame.format.name)
        if shape != self._shape:
            self._build(shape)
        assert self._ends
        first, second, sink = self._ends
        for one, end in ((frame, first), (wanted, second)):
            one.pts, one.time_base = self._count, 1  # type: ignore[assignment]
            end.push(one)
        self._count += 1
        values = sink.pull().metadata
        psnr, ssim = _LUMA if _LUMA[0] in values else _ALL
        return Closeness(min(float(values[psnr]), BEST_DB), float(values[ssim]))

    def _build(self, shape: tuple[int, int, str]) -> None:
        graph: Any = av.filter.Graph()
        width, height, name = shape
        first, second = (
            graph.add_buffer(width=width, height=height, format=name, time_base=1) for _ in range(2)
        )
        psnr, ssim, split, sink = (
            graph.add("psnr"), graph.add("ssim"), graph.add("split", "2"), graph.add("buffersink")
        )  # fmt: skip
        first.link_to(psnr, 0, 0)
        second.link_to(split)
        split.link_to(psnr, 0, 1)
        psnr.link_to(ssim, 0, 0)
        split.link_to(ssim, 1, 1)
        ssim.link_to(sink)
        graph.configure()
        self._graph, self._ends, self._shape, self._count = graph, (first, second, sink), shape, 0


def _comparable(frame: VideoFrame) -> VideoFrame:
    """The frame in a format that the filters take without changing its values; a new object with the same samples."""
    name = frame.format.name
    if name.startswith("yuvj"):
        return _with_format(frame, name.replace("yuvj", "yuv"))
    if "f32" in name or "f16" in name:
        return frame.reformat(format="gray16le" if name.startswith("gray") else "rgb48le")
    if name.startswith(("pal", "bayer", "mono")):
        return frame.reformat(format="rgb24")
    return frame


def _with_format(frame: VideoFrame, name: str) -> VideoFrame:
    """The same samples under the name of a format of the same layout."""
    other = VideoFrame(frame.width, frame.height, name)
    for plane, copy in zip(frame.planes, other.planes, strict=True):
        height = plane.height
        source = memoryview(plane)
        if plane.line_size == copy.line_size:
            copy.update(bytes(source)[: copy.buffer_size].ljust(copy.buffer_size, b"\0"))
            continue
        width = min(plane.line_size, copy.line_size)
        lines = (
            bytes(source[row * plane.line_size :][:width]).ljust(copy.line_size, b"\0")
            for row in range(height)
        )
        copy.update(b"".join(lines))
    return other
