"""Footage coded in many ways, to be cut exactly without encoding all of it."""

from __future__ import annotations

from dataclasses import dataclass, replace
from fractions import Fraction
from pathlib import Path

from boxkite.core.timebase import FrameRate
from boxkite.demo.movies import Movie, write_movie
from boxkite.demo.pictures import LOFT, PRESS, VAT


@dataclass(frozen=True)
class Coding:
    """How one source is coded."""

    parameters: str
    """Of the encoder, in its own form."""
    pixel_format: str = "yuv420p"
    profile: str = ""
    suffix: str = ".mp4"
    rate: str = "25"
    size: tuple[int, int] = (160, 96)
    frames: int = 120
    audio: str = "aac"
    """Empty for none."""
    encoder: str = "libx264"


H264 = {
    "gop1": Coding("keyint=1"),
    "gop2": Coding("keyint=2:bframes=0"),
    "gop5": Coding("keyint=5:min-keyint=5:bframes=1"),
    "gop12": Coding("keyint=12:bframes=2:scenecut=0"),
    "gop25": Coding("keyint=25:bframes=3"),
    "pyramid": Coding("keyint=25:bframes=5:b-pyramid=normal:b-adapt=0"),
    "strict-pyramid": Coding("keyint=25:bframes=3:b-pyramid=strict:b-adapt=0"),
    "no-pyramid": Coding("keyint=25:bframes=5:b-pyramid=none:b-adapt=0"),
    "gop50": Coding("keyint=50:bframes=2"),
    "gop100": Coding("keyint=100:bframes=3", frames=300),
    "gop300": Coding("keyint=300:bframes=3:scenecut=0", frames=330),
    "open": Coding("keyint=25:open-gop=1:bframes=3"),
    "open-deep": Coding("keyint=25:open-gop=1:bframes=5:b-adapt=0"),
    "slices": Coding("keyint=30:slices=4"),
    "slices-of-11": Coding("keyint=30:slice-max-mbs=11"),
    "slices-of-400-bytes": Coding("keyint=30:slice-max-size=400:bframes=2"),
    "cavlc": Coding("keyint=30:cabac=0:bframes=2"),
    "baseline": Coding("keyint=30", profile="baseline"),
    "baseline-slices": Coding("keyint=20:slices=3", profile="baseline"),
    "main": Coding("keyint=30:bframes=2", profile="main"),
    "high10": Coding("keyint=30:bframes=3", "yuv420p10le", "high10"),
    "high10-intra": Coding("keyint=1", "yuv420p10le", "high10"),
    "high422": Coding("keyint=30:bframes=2", "yuv422p", "high422"),
    "high422-10": Coding("keyint=30:bframes=2", "yuv422p10le", "high422"),
    "high444": Coding("keyint=30:bframes=2", "yuv444p", "high444"),
    "high444-10": Coding("keyint=30", "yuv444p10le", "high444"),
    "lossless": Coding("keyint=30:qp=0", profile="high444"),
    "grey": Coding("keyint=30", "gray", "high"),
    "one-reference": Coding("keyint=30:ref=1:bframes=0"),
    "sixteen-references": Coding("keyint=40:ref=16:bframes=5:b-pyramid=normal"),
    "weighted": Coding("keyint=30:weightp=2:bframes=3:weightb=1"),
    "cropped": Coding("keyint=30", size=(150, 90)),
    "odd": Coding("keyint=30", size=(154, 98)),
    "refresh": Coding("keyint=60:intra-refresh=1"),
    "scaling-lists": Coding("keyint=30:cqm=jvt:bframes=2"),
    "scaling-lists-422": Coding("keyint=30:cqm=jvt:bframes=2", "yuv422p", "high422"),
    "scaling-lists-444": Coding("keyint=30:cqm=jvt:bframes=2", "yuv444p", "high444"),
    "constrained-intra": Coding("keyint=30:constrained-intra=1"),
    "buffered": Coding("keyint=30:nal-hrd=vbr:vbv-maxrate=800:vbv-bufsize=800:bframes=3"),
    "delimited": Coding("keyint=30:aud=1:bframes=2"),
    "repeated-sets": Coding("keyint=30:repeat-headers=1:bframes=2"),
    "stitchable": Coding("keyint=30:stitchable=1:bframes=3"),
    "interlaced": Coding("keyint=30:tff=1:bframes=2"),
    "as-if-interlaced": Coding("keyint=30:fake-interlaced=1"),
    "deep-references": Coding("keyint=60:ref=6:bframes=5:b-adapt=2:b-pyramid=normal:direct=auto"),
    "23.976": Coding("keyint=24:bframes=3", rate="23.976"),
    "29.97": Coding("keyint=30:bframes=3", rate="29.97"),
    "50": Coding("keyint=50:bframes=3", rate="50"),
    "59.94": Coding("keyint=30:bframes=2", rate="59.94"),
    "silent": Coding("keyint=30:bframes=3", audio=""),
    "mov": Coding("keyint=30:bframes=3", suffix=".mov", audio="pcm_s16le"),
    "mkv": Coding("keyint=30:bframes=3", suffix=".mkv"),
    "mkv-cavlc": Coding("keyint=40:cabac=0", suffix=".mkv", audio="flac"),
    "ts": Coding("keyint=15:bframes=3", suffix=".ts"),
    "ts-baseline": Coding("keyint=15:bframes=0", profile="baseline", suffix=".ts", audio="mp2"),
}
_CLOSED = "log-level=none:open-gop=0:min-keyint=5:keyint=25"
HEVC = {
    "hevc": Coding(f"{_CLOSED}:bframes=3"),
    "hevc-gop12": Coding("log-level=none:open-gop=0:keyint=12:bframes=0"),
    "hevc-gop60": Coding("log-level=none:open-gop=0:keyint=60:bframes=2"),
    "hevc-pyramid": Coding(f"{_CLOSED}:bframes=5:b-adapt=0:b-pyramid=1"),
    "hevc-open": Coding("log-level=none:keyint=25:bframes=3"),
    "hevc-leading": Coding(f"{_CLOSED}:radl=2:bframes=3"),
    "hevc-blocks-of-16": Coding(f"{_CLOSED}:ctu=16:bframes=2"),
    "hevc-blocks-of-32": Coding(f"{_CLOSED}:ctu=32:min-cu-size=16"),
    "hevc-tools": Coding(f"{_CLOSED}:amp=1:rect=1:tu-inter-depth=3:tu-intra-depth=2:max-tu-size=16"),
    "hevc-few-tools": Coding(f"{_CLOSED}:sao=0:strong-intra-smoothing=0:temporal-mvp=0:signhide=0"),
    "hevc-lists": Coding(f"{_CLOSED}:scaling-list=default"),
    "hevc-slices": Coding(f"{_CLOSED}:slices=2", size=(160, 160)),
    "hevc-wavefronts": Coding(f"{_CLOSED}:wpp=1:ctu=16"),
    "hevc-weighted": Coding(f"{_CLOSED}:weightp=1:weightb=1:bframes=3"),
    "hevc-one-reference": Coding(f"{_CLOSED}:ref=1:bframes=0"),
    "hevc-intra": Coding("log-level=none:keyint=1"),
    "hevc-repeated-sets": Coding(f"{_CLOSED}:repeat-headers=1"),
    "hevc-buffered": Coding(f"{_CLOSED}:hrd=1:vbv-maxrate=900:vbv-bufsize=900"),
    "hevc-lossless": Coding(f"{_CLOSED}:lossless=1"),
    "hevc-main10": Coding(f"{_CLOSED}:bframes=3", "yuv420p10le"),
    "hevc-422-10": Coding(_CLOSED, "yuv422p10le"),
    "hevc-444": Coding(_CLOSED, "yuv444p"),
    "hevc-odd": Coding(_CLOSED, size=(154, 98)),
    "hevc-29.97": Coding(_CLOSED, rate="29.97"),
    "hevc-mkv": Coding(_CLOSED, suffix=".mkv"),
    "hevc-ts": Coding("log-level=none:open-gop=0:keyint=15:min-keyint=15", suffix=".ts"),
}
SOURCES = H264 | {name: replace(coding, encoder="libx265") for name, coding in HEVC.items()}


def write_source(name: str, folder: Path) -> Path:
    """Draw the footage of a name, every frame with its bar code."""
    coding = SOURCES[name]
    path = folder / f"{name}{coding.suffix}"
    options = {"preset": "faster", "crf": "24", f"{coding.encoder[3:]}-params": coding.parameters}
    if coding.profile:
        options["profile"] = coding.profile
    scenes = ((0, VAT), (47, LOFT), (94, PRESS))
    write_movie(Movie(path, coding.frames, FrameRate.parse(coding.rate), scenes, width=coding.size[0],
                      height=coding.size[1], encoder=coding.encoder, options=options, layout="mono",
                      pixel_format=coding.pixel_format, sample_aspect=Fraction(1),
                      audio_codec=coding.audio or "aac", audio_tracks=bool(coding.audio)))  # fmt: skip
    return path
