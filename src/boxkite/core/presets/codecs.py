"""The codecs and containers: the tables a preset is checked against when it is read."""

from __future__ import annotations

from fractions import Fraction
from typing import Literal

from msgspec import Struct

Container = Literal["mov", "mp4", "mkv", "webm", "mxf", "wav", "png", "tiff", "dpx", "exr", "jpeg"]
VideoCodec = Literal[
    "h264", "hevc", "av1", "vp9", "prores", "dnxhr", "ffv1", "mjpeg", "png", "tiff", "dpx", "exr", "jpeg"
]
AudioCodec = Literal["aac", "opus", "pcm16", "pcm24", "flac", "mp3"]

SEQUENCES = ("png", "tiff", "dpx", "exr", "jpeg")
"""Containers that are numbered images in a folder; each holds the picture codec of its name."""

_PCM = {"pcm16", "pcm24"}
CODECS_OF: dict[str, tuple[set[str], set[str]]] = {
    "mov": ({"h264", "hevc", "prores", "dnxhr", "mjpeg"}, {"aac", *_PCM}),
    "mp4": ({"h264", "hevc", "av1", "vp9"}, {"aac", "opus", "flac", "mp3"}),
    "mkv": ({"h264", "hevc", "av1", "vp9", "prores", "ffv1", "mjpeg"}, {"aac", "opus", "flac", "mp3", *_PCM}),
    "webm": ({"av1", "vp9"}, {"opus"}),
    "mxf": ({"dnxhr", "prores"}, _PCM),
    "wav": (set(), _PCM),
    **{sequence: ({sequence}, set()) for sequence in SEQUENCES},
}
"""Picture and audio codecs each container is written with here: those its common readers take."""

_YUV = ("yuv420p", "yuv422p", "yuv444p", "yuv420p10le", "yuv422p10le", "yuv444p10le")


class Codec(Struct, frozen=True):
    """One picture codec."""

    formats: tuple[str, ...]
    """Pixel formats by the codec library's names, the usual one first."""
    profiles: dict[str, tuple[str, ...]]
    """The formats each takes."""
    quality: tuple[int, int] | None = None
    """From best to worst, where it codes to a constant quality."""
    has_bitrate: bool = False
    has_speed: bool = False
    smallest: tuple[int, int] = (16, 16)
    largest: tuple[int, int] = (16384, 16384)
    """Sides in pixels."""
    spread: tuple[float, float] = (0.1, 3.0)
    """How far a file's size may be from what is expected, as factors, where no bitrate is set."""
    even_width: bool = False
    """Whether a frame without subsampling has an even width too."""
    two_passes: bool = False
    """Whether it can spread a bitrate by a first pass over the frames."""


CODECS: dict[str, Codec] = {
    "h264": Codec(
        _YUV,
        {
            "baseline": ("yuv420p",),
            "main": ("yuv420p",),
            "high": ("yuv420p",),
            "high10": ("yuv420p", "yuv420p10le"),
            "high422": ("yuv420p", "yuv422p", "yuv420p10le", "yuv422p10le"),
            "high444": _YUV,
        },
        quality=(0, 51), has_bitrate=True, has_speed=True, two_passes=True,
    ),
    "hevc": Codec(
        _YUV,
        {"main": ("yuv420p",), "main10": ("yuv420p10le",)},
        quality=(0, 51), has_bitrate=True, has_speed=True, smallest=(32, 32), two_passes=True,
    ),
    "av1": Codec(
        ("yuv420p", "yuv420p10le"), {}, quality=(0, 63), has_bitrate=True, has_speed=True, smallest=(64, 64)
    ),
    "vp9": Codec(("yuv420p", "yuv422p", "yuv444p"), {}, quality=(0, 63), has_bitrate=True, has_speed=True),
    "prores": Codec(
        ("yuv422p10le", "yuv444p10le", "yuva444p10le"),
        {
            "proxy": ("yuv422p10le",),
            "lt": ("yuv422p10le",),
            "422": ("yuv422p10le",),
            "hq": ("yuv422p10le",),
            "4444": ("yuv444p10le", "yuva444p10le"),
        },
        spread=(0.25, 1.5),
        even_width=True,
    ),
    "dnxhr": Codec(
        ("yuv422p", "yuv422p10le", "yuv444p10le"),
        {"lb": ("yuv422p",), "sq": ("yuv422p",), "hq": ("yuv422p",), "hqx": ("yuv422p10le",), "444": ("yuv444p10le",)},
        smallest=(256, 120), spread=(0.98, 1.02),
    ),
    "ffv1": Codec(_YUV, {}, spread=(0.01, 1.5)),
    "mjpeg": Codec(("yuv420p", "yuv422p", "yuv444p"), {}, quality=(100, 1)),
    "jpeg": Codec(("yuv420p", "yuv422p", "yuv444p"), {}, quality=(100, 1)),
    "png": Codec(("rgb24", "rgb48be", "rgba", "rgba64be"), {}, spread=(0.01, 1.5)),
    "tiff": Codec(("rgb48le", "rgb24", "rgba", "rgba64le"), {}, spread=(0.01, 1.5)),
    "dpx": Codec(("gbrp10be", "rgb24"), {}, spread=(0.98, 1.02)),
    "exr": Codec(("gbrpf32le", "gbrapf32le"), {}, spread=(0.01, 1.5)),
}  # fmt: skip
"""Every picture codec there is."""


def quality_scale(codec: str) -> str:
    """How the quality of a codec is counted, as "0 to 51, lower is better"; empty where it has none."""
    scale = CODECS[codec].quality if codec in CODECS else None
    if scale is None:
        return ""
    best, worst = scale
    way = "lower" if best < worst else "higher"
    return f"{min(scale)} to {max(scale)}, {way} is better"


def keeps_alpha(pixel_format: str) -> bool:
    """Whether a pixel format, by the library's name, keeps transparency."""
    return pixel_format.startswith(("yuva", "rgba", "gbrap"))


IMAGE_EXTENSIONS = {"png": ".png", "tiff": ".tif", "dpx": ".dpx", "exr": ".exr", "jpeg": ".jpg"}
COPIED_AS = {
    ".mov": "mov", ".mp4": "mp4", ".m4v": "mp4", ".mkv": "matroska", ".webm": "webm", ".mxf": "mxf",
    ".ts": "mpegts", ".mts": "mpegts", ".m2ts": "mpegts", ".avi": "avi", ".mpg": "mpeg",
}  # fmt: skip
"""By the extension of a file's name: the library's name of the container that a copy is written in."""
COPIED_INTO = {
    ".3gp": (".mp4", ".mov", ".mkv"), ".3g2": (".mp4", ".mov", ".mkv"), ".f4v": (".mp4", ".mkv"),
    ".flv": (".mp4", ".mkv", ".avi"), ".qt": (".mov",), ".ogv": (".mkv",), ".ogg": (".mkv",), ".ogm": (".mkv",),
    ".wmv": (".mkv", ".avi"), ".asf": (".mkv", ".avi"), ".divx": (".avi",), ".dv": (".avi",), ".vob": (".mpg",),
    ".mpeg": (".mpg",), ".m2p": (".mpg",), ".m2t": (".ts",),
}  # fmt: skip
"""By the extension of a source's name, where no copy is written as such a file: what may hold its streams."""
DNXHR_BYTES = {"lb": 5888, "sq": 18944, "hq": 28672, "hqx": 28672, "444": 57344}
"""Of 255 macroblocks of 16 × 16 pixels (SMPTE ST 2019-1, the resolution independent profiles)."""


def dnxhr_frame_bytes(profile: str, width_px: int, height_px: int) -> int:
    """The bytes of every frame of DNxHR: by its macroblocks, in steps of 4096, at least 8192."""
    blocks = -(-width_px // 16) * -(-height_px // 16)
    size = blocks * DNXHR_BYTES[profile] // 255
    return max(8192, (size + 2048) // 4096 * 4096)


HARDWARE = ("any", "nvenc", "qsv", "amf", "vaapi", "videotoolbox", "v4l2m2m")
"""Kinds of encoders in hardware, by the codec library's names; any: the first that works."""
HARDWARE_CODECS = ("h264", "hevc", "av1", "vp9", "mjpeg", "prores")
SPEEDS = ("fast", "good", "best")
"""Encoder speeds, named as `scaling` names them."""
_NAMED_SPEEDS = (
    "ultrafast",
    "superfast",
    "veryfast",
    "faster",
    "fast",
    "medium",
    "slow",
    "slower",
    "veryslow",
)
ENCODER_SPEEDS: dict[str, tuple[str, ...]] = {
    "h264": _NAMED_SPEEDS,
    "hevc": _NAMED_SPEEDS,
    "av1": tuple(str(number) for number in range(14)),
    "vp9": tuple(str(number) for number in range(9)),
}
"""The encoders' own names for their speeds."""
_ENCODER_SPEED_OF = {
    "h264": ("veryfast", "faster", "slow"),
    "hevc": ("veryfast", "faster", "slow"),
    "av1": ("11", "10", "7"),
    "vp9": ("6", "5", "2"),
}
_LAYOUT_OF_COUNT = {1: "mono", 2: "stereo", 3: "3.0", 4: "quad", 5: "5.0", 6: "5.1", 7: "6.1", 8: "7.1"}
_LAYOUTS: dict[str, tuple[str, ...]] = {
    "mp3": ("mono", "stereo"),
    "opus": ("mono", "stereo", "3.0", "quad", "5.0", "5.1", "6.1", "7.1"),
    "aac": ("mono", "stereo", "2.1", "3.0", "4.0", "quad", "5.0", "5.1", "6.1", "7.1"),
    "flac": ("mono", "stereo", "2.1", "3.0", "4.0", "quad", "3.1", "4.1", "5.0", "5.0(side)", "5.1", "5.1(side)",
             "6.0", "6.1", "7.0", "7.1", "7.1(wide)"),
}  # fmt: skip
"""Layouts of audio, by the codec library's names, that codecs other than PCM take and tell again."""


MXF_RATES = tuple(
    Fraction(*one)
    for one in ((24000, 1001), (24,), (25,), (30000, 1001), (30,), (48000, 1001), (48,), (50,),
                (60000, 1001), (60,), (100,), (120000, 1001), (120,))
)  # fmt: skip
"""Frames a second that MXF is written with here."""


def is_unsaid(layout: str) -> bool:
    """Whether a layout, by the codec library's name, tells only the number of channels."""
    return layout.endswith(" channels")


def held_layout(codec: AudioCodec, layout: str, channels: int) -> str:
    """The layout in which a codec holds audio of a layout: the same, else one of as many channels, else stereo."""
    if codec not in _LAYOUTS:
        return layout
    return next(
        (one for one in (layout, _LAYOUT_OF_COUNT.get(channels, "")) if one in _LAYOUTS[codec]), "stereo"
    )


AUDIO_WITH_BITRATE = ("aac", "opus", "mp3")
AUDIO_BITS_PER_SECOND = {"pcm16": 1_536_000, "pcm24": 2_304_000, "flac": 1_200_000}
"""About, for two channels at 48 kHz, of codecs that take no bitrate."""


def encoder_speed(codec: str, speed: str | None) -> str:
    """An encoder's own word for one of SPEEDS; good where none is given."""
    return _ENCODER_SPEED_OF[codec][SPEEDS.index(speed or "good")]
