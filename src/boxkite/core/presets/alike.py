"""The preset that writes what a source holds."""

from __future__ import annotations

from boxkite.core.footage.source import Source
from boxkite.core.presets.codecs import CODECS
from boxkite.core.presets.coding import Audio, Video
from boxkite.core.presets.model import Preset

_CONTAINERS = {".mov": "mov", ".mp4": "mp4", ".m4v": "mp4", ".mkv": "mkv", ".webm": "webm", ".mxf": "mxf"}
_VIDEO_CODECS = {"h264": "h264", "hevc": "hevc", "av1": "av1", "vp9": "vp9", "prores": "prores", "dnxhd": "dnxhr",
                 "ffv1": "ffv1", "mjpeg": "mjpeg"}  # fmt: skip
_AUDIO_CODECS = {"aac": "aac", "opus": "opus", "flac": "flac", "mp3": "mp3", "pcm_s16le": "pcm16",
                 "pcm_s24le": "pcm24"}  # fmt: skip
_FINE = {"h264": 12.0, "hevc": 14.0, "av1": 20.0, "vp9": 20.0, "mjpeg": 95.0}
"""Constant qualities at which re-encoded frames can hardly be told from their source."""


def preset_like(source: Source, name: str) -> Preset | None:
    """A preset that writes what a source holds, as finely as its codecs can; None where Box Kite has none."""
    video = source.video
    container = _CONTAINERS.get(source.path.suffix.lower())
    codec = _VIDEO_CODECS.get(video.codec) if video else None
    audio_codecs = {_AUDIO_CODECS.get(audio.codec) for audio in source.audio}
    if not (video and container and codec) or None in audio_codecs or len(audio_codecs) > 1:
        return None
    formats = CODECS[codec].formats
    pixel_format = video.pixel_format.replace("yuvj", "yuv")
    profile = next(
        (key for key, taken in CODECS[codec].profiles.items() if pixel_format in taken), None
    ) if codec in ("prores", "dnxhr") else None  # fmt: skip
    if codec == "prores" and profile == "proxy":
        profile = "hq"
    if pixel_format not in formats:
        return None
    try:
        return Preset(
            name=name,
            container=container,  # type: ignore[arg-type]
            video=Video(
                codec=codec,  # type: ignore[arg-type]
                profile=profile,
                pixel_format=pixel_format,
                quality=_FINE.get(codec),
                scan="keep",
                expected_bits_per_pixel=2.0,
            ),
            audio=Audio(codec=audio_codecs.pop(), bitrate_kbps=None) if audio_codecs else None,  # type: ignore[arg-type]
        )
    except ValueError:
        return None
