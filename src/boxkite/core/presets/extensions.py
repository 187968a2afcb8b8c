"""The extension of the file that a preset makes of a source."""

from __future__ import annotations

import io
from functools import lru_cache

from boxkite.core.footage.source import Source
from boxkite.core.presets.codecs import COPIED_AS, COPIED_INTO
from boxkite.core.presets.model import Preset

_NEVER_COPIED = frozenset({"amr_nb", "amr_wb"})
"""Their readers give out several frames at once, which no container takes."""

_ELSE = (".mkv", ".mov", ".avi")
"""Where the streams of a file go that its own kind of container is not written with."""
_NOT_TOLD = frozenset({"mxf"})
_WITHOUT_LIST = {
    "mpeg": frozenset({"mpeg1video", "mpeg2video", "mp2", "mp3", "ac3", "pcm_s16be"}),
    "mpegts": frozenset(
        {"h264", "hevc", "mpeg1video", "mpeg2video", "mp2", "mp3", "aac", "ac3", "eac3", "opus"}
    ),
}
"""Containers of which the library does not say what they hold."""


def extension_of(source: Source, preset: Preset, *, exact: bool = False) -> str:
    """The extension, dot included: of a copy that of its source, or of a container that holds the same streams.

    exact: whether it is encoded in the source's own container, as a copy would not have been exact.
    """
    if exact:
        return source.path.suffix
    return extension_of_copy(source) or source.path.suffix if preset.copy else preset.extension


def extension_of_copy(source: Source) -> str:
    """The extension of a copy; empty where no file is written that holds its streams."""
    suffix = source.path.suffix
    places = (suffix, *_ELSE) if suffix.lower() in COPIED_AS else COPIED_INTO.get(suffix.lower(), ())
    codecs = {audio.codec for audio in source.audio} | ({source.video.codec} if source.video else set())
    if codecs & _NEVER_COPIED:
        return ""
    return next((place for place in places if _holds(COPIED_AS[place.lower()], codecs)), "")


def _holds(container: str, codecs: set[str]) -> bool:
    return container in _NOT_TOLD or codecs <= _held_by(container)


@lru_cache(maxsize=8)
def _held_by(container: str) -> frozenset[str]:
    """The codecs that the library writes into a container, by its names of their coders and by their own."""
    import av

    if container in _WITHOUT_LIST:
        return _WITHOUT_LIST[container]
    with io.BytesIO() as nowhere:
        names = av.open(nowhere, "w", format=container).supported_codecs
    return frozenset(name for one in names for name in _names_of(one))


def _names_of(name: str) -> set[str]:
    import av

    for mode in ("r", "w"):
        try:
            return {name, av.Codec(name, mode).canonical_name}
        except (av.error.FFmpegError, ValueError):
            continue
    return {name}
