"""The chain of changes to each frame, set up once for all frames of one source."""

from __future__ import annotations

from collections.abc import Iterator
from fractions import Fraction
from typing import TYPE_CHECKING, Any

import av
import av.filter
from av.video.frame import VideoFrame

from boxkite.core.errors import RenderError
from boxkite.core.picture.colour_coding import (
    BT601,
    BT709,
    FULL,
    LIMITED,
    MATRIX_NAMES,
    UNSAID,
    colour_tags,
    is_full_range,
    is_rgb_format,
    matrix_of,
    working_format,
    written_matrix,
)
from boxkite.core.picture.conversion import FrameConversion
from boxkite.core.picture.converting import EXACTLY, Conversions, full_range_rgb
from boxkite.core.picture.pixel_layout import PixelLayout
from boxkite.core.presets.geometry import drawn_aspect

if TYPE_CHECKING:
    from boxkite.core.picture.burn_ins import Line
    from boxkite.core.picture.colouring import Colouring
    from boxkite.core.picture.stamp import Stamp

_TURNS = {90: ["transpose=cclock"], 180: ["hflip", "vflip"], 270: ["transpose=clock"]}
_NO_PICTURE_TYPE = 0
_LINEAR = ("gbrpf", "gbrapf", "grayf")
"""Pixel formats of floating point, as EXR images have."""
_KERNELS = {"fast": "fast_bilinear", "good": "bicubic", "best": "lanczos+accurate_rnd"}


class PictureChain:
    """Does to each frame, in this order: deinterlaced, rotated, cropped, sized, its look, black bars, watermarks,
    burn-ins, and at last its pixel format.

    Frames go in one by one and are returned in the same order, perhaps one late. The look is applied with
    the bits that the source has, where the output has fewer.
    """

    def __init__(self, conversion: FrameConversion, *, first: int = 0, luma_alone: bool = False) -> None:
        """first: which of the file's frames the first one put is, for burn-ins that change.

        luma_alone: only the luma of what comes out is needed (gives_luma_alone).
        """
        self._conversion = conversion
        self._video = conversion.video
        self._geometry = conversion.geometry
        self.pixel_format = working_format(self._video)
        self._time_base = 1 / conversion.rate.fraction
        self._conversions = Conversions()
        self._graph: av.filter.Graph | None = None
        self._ready = False
        self._steps_taken: list[str] = []
        self._matrix = BT709
        self._tags: dict[str, int] = {}
        self._count_in = 0
        self._count_out = 0
        self._first = first
        self._luma_alone, self._gray, self._luma_from = luma_alone, "", ""
        self.gives_luma_alone = False
        """Whether frames come out with the right luma alone: without chroma, or with any; in as many bits, or in fewer
        that are the upper ones."""
        self._sized_format = self.pixel_format  # that frames are sized to, and get their look in
        self._colouring: Colouring | None = None
        self._layout = PixelLayout.of(self.pixel_format)
        self._lines: list[Line] = []
        self._watermarks: list[tuple[Stamp, int, int]] = []
        self._draws = bool(conversion.burn_ins or conversion.watermarks)
        if self._draws:
            self._prepare_drawing()

    def _prepare_drawing(self) -> None:
        from boxkite.core.picture.burn_ins import Line, watermark_stamp  # Pillow and NumPy, only where needed
        from boxkite.core.picture.stamp import position_of

        width, height = self._geometry.width_px, self._geometry.height_px
        aspect = float(drawn_aspect(self._geometry.sample_aspect))
        self._lines = [
            Line(planned, height, width, self._layout, aspect) for planned in self._conversion.burn_ins
        ]
        for mark in self._conversion.watermarks:
            stamp = watermark_stamp(mark, width, self._layout, aspect)
            self._watermarks.append((stamp, *position_of(mark.position, stamp, width, height, mark.nudge)))

    @property
    def prepared(self) -> str:
        """How it set itself up on its first frame: two chains that say the same change frames in the same way."""
        return f"{self._steps_taken} {self._matrix} {sorted(self._tags.items())} {self._sized_format}"

    @property
    def looks_around(self) -> bool:
        """Whether a frame depends on those before and after it."""
        return any(step.startswith("bwdif") for step in self._steps_taken)

    def put(self, picture: VideoFrame) -> Iterator[VideoFrame]:
        """Take one frame in, give out what is ready, times counted from 0 in frames."""
        if self._conversion.look and picture.format.name.startswith(_LINEAR):
            picture = self._colouring_module().colour_linear(picture, self._conversion.look)
        if not self._ready:
            self._matrix = written_matrix(picture, self._video)
            self._tags = colour_tags(picture, self._video, self._geometry.width_px, self._geometry.height_px)
            self._settle_look(picture)
            self._graph = self._build(picture)
            self._ready = True
        picture.pts = self._count_in
        picture.time_base = self._time_base
        self._count_in += 1
        if self._graph is None:
            yield self._finish(picture)
            return
        if self._gray:
            picture = self._luma_of(picture)
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
        """The source's colour tags, which filters lose, for encoders that take them from each frame."""
        picture.colorspace = self._tags["colorspace"]
        picture.color_primaries = self._tags["color_primaries"]
        picture.color_trc = self._tags["color_trc"]

    def _settle_look(self, picture: VideoFrame) -> None:
        if not self._conversion.look or picture.format.name.startswith(_LINEAR):
            return
        if picture.format.components[0].bits > 8 and self._layout.bit_depth == 8:
            self._sized_format = f"{self.pixel_format}10le"
        self._colouring = self._colouring_module().Colouring(self._conversion.look, self._sized_format)

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
        picture = self._conversions.convert(
            picture,
            format=self.pixel_format,
            src_colorspace=self._matrix,
            dst_colorspace=self._matrix,
            interpolation=EXACTLY,
        )
        picture.make_writable()
        return picture

    def _with_bars(self, picture: VideoFrame) -> VideoFrame:
        """The picture in the middle of a black one."""
        from boxkite.core.picture.stamp import plane_array  # and NumPy with it, here as below

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
                return picture if same else self._conversions.convert(picture, format=video.written_format)
            return full_range_rgb(picture, video.written_format, self._matrix, self._conversions)
        if is_full_range(video):
            written = self._conversions.convert(
                picture,
                format=video.written_format,
                src_colorspace=self._matrix,
                dst_colorspace=BT601 if video.codec == "jpeg" else self._matrix,
                src_color_range=LIMITED,
                dst_color_range=FULL,
                interpolation=EXACTLY,
            )
            written.color_range = FULL
            return written
        return picture

    def _letter(self, picture: VideoFrame) -> None:
        from boxkite.core.picture.stamp import lay_over

        planes = picture.planes[:1] if self.gives_luma_alone else picture.planes
        for stamp, left, top in self._watermarks:
            lay_over(planes, stamp, left, top, self._layout)
        live = self._conversion.live_text(self._first + self._count_out) if self._lines else {}
        for line in self._lines:
            lay_over(planes, *line.placed(live), self._layout)

    def _build(self, picture: VideoFrame) -> av.filter.Graph | None:
        """The library's filters that are needed for such frames; None when they fit as they are."""
        steps = self._steps_taken = self._steps(picture)
        if self._gray:
            picture = self._luma_of(picture)
        if not steps and self._is_changed:
            steps = ["null"]  # gives out a separate frame: the one put in is for other files too
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
        interlaced = picture.interlaced_frame or self._conversion.is_interlaced
        if interlaced and (self._video.scan == "progressive" or geometry.rotation_degrees):
            steps.append("bwdif=mode=send_frame:deint=all")
            interlaced = False
        if turns := _TURNS.get(geometry.rotation_degrees, []):
            steps += [*turns, "sidedata=mode=delete:type=DISPLAYMATRIX"]  # images would be rotated once more
        width, height = picture.width, picture.height
        is_upright = geometry.rotation_degrees not in (90, 270)  # 4:2:2 that is not comes out as 4:4:4
        if not is_upright:
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
        is_other = picture.format.name != working or own != self._matrix
        keeps_luma = (
            own == self._matrix and not (interlaced or full_range) and self._has_luma_of_its_own(picture)
        )
        if keeps_luma and is_upright and not (resized or self._draws):
            self.gives_luma_alone = True  # as it is, perhaps in fewer bits: the others are zeros
            return steps
        if resized or not is_upright or is_other or full_range or is_rgb:
            coded, written = (MATRIX_NAMES.get(one, "bt709") for one in (own, self._matrix))
            matrix = f":in_color_matrix={coded}:out_color_matrix={written}"  # mostly the same: no conversion
            if is_rgb:
                matrix = "" if stays_rgb else ":out_color_matrix=bt709"
            span = "pc" if full_range or is_rgb else "tv"
            steps.append(
                f"scale={geometry.sized_to[0]}:{geometry.sized_to[1]}:flags={self._scaling(picture)}"
                f":in_range={span}:out_range={'pc' if stays_rgb else 'tv'}{matrix}"
                f":interl={int(interlaced and height % 4 == geometry.sized_to[1] % 4 == 0)}"
            )
            if keeps_luma:
                self.gives_luma_alone = True
                bits = PixelLayout.of(working).bit_depth
                ending = "" if bits == 8 else f"{bits}le"
                if picture.format.components[0].bits == bits:
                    self._gray = working = f"gray{ending}"
                    self._luma_from = picture.format.name
                else:  # gray is full range to the library, which shows where bits are added
                    working = picture.format.name[: len("yuv4xxp")] + ending
            steps.append(f"format={working}")
        return steps

    def _has_luma_of_its_own(self, picture: VideoFrame) -> bool:
        """Whether luma may be prepared alone, and neither a look nor bars nor another model of colour need more."""
        kind, written = picture.format, self._video.written_format
        if not self._luma_alone or self._colouring or self._geometry.inner or self._layout.has_alpha:
            return False
        if is_rgb_format(written) or is_full_range(self._video):
            return False
        if self._conversion.scaling == "fast" or kind.components[0].bits > self._layout.bit_depth:
            return False  # rounded in other ways then
        return kind.name.startswith(("yuv420p", "yuv422p", "yuv444p")) and not kind.is_big_endian

    def _luma_of(self, picture: VideoFrame) -> VideoFrame:
        """The luma of a frame as one of its own, over the same samples."""
        from boxkite.core.picture.stamp import plane_array

        whole = picture
        if picture.format.name != self._luma_from:  # a source may change it on its way
            whole = self._conversions.convert(picture, format=self._luma_from)
        samples: Any = plane_array(whole.planes[0], self._layout)  # it has as many bits
        luma = VideoFrame.from_numpy_buffer(samples, format=self._gray)
        luma.pts, luma.time_base = picture.pts, self._time_base
        luma.colorspace, luma.color_range = picture.colorspace, picture.color_range
        return luma

    def _scaling(self, picture: VideoFrame) -> str:
        """The library's scaling flags: exact rounding, at three times the cost, only where plain is a code off."""
        flags = _KERNELS[self._conversion.scaling]
        other = matrix_of(picture) != self._matrix
        if picture.format.is_rgb or other:
            flags += "+full_chroma_int+full_chroma_inp"
        is_gray = len(picture.format.components) < 3  # plainly its chroma would be one code off
        if (
            other
            or is_gray
            or picture.format.components[0].bits > PixelLayout.of(self._sized_format).bit_depth
        ):
            flags += "+accurate_rnd"
        return flags


def _as_buffer(picture: VideoFrame, time_base: Fraction) -> str:
    """The options of the filter library's source; without the frames' colour tags it would change their colours."""
    matrix = int(picture.colorspace)
    settings = {
        "video_size": f"{picture.width}x{picture.height}",
        "pix_fmt": picture.format.name,
        "time_base": str(time_base),
        "colorspace": matrix if matrix in (0, *MATRIX_NAMES) else UNSAID,  # others it does not take
        "range": int(picture.color_range),
    }
    return ":".join(f"{key}={value}" for key, value in settings.items())
