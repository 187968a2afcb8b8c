"""Opening media from strangers: local files only, media formats only, nothing that points elsewhere."""

from __future__ import annotations

from functools import lru_cache
from pathlib import Path
from typing import Any, cast

import av
from av.codec.hwaccel import HWAccel
from av.container import InputContainer
from av.video.stream import VideoStream

from boxkite.core.errors import FootageError
from boxkite.core.footage.kinds import explain
from boxkite.core.footage.source import ImageLayer, SequencePattern, Source
from boxkite.core.timebase import FrameRate

# Left out on purpose: playlists and lists (hls, dash, concat, ffmetadata), which open other files or hosts,
# and text drawn as pictures (tty and its kin), which take any text file for media.
_MEDIA_FORMATS = (
    "aac,ac3,aiff,amr,ape,apng,asf,au,av1,avi,avs2,avs3,caf,daud,dirac,dnxhd,dsf,dts,dtshd,dv,eac3,flac,flv,"
    "gif,gxf,h261,h263,h264,hevc,image2,ivf,lxf,m4v,matroska,webm,mjpeg,mlp,mov,mp3,mpeg,mpegts,mpegvideo,"
    "mxf,nut,obu,ogg,oma,pva,rm,sox,truehd,tta,vc1,voc,vvc,w64,wav,wtv,wv,yuv4mpegpipe,"
    "bmp_pipe,dpx_pipe,exr_pipe,j2k_pipe,jpeg_pipe,jpegls_pipe,jpegxl_pipe,pgm_pipe,png_pipe,ppm_pipe,"
    "psd_pipe,sgi_pipe,tiff_pipe,webp_pipe"
)
# PyAV 19 has no such choice: it replaces what is no text by itself.
_LENIENT: dict[str, Any] = {"metadata_errors": "replace"} if int(av.__version__.split(".")[0]) < 19 else {}
_SAFE_OPTIONS = {"protocol_whitelist": "file", "format_whitelist": _MEDIA_FORMATS}


def open_file(path: Path, hardware: str = "", layer: ImageLayer | None = None) -> InputContainer:
    """Open a media file for reading. hardware: a kind of decoder outside the CPU, taken where it works.

    layer: of an EXR image, None for the plain one. Raises FootageError with the reason for anything that is not a
    readable media file.
    """
    if not path.exists():
        raise FootageError("there is no such file", path=path)
    if path.is_dir():
        raise FootageError("this is a folder", path=path, hint="inspect lists what is inside")
    if not path.is_file():
        raise FootageError("this is not a regular file", path=path)
    if path.stat().st_size == 0:
        raise FootageError("the file is empty", path=path)
    try:
        with path.open("rb"):
            pass
    except OSError as error:
        raise FootageError(
            f"it cannot be opened: {(error.strerror or 'unknown cause').lower()}",
            path=path,
            hint="ask for the right to read it",
        ) from None
    try:
        opened = av.open(
            f"file:{path}",
            "r",
            options=dict(_SAFE_OPTIONS),
            stream_options=_told(layer),
            hwaccel=_decoder(hardware),
            **_LENIENT,
        )
        return _of_layer(cast(InputContainer, opened), layer)
    except (av.error.FFmpegError, ValueError, OSError):
        reason, hint = explain(path)
        raise FootageError(reason, path=path, hint=hint) from None


def _decoder(hardware: str) -> Any:
    """What PyAV takes for a decoder outside the CPU; None where there is none of that kind."""
    return HWAccel(hardware, allow_software_fallback=True) if works_here(hardware) else None


@lru_cache(maxsize=8)
def works_here(hardware: str) -> bool:
    """Whether there is a device of a kind that decodes; tried once."""
    if not hardware:
        return False
    try:
        HWAccel(hardware, allow_software_fallback=True).create(av.codec.Codec("h264", "r"))
    except (av.error.FFmpegError, ValueError, NotImplementedError, RuntimeError):
        return False
    return True


def _told(layer: ImageLayer | None) -> Any:
    """What is told to the decoder of a container's only stream; a list of dicts, whatever PyAV's stubs say."""
    return [layer.decoder_options] if layer and not layer.part else None


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
            stream_options=_told(layer),
            **_LENIENT,
        )
        return _of_layer(cast(InputContainer, opened), layer)
    except (av.error.FFmpegError, ValueError, OSError) as error:
        raise FootageError(f"the images cannot be read ({error})", path=sequence.folder) from None


def open_source(source: Source, hardware: str = "") -> InputContainer:
    """Open a source again; hardware as open_file takes it.

    Raises FootageError when it has gone or changed into something unreadable.
    """
    if source.sequence and source.video:
        return open_sequence(source.sequence, source.video.rate, source.layer)
    return open_file(source.path, hardware, source.layer)


def real_pictures(container: InputContainer) -> list[VideoStream]:
    """The picture streams that are no cover art."""
    return [
        stream
        for stream in container.streams.video
        if not int(stream.disposition) & 0x400 and stream.codec_context is not None  # 0x400: attached picture
    ]


def picture_stream(container: InputContainer) -> VideoStream | None:
    """The stream that holds the picture: the library's best, cover art left aside."""
    real = real_pictures(container)
    if not real:
        return None
    best = container.streams.best("video")
    return best if isinstance(best, VideoStream) and best in real else real[0]
