"""From what a row says of its picture to one function that does it to each frame."""

from __future__ import annotations

from collections.abc import Iterator
from fractions import Fraction
from typing import TYPE_CHECKING, Any

import av
import av.filter
from av.video.frame import VideoFrame

from boxkite.core.errors import RenderError
from boxkite.core.picture.converting import EXACTLY, full_range_rgb
from boxkite.core.picture.stamp import PixelLayout, Stamp, lay_over, place, plane_array
from boxkite.core.plan.rows import LiveToken, Row
from boxkite.core.presets.codecs import keeps_alpha
from boxkite.core.presets.geometry import Geometry
from boxkite.core.timebase import round_fraction

if TYPE_CHECKING:
    from boxkite.core.picture.burn_ins import Line
    from boxkite.core.picture.colouring import Colouring
    from boxkite.core.presets.model import Video

_TURNS = {90: ["transpose=cclock"], 180: ["hflip", "vflip"], 270: ["transpose=clock"]}
_NO_PICTURE_TYPE = 0
_LINEAR = ("gbrpf", "gbrapf", "grayf")
"""Pixel formats of floating point, as EXR images have."""
_KERNELS = {"fast": "fast_bilinear", "good": "bicubic", "best": "lanczos+accurate_rnd"}
_BT709 = 1
_UNSAID = 2
_LIMITED = 1
_FULL = 2
_BT601 = 5
_SMPTE170M = 6
_SD_MATRICES = (4, 5, 6, 7)
_MATRIX_NAMES = {1: "bt709", 4: "fcc", 5: "bt470", 6: "smpte170m", 7: "smpte240m", 9: "bt2020"}
"""By the numbers of ISO/IEC 23091-2, the library's names."""


class PictureChain:
    """Does to each picture what its row says, in this order: progressive, upright, cropped, sized, its look, black
    bars, watermarks, burn-ins, and at last its pixel format.

    Pictures go in one by one in order and come out in the same order, perhaps one late. The look is applied with
    the bits that the source has, where the output has fewer.
    """

    def __init__(self, row: Row, *, first: int = 0) -> None:
        """first: which of the row's pictures the first one put is, for what runs along."""
        assert row.preset.video and row.geometry
        self.row = row
        self._video = row.preset.video
        self._geometry = row.geometry
        self.pixel_format = working_format(self._video)
        self._time_base = 1 / row.rate.fraction
        self._graph: av.filter.Graph | None = None
        self._ready = False
        self._matrix = _BT709
        self._tags: dict[str, int] = {}
        self._count_in = 0
        self._count_out = 0
        self._first = first
        self._sized_format = self.pixel_format  # that pictures are sized to, and get their look in
        self._colouring: Colouring | None = None
        self._layout = PixelLayout.of(self.pixel_format)
        self._lines: list[Line] = []
        self._watermarks: list[tuple[Stamp, int, int]] = []
        self._draws = bool(row.lettering or row.preset.watermark)
        if self._draws:
            self._prepare_drawing(row.geometry)

    def _prepare_drawing(self, geometry: Geometry) -> None:
        from boxkite.core.picture.burn_ins import Line, watermark_stamp  # Pillow, only where it is needed

        width, height = geometry.width_px, geometry.height_px
        self._lines = [Line(planned, height, width, self._layout) for planned in self.row.lettering]
        for mark in self.row.preset.watermark:
            stamp = watermark_stamp(mark, width, self._layout)
            self._watermarks.append((stamp, *place(mark.position, stamp, width, height, mark.nudge)))

    def put(self, picture: VideoFrame) -> Iterator[VideoFrame]:
        """Take one picture in, give out what is ready, times counted from 0 in frames."""
        if self.row.look and picture.format.name.startswith(_LINEAR):
            picture = self._colouring_module().colour_linear(picture, self.row.look)
        if not self._ready:
            self._matrix = written_matrix(picture, self._video)
            self._tags = colour_tags(picture, self.row)
            self._settle_look(picture)
            self._graph = self._build(picture)
            self._ready = True
        picture.pts = self._count_in
        picture.time_base = self._time_base
        self._count_in += 1
        if self._graph is None:
            yield self._finish(picture)
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
                yield self._finish(picture)

    def _tag(self, picture: VideoFrame) -> None:
        """The source's colour tags, which filters lose, for encoders that take them from each picture."""
        picture.colorspace = self._tags["colorspace"]
        picture.color_primaries = self._tags["color_primaries"]
        picture.color_trc = self._tags["color_trc"]

    def _settle_look(self, picture: VideoFrame) -> None:
        if not self.row.look or picture.format.name.startswith(_LINEAR):
            return
        if picture.format.components[0].bits > 8 and self._layout.bit_depth == 8:
            self._sized_format = f"{self.pixel_format}10le"
        self._colouring = self._colouring_module().Colouring(self.row.look, self._sized_format)

    @staticmethod
    def _colouring_module() -> Any:
        from boxkite.core.picture import colouring  # the look's library, only where it is needed

        return colouring

    @property
    def _is_changed(self) -> bool:
        """Whether samples are changed in place."""
        return self._colouring is not None or self._draws

    def _finish(self, picture: VideoFrame) -> VideoFrame:
        if self._is_changed:
            picture.make_writable()
        if self._colouring:
            self._colouring.change(picture, self._matrix)
            if self._sized_format != self.pixel_format:
                picture = self._in_fewer_bits(picture)
        if self._geometry.inner:
            picture = self._with_bars(picture)
        if self._draws:
            self._letter(picture)
        picture = self._as_written(picture)
        if not picture.format.is_rgb:
            self._tag(picture)
        picture.pts = self._count_out
        picture.time_base = self._time_base
        picture.pict_type = _NO_PICTURE_TYPE
        self._count_out += 1
        return picture

    def _in_fewer_bits(self, picture: VideoFrame) -> VideoFrame:
        """The picture in 8 bits, rounded."""
        picture = picture.reformat(
            format=self.pixel_format,
            src_colorspace=self._matrix,
            dst_colorspace=self._matrix,
            interpolation=EXACTLY,
        )
        picture.make_writable()
        return picture

    def _with_bars(self, picture: VideoFrame) -> VideoFrame:
        """The picture in the middle of a black one."""
        whole = VideoFrame(self._geometry.width_px, self._geometry.height_px, self.pixel_format)
        left, top = self._geometry.bar_offset
        scale = 1 << (self._layout.bit_depth - 8)
        for index, plane in enumerate(picture.planes):
            target, inner = plane_array(whole.planes[index], self._layout), plane_array(plane, self._layout)
            target[:] = (16, 128, 128, 255)[index] * scale
            shift_x, shift_y = (self._layout.shift_x, self._layout.shift_y) if index in (1, 2) else (0, 0)
            x, y = left >> shift_x, top >> shift_y
            target[y : y + inner.shape[0], x : x + inner.shape[1]] = inner
        whole.colorspace, whole.color_range = picture.colorspace, picture.color_range
        return whole

    def _as_written(self, picture: VideoFrame) -> VideoFrame:
        """The picture as images hold it: R′G′B′, or Y′CbCr of full range."""
        video = self._video
        if is_rgb_format(video.written_format):
            if picture.format.is_rgb:
                same = picture.format.name == video.written_format
                return picture if same else picture.reformat(format=video.written_format)
            return full_range_rgb(picture, video.written_format, self._matrix)
        if is_full_range(video):
            written = picture.reformat(
                format=video.written_format,
                src_colorspace=self._matrix,
                dst_colorspace=_BT601 if video.codec == "jpeg" else self._matrix,
                src_color_range=_LIMITED,
                dst_color_range=_FULL,
                interpolation=EXACTLY,
            )
            written.color_range = _FULL
            return written
        return picture

    def _letter(self, picture: VideoFrame) -> None:
        width, height = self._geometry.width_px, self._geometry.height_px
        for stamp, left, top in self._watermarks:
            lay_over(picture, stamp, left, top, self._layout)
        running = self._running() if self._lines else {}
        for line in self._lines:
            stamp, style = line.stamp(running), line.planned.style
            left, top = place(style.position, stamp, width, height, style.nudge)
            lay_over(picture, stamp, left, top, self._layout)

    def _running(self) -> dict[LiveToken, str]:
        """What runs along, as it stands on the next picture."""
        row, shown = self.row, self.row.frame_shown(self._first + self._count_out)
        frame, place_in_edit = row.span.start + shown, row.shot.edited
        record = None
        if place_in_edit:
            rates = place_in_edit.start.rate.fraction / row.shot.reel.table.rate.fraction
            ahead = row.span.start - (row.shot.span.start + row.shot.handle_in) + shown
            record = place_in_edit.record_in + round_fraction(ahead * rates, "down")
        return {
            LiveToken.TIMECODE: str(row.shot.reel.timecode(frame)),
            LiveToken.FRAME: str(frame),
            LiveToken.RECORD_TIMECODE: str(record or row.shot.reel.timecode(frame)),
            LiveToken.SHOT_FRAME: str(self._first + self._count_out + 1),
        }

    def _build(self, picture: VideoFrame) -> av.filter.Graph | None:
        """The library's filters that are needed for such pictures; None when they fit as they are."""
        steps = self._steps(picture)
        if not steps and self._is_changed:
            steps = ["null"]  # gives out a picture of its own: the one put in is for other files too
        if not steps:
            return None
        graph = av.filter.Graph()
        try:
            source = graph.add("buffer", _as_buffer(picture, self._time_base))
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
        interlaced = picture.interlaced_frame or self._source_is_interlaced()
        if interlaced and (self._video.scan == "progressive" or geometry.turn_degrees):
            steps.append("bwdif=mode=send_frame:deint=all")
            interlaced = False
        if turns := _TURNS.get(geometry.turn_degrees, []):
            steps += [*turns, "sidedata=mode=delete:type=DISPLAYMATRIX"]  # images would be turned once more
        width, height = picture.width, picture.height
        if geometry.turn_degrees in (90, 270):
            width, height = height, width
        if any(geometry.crop):
            width, height = width - geometry.crop[0], height - geometry.crop[1]
            steps.append(f"crop={width}:{height}:{geometry.crop_from[0]}:{geometry.crop_from[1]}:exact=1")
        full_range = picture.color_range == 2 or picture.format.name.startswith("yuvj")
        is_rgb = picture.format.is_rgb
        stays_rgb = is_rgb and is_rgb_format(self._video.written_format)
        stays_rgb = stays_rgb and not (self._draws or self._colouring or geometry.inner)
        working = picture.format.name if stays_rgb else self._sized_format
        resized = (width, height) != geometry.sized_to
        if stays_rgb and not resized:
            return steps
        own = matrix_of(picture)
        if resized or picture.format.name != working or full_range or is_rgb or own != self._matrix:
            coded, written = (_MATRIX_NAMES.get(one, "bt709") for one in (own, self._matrix))
            matrix = f":in_color_matrix={coded}:out_color_matrix={written}"  # mostly the same: no conversion
            if is_rgb:
                matrix = "" if stays_rgb else ":out_color_matrix=bt709"
            span = "pc" if full_range or is_rgb else "tv"
            steps.append(
                f"scale={geometry.sized_to[0]}:{geometry.sized_to[1]}:flags={self._scaling(picture)}"
                f":in_range={span}:out_range={'pc' if stays_rgb else 'tv'}{matrix}"
                f":interl={int(interlaced and height % 4 == geometry.sized_to[1] % 4 == 0)}"
            )
            steps.append(f"format={working}")
        return steps

    def _scaling(self, picture: VideoFrame) -> str:
        """The library's scaling flags: exact rounding, at three times the cost, only where plain is a code off."""
        flags = _KERNELS[self.row.preset.scaling]
        other = matrix_of(picture) != self._matrix
        if picture.format.is_rgb or other:
            flags += "+full_chroma_int+full_chroma_inp"
        is_gray = len(picture.format.components) < 3  # plainly its chroma comes out a code off
        if (
            other
            or is_gray
            or picture.format.components[0].bits > PixelLayout.of(self._sized_format).bit_depth
        ):
            flags += "+accurate_rnd"
        return flags

    def _source_is_interlaced(self) -> bool:
        video = self.row.shot.reel.source.video
        return bool(video and video.is_interlaced)


def _as_buffer(picture: VideoFrame, time_base: Fraction) -> str:
    """What the library's filters are told of the pictures to come; without their colours they would change them."""
    matrix = int(picture.colorspace)
    facts = {
        "video_size": f"{picture.width}x{picture.height}",
        "pix_fmt": picture.format.name,
        "time_base": str(time_base),
        "colorspace": matrix if matrix in (0, *_MATRIX_NAMES) else _UNSAID,  # others it does not take
        "range": int(picture.color_range),
    }
    return ":".join(f"{key}={value}" for key, value in facts.items())


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
        planar = "yuva444p" if keeps_alpha(written) else "yuv444p"
        return planar if written in ("rgb24", "rgba") else f"{planar}10le"
    return written


def matrix_of(picture: VideoFrame) -> int:
    """The matrix a picture was made with; where it does not say, BT.709 from HD on and BT.601 below."""
    matrix = int(picture.colorspace)
    if picture.format.is_rgb:
        return _BT709
    if matrix in _MATRIX_NAMES:
        return matrix
    return _assumed_matrix(picture.width, picture.height)


def _assumed_matrix(width_px: int, height_px: int) -> int:
    return _BT709 if height_px >= 720 or width_px >= 1280 else _BT601


def written_matrix(source: VideoFrame, video: Video) -> int:
    """The matrix that a file's pictures are coded with: their source's, but for DNxHR that of HD.

    Its streams cannot say that of SD (SMPTE ST 2019-1), and readers take them for BT.709.
    """
    matrix = matrix_of(source)
    return _BT709 if video.codec == "dnxhr" and matrix in _SD_MATRICES else matrix


def colour_tags(source: VideoFrame, row: Row) -> dict[str, int]:
    """Colour tags for the encoder: those of the source, BT.709 for pictures that came as RGB; limited range.

    What the source does not say stays unsaid (2), so that a player assumes what it would have assumed; where it would
    assume something else by the new size, the matrix is said.
    """
    assert row.preset.video and row.geometry
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
    written = written_matrix(source, row.preset.video)
    assumed = _assumed_matrix(row.geometry.width_px, row.geometry.height_px)
    if written != matrix_of(source) or (tags["colorspace"] == _UNSAID and assumed != written):
        tags["colorspace"] = written
    if tags["colorspace"] == _BT601:
        tags["colorspace"] = _SMPTE170M  # the same numbers under a name that ProRes and MOV have too
    return tags
