"""From what a row says of its picture to one function that does it to each frame."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

import av
import av.filter
from av.video.frame import VideoFrame

from boxkite.core.errors import RenderError
from boxkite.core.picture.stamp import PixelLayout, Stamp, lay_over, place
from boxkite.core.plan.rows import Row

if TYPE_CHECKING:
    from boxkite.core.picture.lettering import Line
    from boxkite.core.presets.model import Video

_TURNS = {90: ["transpose=cclock"], 180: ["hflip", "vflip"], 270: ["transpose=clock"]}
_NO_PICTURE_TYPE = 0
_BT709 = 1
_UNSAID = 2
_LIMITED = 1
_FULL = 2
_BT601 = 5
_MATRIX_NAMES = {1: "bt709", 4: "fcc", 5: "bt470", 6: "smpte170m", 7: "smpte240m", 9: "bt2020"}
"""By the numbers of ISO/IEC 23091-2, the library's names."""


class PictureChain:
    """Does to each picture what its row says: upright, progressive, sized, in its pixel format, lettered.

    Pictures go in one by one in order and come out in the same order, perhaps one late.
    """

    def __init__(self, row: Row) -> None:
        assert row.preset.video and row.geometry
        self.row = row
        self._video = row.preset.video
        self._geometry = row.geometry
        self.pixel_format = working_format(self._video)
        self._rate = row.shot.reel.table.rate.fraction
        self._time_base = 1 / self._rate
        self._graph: av.filter.Graph | None = None
        self._ready = False
        self._matrix = _BT709
        self._count_in = 0
        self._count_out = 0
        geometry = row.geometry
        self._is_lettered = bool(row.lettering or row.preset.watermark)
        layout = PixelLayout.of(self.pixel_format)
        self._layout = layout
        self._lines: list[Line] = []
        self._watermark: tuple[Stamp, int, int] | None = None
        if not (row.lettering or row.preset.watermark):
            return
        from boxkite.core.picture.lettering import Line, watermark_stamp  # Pillow, only where it is needed

        self._lines = [
            Line(planned, geometry.height_px, geometry.width_px, layout) for planned in row.lettering
        ]
        if row.preset.watermark:
            stamp = watermark_stamp(row.preset.watermark, geometry.width_px, layout)
            position = row.preset.watermark.position
            self._watermark = (stamp, *place(position, stamp, geometry.width_px, geometry.height_px))

    def put(self, picture: VideoFrame) -> Iterator[VideoFrame]:
        """Take one picture in, give out what is ready, times counted from 0 in frames."""
        if not self._ready:
            self._matrix = _matrix_of(picture)
            self._graph = self._build(picture)
            self._ready = True
        picture.pts = self._count_in
        picture.time_base = self._time_base
        self._count_in += 1
        if self._graph is None:
            yield self._finish(picture, shared=True)
            return
        self._graph.push(picture)
        yield from self._pull()

    def end(self) -> Iterator[VideoFrame]:
        """Give out what is still held."""
        if self._graph is not None:
            self._graph.push(None)
            yield from self._pull()

    def _pull(self) -> Iterator[VideoFrame]:
        assert self._graph is not None
        while True:
            try:
                picture = self._graph.pull()
            except (av.error.BlockingIOError, av.error.EOFError):
                return
            if isinstance(picture, VideoFrame):
                yield self._finish(picture, shared=False)

    def _finish(self, picture: VideoFrame, *, shared: bool) -> VideoFrame:
        if self._lines or self._watermark:
            if shared:
                picture = picture.reformat(format=self.pixel_format)
            picture.make_writable()
            self._letter(picture)
        picture = self._as_written(picture)
        picture.pts = self._count_out
        picture.time_base = self._time_base
        picture.pict_type = _NO_PICTURE_TYPE
        self._count_out += 1
        return picture

    def _as_written(self, picture: VideoFrame) -> VideoFrame:
        """The picture as images hold it: R′G′B′, or Y′CbCr of full range."""
        video = self._video
        if is_rgb_format(video.written_format):
            if picture.format.is_rgb:
                return picture.reformat(format=video.written_format)
            return picture.reformat(
                format=video.written_format,
                src_colorspace=self._matrix,
                src_color_range=_LIMITED,
                dst_color_range=_FULL,
            )
        if is_full_range(video):
            written = picture.reformat(
                format=video.written_format,
                src_colorspace=self._matrix,
                dst_colorspace=_BT601 if video.codec == "jpeg" else self._matrix,
                src_color_range=_LIMITED,
                dst_color_range=_FULL,
            )
            written.color_range = _FULL
            return written
        return picture

    def _letter(self, picture: VideoFrame) -> None:
        width, height = self._geometry.width_px, self._geometry.height_px
        if self._watermark:
            stamp, left, top = self._watermark
            lay_over(picture, stamp, left, top, self._layout)
        frame = self.row.span.start + self._count_out
        timecode = str(self.row.shot.reel.timecode(frame)) if self._lines else ""
        for line in self._lines:
            stamp = line.stamp(timecode, frame)
            lay_over(picture, stamp, *place(line.planned.position, stamp, width, height), self._layout)

    def _build(self, picture: VideoFrame) -> av.filter.Graph | None:
        """The library's filters that are needed for such pictures; None when they fit as they are."""
        steps = self._steps(picture)
        if not steps:
            return None
        graph = av.filter.Graph()
        try:
            source = graph.add_buffer(
                width=picture.width,
                height=picture.height,
                format=picture.format,
                time_base=self._time_base,
            )
            last = source
            for step in steps:
                name, _, arguments = step.partition("=")
                node = graph.add(name, arguments)
                last.link_to(node)
                last = node
            sink = graph.add("buffersink")
            last.link_to(sink)
            graph.configure()
        except (av.error.FFmpegError, ValueError) as error:
            raise RenderError(f"the picture cannot be prepared: {error}") from None
        return graph

    def _steps(self, picture: VideoFrame) -> list[str]:
        geometry = self._geometry
        steps: list[str] = []
        if self._video.scan == "progressive" and (picture.interlaced_frame or self._source_is_interlaced()):
            steps.append("bwdif=mode=send_frame:deint=all")
        steps += _TURNS.get(geometry.turn_degrees, [])
        width, height = picture.width, picture.height
        if geometry.turn_degrees in (90, 270):
            width, height = height, width
        if any(geometry.crop):
            width, height = width - geometry.crop[0], height - geometry.crop[1]
            steps.append(f"crop={width}:{height}:0:0:exact=1")
        full_range = picture.color_range == 2 or picture.format.name.startswith("yuvj")
        is_rgb = picture.format.is_rgb
        stays_rgb = is_rgb and is_rgb_format(self._video.written_format) and not self._is_lettered
        working = picture.format.name if stays_rgb else self.pixel_format
        resized = (width, height) != (geometry.width_px, geometry.height_px)
        if stays_rgb and not resized:
            return steps
        if resized or picture.format.name != working or full_range or is_rgb:
            name = _MATRIX_NAMES.get(self._matrix, "bt709")  # the same on both sides: no conversion
            matrix = f":in_color_matrix={name}:out_color_matrix={name}"
            if is_rgb:
                matrix = "" if stays_rgb else ":out_color_matrix=bt709"
            span = "pc" if full_range or is_rgb else "tv"
            steps.append(
                f"scale={geometry.width_px}:{geometry.height_px}:flags={self._scaling(picture)}"
                f":in_range={span}:out_range={'pc' if stays_rgb else 'tv'}{matrix}"
            )
            steps.append(f"format={working}")
        return steps

    def _scaling(self, picture: VideoFrame) -> str:
        """The library's scaling flags: exact rounding, at three times the cost, only where plain is a code off."""
        flags = "bicubic"
        if picture.format.is_rgb:
            flags += "+full_chroma_int+full_chroma_inp"
        if picture.format.components[0].bits > self._layout.bit_depth:
            flags += "+accurate_rnd"
        return flags

    def _source_is_interlaced(self) -> bool:
        video = self.row.shot.reel.source.video
        return bool(video and video.is_interlaced)


def is_rgb_format(pixel_format: str) -> bool:
    """Whether a pixel format holds R′G′B′."""
    return pixel_format.startswith(("rgb", "gbr"))


def is_full_range(video: Video) -> bool:
    """Whether the picture is written as Y′CbCr that uses every code, as JPEG does."""
    return video.codec in ("mjpeg", "jpeg")


def working_format(video: Video) -> str:
    """The pixel format in which pictures are sized and lettered, limited range Y′CbCr."""
    written = video.written_format
    if is_rgb_format(written):
        return "yuv444p" if written == "rgb24" else "yuv444p10le"
    return written


def _matrix_of(picture: VideoFrame) -> int:
    """The matrix a picture was made with; where it does not say, BT.709 from HD on and BT.601 below."""
    matrix = int(picture.colorspace)
    if picture.format.is_rgb:
        return _BT709
    if matrix in _MATRIX_NAMES:
        return matrix
    return _BT709 if picture.height >= 720 or picture.width >= 1280 else _BT601


def colour_tags(source: VideoFrame) -> dict[str, int]:
    """Colour tags for the encoder: those of the source, BT.709 for pictures that came as RGB; limited range.

    What the source does not say stays unsaid (2), so that a player assumes what it would have assumed.
    """
    if source.format.is_rgb:
        return {"colorspace": _BT709, "color_primaries": _BT709, "color_trc": _BT709, "color_range": _LIMITED}
    tags = {
        "colorspace": int(source.colorspace),
        "color_primaries": int(source.color_primaries),
        "color_trc": int(source.color_trc),
        "color_range": _LIMITED,
    }
    if tags["colorspace"] == 0:  # the RGB tag on Y′CbCr pictures
        tags["colorspace"] = _UNSAID
    return tags
