"""The codec library's own names and options for what a preset says."""

from __future__ import annotations

from fractions import Fraction
from functools import lru_cache
from typing import Any

from boxkite.core.picture import compiled
from boxkite.core.plan.rows import Row
from boxkite.core.presets.codecs import HARDWARE, encoder_speed, keeps_alpha
from boxkite.core.presets.coding import Video
from boxkite.core.presets.model import Preset

ENCODERS = {
    "h264": "libx264",
    "hevc": "libx265",
    "av1": "libsvtav1",
    "vp9": "libvpx-vp9",
    "prores": "prores",
    "dnxhr": "dnxhd",
    "ffv1": "ffv1",
    "mjpeg": "mjpeg",
    "jpeg": "mjpeg",
    "png": "png",
    "tiff": "tiff",
    "dpx": "dpx",
    "exr": "exr",
}
AUDIO_ENCODERS = {
    "aac": "aac",
    "pcm16": "pcm_s16le",
    "pcm24": "pcm_s24le",
    "flac": "flac",
    "opus": "libopus",
    "mp3": "libmp3lame",
}
MUXERS = {"mov": "mov", "mp4": "mp4", "mkv": "matroska", "webm": "webm", "wav": "wav", "mxf": "mxf"}
_USUAL_JPEG = 90
_AS_LATER_KEYFRAMES = "zones=0,0,b=1.4"
"""x264 and x265 give later keyframes 1.4 times the precision of the first one (ipratio), which is their frame 0."""
_PRORES_PROFILES = {"proxy": "0", "lt": "1", "422": "2", "hq": "3", "4444": "4"}


def encoder_options(
    video: Video,
    rate: Fraction,
    width_px: int,
    threads: int = 0,
    stats: tuple[int, str] | None = None,
    *,
    goes_on: bool = False,
) -> dict[str, str]:
    """The options for a preset's picture. threads: where an encoder takes it as an option, 0 for its own choice.

    width_px: of the picture as it is written. stats: of an encoder in two passes, which of them it is, and the file
    that the first leaves for the second. goes_on: whether the frames follow others that are encoded apart.
    """
    options: dict[str, str] = {}
    if video.keyframe_seconds:
        options["g"] = str(max(1, round(Fraction(str(video.keyframe_seconds)) * rate)))
    if video.codec in ("h264", "hevc"):
        options["preset"] = video.encoder_speed or encoder_speed(video.codec, video.speed)
        if video.bitrate_mbps is None:
            options["crf"] = f"{video.quality if video.quality is not None else 23:g}"
        if video.profile:
            options["profile"] = video.profile
        later = [_AS_LATER_KEYFRAMES] if goes_on and options.get("g") != "1" else []
        if video.codec == "hevc":
            options["x265-params"] = ":".join(["log-level=error", *_pass_words(stats), *later])
        elif own := [*_pass_words(stats), *_steady_words(width_px), *later]:
            options["x264-params"] = ":".join(own)
    elif video.codec in ("av1", "vp9"):
        options |= _newer_options(video, threads)
    elif video.codec == "prores":
        options["profile"] = _PRORES_PROFILES[video.profile or "hq"]
        if keeps_alpha(video.written_format):
            options["alpha_bits"] = "16"
    else:
        options |= _fixed_options(video)
    return options


def _fixed_options(video: Video) -> dict[str, str]:
    """Options of codecs without a choice of speed."""
    if video.codec == "dnxhr":
        return {"profile": f"dnxhr_{video.profile or 'hq'}"}
    if video.codec == "ffv1":
        return {"level": "3", "slicecrc": "1", "slices": "4"}
    if video.codec in ("mjpeg", "jpeg"):
        quantiser = str(jpeg_quantiser(video.quality if video.quality is not None else _USUAL_JPEG))
        return {"qmin": quantiser, "qmax": quantiser}
    return {"compression_algo": "deflate"} if video.codec == "tiff" else {}


def _pass_words(stats: tuple[int, str] | None) -> list[str]:
    """Which pass it is, and where the statistics are; separators of the encoder's own options are escaped."""
    if stats is None:
        return []
    number, path = stats
    for character in ("\\", ":", "'", "="):
        path = path.replace(character, f"\\{character}")
    return [f"pass={number}", f"stats={path}"]


def _steady_words(width_px: int) -> list[str]:
    """The options that make frames the same from run to run.

    Where the macroblocks of a row are no multiple of eight, the encoder's AVX-512 code reads beyond its numbers and
    decides by whatever lies in memory there; its AVX2 code does not.
    """
    blocks = -(-width_px // 16)
    return ["asm=AVX2"] if blocks % 8 and _has_avx512() else []


@lru_cache(maxsize=1)
def _has_avx512() -> bool:
    """Whether this processor has AVX-512, as far as our compiled code or NumPy can tell."""
    if compiled.has_avx512 is not None:
        return compiled.has_avx512
    import numpy as np

    simd: Any = np.show_config(mode="dicts")
    known = simd.get("SIMD Extensions", {})
    named = [*known.get("baseline", ()), *known.get("found", ())]
    return any(name.startswith(("AVX512", "X86_V4")) for name in named)


def encoder_name(video: Video) -> str:
    """The library's name of the CPU's encoder: of ProRes the fast one, which writes no transparency, or the other."""
    if video.codec == "prores" and keeps_alpha(video.written_format):
        return "prores_ks"
    return ENCODERS[video.codec]


def encoders_of(row: Row) -> list[str]:
    """The library's names of the encoders that a row needs."""
    video, audio = row.preset.video, row.preset.audio
    found = [encoder_name(video)] if video and not row.preset.is_sequence else []
    if audio and audio.codec in AUDIO_ENCODERS and row.audio_tracks:
        found.append(AUDIO_ENCODERS[audio.codec])
    return found


def hardware_encoders(video: Video) -> list[str]:
    """The library's names of encoders outside the CPU for what a preset asks, those to try first in front."""
    kinds = [kind for kind in HARDWARE if kind != "any"] if video.hardware == "any" else [video.hardware]
    return [f"{video.codec}_{kind}" for kind in kinds]


def _newer_options(video: Video, threads: int) -> dict[str, str]:
    """Options of VP9 and AV1, whose speeds are numbers."""
    speed = video.encoder_speed or encoder_speed(video.codec, video.speed)
    options = {}
    if video.bitrate_mbps is None:
        options["crf"] = f"{video.quality if video.quality is not None else 32:g}"
    if video.codec == "vp9":
        return options | {"cpu-used": speed, "row-mt": "1"}
    options["preset"] = speed
    if threads:
        options["svtav1-params"] = f"lp={threads}"
    return options


def jpeg_quantiser(quality: float) -> int:
    """The library's quantiser, 1 to 31, for a quality of 1 to 100 as JPEG software counts it.

    Its tables at 8 are about those of ITU-T T.81, annex K, which are quality 50; from there the usual scaling, 200 - 2q
    percent above and 5000 / q below.
    """
    percent = 200 - 2 * quality if quality >= 50 else 5000 / quality
    return min(31, max(1, round(8 * percent / 100)))


def muxer_options(container: str) -> dict[str, str]:
    """The options for a container: index in front in MP4, words of any name in MOV, WAV beyond 4 GB."""
    return {
        "mp4": {"movflags": "+faststart"},
        "mov": {"movflags": "use_metadata_tags"},
        "wav": {"rf64": "auto", "write_bext": "1"},
    }.get(container, {})


def audio_rate(preset: Preset, source_rate_hz: int) -> int:
    """The sample rate a track is written with: the source's where codec and container take it, else 48 kHz."""
    import av

    assert preset.audio
    audio = preset.audio
    if preset.container == "mxf":
        return 48_000  # the library writes no other
    taken = av.codec.Codec(AUDIO_ENCODERS[audio.codec], "w").audio_rates
    return source_rate_hz if not taken or source_rate_hz in taken else 48_000
