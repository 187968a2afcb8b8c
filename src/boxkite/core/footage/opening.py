"""Opening media from strangers: local files only, media formats only, nothing that points elsewhere."""

from __future__ import annotations

import contextlib
import os
from functools import lru_cache
from pathlib import Path
from types import TracebackType
from typing import Any, cast

import av
from av.codec.hwaccel import HWAccel
from av.container import InputContainer
from av.video.stream import VideoStream

from boxkite.core.errors import ChangedError, FootageError
from boxkite.core.files.identity import FileIdentity, identity_of, identity_of_images
from boxkite.core.files.reading import opened
from boxkite.core.footage.access import open_media
from boxkite.core.footage.kinds import STILL_SUFFIXES, explain_unreadable
from boxkite.core.footage.source import ImageLayer, SequencePattern, Source
from boxkite.core.timebase import FrameRate

# Left out on purpose: playlists and lists (hls, dash, concat, ffmetadata), which open other files or hosts,
# and text drawn as frames (tty and its kin), which take any text file for media.
_MEDIA_FORMATS = (
    "aac,ac3,aiff,amr,ape,apng,asf,au,av1,avi,avs2,avs3,caf,daud,dirac,dnxhd,dsf,dts,dtshd,dv,eac3,flac,flv,"
    "gif,gxf,h261,h263,h264,hevc,image2,ivf,lxf,m4v,matroska,webm,mjpeg,mlp,mov,mp3,mpeg,mpegts,mpegvideo,"
    "mxf,nut,obu,ogg,oma,pva,rm,sox,truehd,tta,vc1,voc,vvc,w64,wav,wtv,wv,yuv4mpegpipe,"
    "bmp_pipe,dpx_pipe,exr_pipe,j2k_pipe,jpeg_pipe,jpegls_pipe,jpegxl_pipe,pgm_pipe,png_pipe,ppm_pipe,"
    "psd_pipe,sgi_pipe,tiff_pipe,webp_pipe"
)
# PyAV 19 has no such choice: it replaces invalid text automatically.
_LENIENT: dict[str, Any] = {"metadata_errors": "replace"} if int(av.__version__.split(".")[0]) < 19 else {}
_SAFE_OPTIONS = {"format_whitelist": _MEDIA_FORMATS}
LEAST_PROBED = {"probesize": "32", "fpsprobesize": "0"}
"""How little of a MOV or MP4 file the codec library reads beyond what describes it."""
_NOT_DECODED = [{"skip_frame": "all"}] * 8
"""Of its first streams: among them is the picture."""
_FOR_FACTS = [{"skip_loop_filter": "all"}]
"""Told to the decoder that opening a file runs: how smooth its first frame is does not matter to what it is."""
_OPENED_BY_NAME = frozenset({"image2"})
"""Containers that the codec library opens without help, by their names."""
LISTS_ALL = "mov"
"""In the name of containers that list every packet of every stream, and say what each stream is."""
TIMED_BY_READING = "mpeg"
"""Program streams (ISO/IEC 13818-1, 2.5): they tell the times of some pictures, and reading counts those between; who
begins elsewhere than at their beginning counts otherwise."""
MOST_PIXELS = 120_000_000
"""Of a frame: 12,000 by 10,000. Frames of twice the size take more memory than a batch may."""


def open_file(path: Path, hardware: str = "", layer: ImageLayer | None = None) -> InputContainer:
    """Open a media file for reading, by its path. hardware: a kind of decoder outside the CPU, taken where it works.

    layer: of an EXR image, None for the plain one. Raises FootageError where the codec library finds no way in.
    """
    return _opened(f"file:{path}", path, None, {"protocol_whitelist": "file"}, hardware, layer)


def open_undecoded(path: Path) -> InputContainer:
    """Open a MOV or MP4 file for what its container says; as no frame is decoded, that is not all of its picture.

    Raises FootageError.
    """
    options = {"protocol_whitelist": "file", **LEAST_PROBED}
    return _opened(f"file:{path}", path, "mov", options, "", None, _NOT_DECODED)


def open_for_facts(path: Path, layer: ImageLayer | None, *, is_movie: bool) -> InputContainer:
    """Open a media file as open_file does, for what its container and its first frame say, not for its picture.

    is_movie: whether it begins as MOV and MP4 files do, so that the codec library need not ask what it is.
    """
    if is_movie:
        with contextlib.suppress(FootageError):
            return _opened(f"file:{path}", path, "mov", {"protocol_whitelist": "file"}, "", layer, _FOR_FACTS)
    return open_file(path, layer=layer)


def _opened(
    name: str,
    path: Path,
    form: str | None,
    options: dict[str, str],
    hardware: str,
    layer: ImageLayer | None,
    told: Any = None,
) -> InputContainer:
    """Open by the codec library. name: as it calls the file; form: the kind of container, None to find out.

    told: options of the decoders of its streams.
    """
    try:
        found = av.open(
            name,
            "r",
            format=form,
            options={**_SAFE_OPTIONS, **options},
            stream_options=told or _told(path, layer),
            hwaccel=_decoder(hardware),
            **_LENIENT,
        )
        return _of_layer(cast(InputContainer, found), layer)
    except (av.error.FFmpegError, ValueError, OSError):
        reason, hint = explain_unreadable(path)
        raise FootageError(reason, path=path, hint=hint) from None


def _decoder(hardware: str) -> Any:
    """PyAV's hardware decoder of a kind; None if there is none."""
    return HWAccel(hardware, allow_software_fallback=True) if decoder_works_here(hardware) else None


@lru_cache(maxsize=8)
def decoder_works_here(hardware: str) -> bool:
    """Whether there is a device of a kind that decodes; tried once."""
    if not hardware:
        return False
    try:
        HWAccel(hardware, allow_software_fallback=True).create(av.codec.Codec("h264", "r"))
    except (av.error.FFmpegError, ValueError, NotImplementedError, RuntimeError):
        return False
    return True


def _told(path: Path, layer: ImageLayer | None) -> Any:
    """The options of the decoder of a container's only stream; a list of dicts, whatever PyAV's stubs say.

    Opening an image decodes it: one with too many pixels would take the memory for them before anybody could look.
    """
    if path.suffix.lower() not in STILL_SUFFIXES:
        return None
    own = layer.decoder_options if layer and not layer.part else {}
    return [{"max_pixels": str(MOST_PIXELS), **own}]


def _of_layer(container: InputContainer, layer: ImageLayer | None) -> InputContainer:
    """A container whose picture will be decoded from a layer."""
    if layer:
        container.streams.video[0].codec_context.options = layer.decoder_options
    return container


def open_sequence(
    sequence: SequencePattern, rate: FrameRate, layer: ImageLayer | None = None
) -> InputContainer:
    """Open numbered images as one picture stream at the given rate. Raises FootageError."""
    prefix, suffix = sequence.prefix.replace("%", "%%"), sequence.suffix.replace("%", "%%")
    number = f"%0{sequence.digits}d" if sequence.digits else "%d"
    fraction = rate.fraction
    try:
        opened = av.open(
            f"{str(sequence.folder).replace('%', '%%')}/{prefix}{number}{suffix}",
            "r",
            format="image2",
            options={
                "start_number": str(sequence.first),
                "framerate": f"{fraction.numerator}/{fraction.denominator}",
                "pattern_type": "sequence",
                "protocol_whitelist": "file",
            },
            stream_options=_told(Path(sequence.file_name(sequence.first)), layer),
            **_LENIENT,
        )
        return _of_layer(cast(InputContainer, opened), layer)
    except (av.error.FFmpegError, ValueError, OSError) as error:
        raise FootageError(f"the images cannot be read ({error})", path=sequence.folder) from None


class OpenedSource:
    """A source while it is read: what is read is what was looked at when the source was found, or reading fails.

    Its identity is compared when it is opened and once more after the last read, on the descriptor that is read. Use it
    as a context, which gives the container, or close it.
    """

    def __init__(self, source: Source, hardware: str = "") -> None:
        """Raises FootageError where it has gone, cannot be read, or is not what it was."""
        self._source = source
        self._descriptor: int | None = None
        if source.sequence and source.video:
            self.check()
            self.container = open_sequence(source.sequence, source.video.rate, source.layer)
            return
        descriptor = open_media(source.path)
        if source.container in _OPENED_BY_NAME or os.name == "nt":
            os.close(descriptor)
            self.check()
            self.container = open_file(source.path, hardware, source.layer)
            return
        self._descriptor = descriptor
        try:
            self.check()
            own = {"protocol_whitelist": "fd", "fd": str(self._descriptor)}
            self.container = _opened("fd:", source.path, source.container, own, hardware, source.layer)
        except BaseException:
            os.close(self._descriptor)
            raise

    @property
    def descriptor(self) -> int | None:
        """Of the file that is read; None where the codec library has one of its own."""
        return self._descriptor

    def __enter__(self) -> InputContainer:
        return self.container

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close(check=kind is None or kind is GeneratorExit)

    def close(self, *, check: bool = True) -> None:
        """Let go of the file. check: whether it was read to its end as far as wanted. Raises ChangedError."""
        self.container.close()
        try:
            if check:
                self.check()
        finally:
            if self._descriptor is not None:
                os.close(self._descriptor)
                self._descriptor = None

    def check(self) -> None:
        """Make sure that what was read is what was looked at when the source was found. Raises ChangedError."""
        source = self._source
        if source.identity is None:
            return
        try:
            if self._descriptor is not None:
                now = identity_of(self._descriptor, source.path)
            else:
                now = current_identity(source)
        except OSError as error:
            raise FootageError(f"it cannot be read: {error.strerror or error}", path=source.path) from None
        if difference := source.identity.difference(now):
            raise ChangedError(f"it has changed since it was planned: {difference}", path=source.path,
                               hint="plan again; what was made of it was thrown away")  # fmt: skip


def current_identity(source: Source) -> FileIdentity:
    """The identity of a source as it is now. Raises OSError."""
    if source.sequence:
        images = source.sequence
        gone = set(images.missing)
        return identity_of_images(
            [images.folder / images.file_name(number) for number in range(images.first, images.last + 1)
             if number not in gone]
        )  # fmt: skip
    with opened(source.path) as descriptor:
        return identity_of(descriptor, source.path)


def open_source(source: Source, hardware: str = "") -> OpenedSource:
    """Open a source again; hardware as open_file takes it. Raises FootageError, see OpenedSource."""
    return OpenedSource(source, hardware)


class KeptSource:
    """A source that stays open after it was read, for whoever reads it next: opening it reads its whole index.

    One process uses one; close it at the end.
    """

    def __init__(self) -> None:
        self._source: Source | None = None
        self._opened: OpenedSource | None = None

    def take(self, source: Source) -> OpenedSource | None:
        """The source as it was left, somewhere in the middle; None where another one or none is kept."""
        if self._source is None or (self._source.path, self._source.identity) != (
            source.path,
            source.identity,
        ):
            self.close()
        opened, self._opened = self._opened, None
        return opened

    def keep(self, source: Source, opened: OpenedSource) -> None:
        """Keep a source that was read. Raises ChangedError where it has changed meanwhile."""
        opened.check()
        self.close()
        self._source, self._opened = source, opened

    def close(self) -> None:
        """Let go of the file."""
        opened, self._opened = self._opened, None
        if opened:
            opened.close(check=False)  # it was looked at when it was kept


def video_streams(container: InputContainer) -> list[VideoStream]:
    """The picture streams that are no cover art."""
    return [
        stream
        for stream in container.streams.video
        if not int(stream.disposition) & 0x400 and stream.codec_context is not None  # 0x400: attached picture
    ]


def video_stream(container: InputContainer) -> VideoStream | None:
    """The stream that holds the picture: the library's best, cover art skipped."""
    real = video_streams(container)
    if not real:
        return None
    best = container.streams.best("video")
    return best if isinstance(best, VideoStream) and best in real else real[0]
