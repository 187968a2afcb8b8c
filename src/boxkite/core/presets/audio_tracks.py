"""Which audio tracks a file holds, what each is made of, and in which layout."""

from __future__ import annotations

from collections.abc import Sequence

from boxkite.core.footage.source import AudioInfo, Source
from boxkite.core.notices.files import CHANNELS_MIXED, CHANNELS_UNNAMED, LAYOUT_MIXED
from boxkite.core.notices.notice import Notice
from boxkite.core.presets.codecs import held_layout, is_unsaid
from boxkite.core.presets.coding import Audio

_CHANNELS_OF = {"mono": 1, "stereo": 2, "5.1": 6}
_MOST_FLAC = 8
"""Channels (RFC 9639, 9.1.3)."""


def file_tracks(audio: Audio | None, tracks: tuple[int, ...]) -> list[tuple[int, ...]]:
    """Which of the source's audio streams each track of the file is made of, by position."""
    if not audio or not tracks:
        return []
    if audio.tracks in ("merged", "mixed"):
        return [tracks]
    return [(position,) for position in tracks]


def layout_of(audio: Audio, parts: Sequence[AudioInfo]) -> str:
    """The layout, by the codec library's name, of a file's track that is made of one or several of the source."""
    is_merged = audio.tracks == "merged" and len(parts) > 1
    if audio.channels != "keep" and not is_merged:
        return audio.channels
    if is_merged:
        channels = sum(part.channels for part in parts)
        return held_layout(audio.codec, f"{channels} channels", channels)
    widest = max(parts, key=lambda part: part.channels)
    return held_layout(audio.codec, widest.layout, widest.channels)


def unheld_audio(source: Source, audio: Audio) -> str:
    """Why a codec that loses nothing cannot hold the audio as it is; empty where it can."""
    tracks = tuple(range(len(source.audio)))[: 1 if audio.tracks == "first" else None]
    most = max(
        (sum(source.audio[one].channels for one in places) for places in file_tracks(audio, tracks)),
        default=0,
    )
    if audio.codec != "flac" or audio.channels != "keep" or most <= _MOST_FLAC:
        return ""
    return f"FLAC holds {_MOST_FLAC} channels at most, not its {most}: set audio.codec=pcm24"


def layout_notices(source: Source, audio: Audio, tracks: tuple[int, ...]) -> list[Notice]:
    """Notices of tracks whose channels are not kept as they are."""
    found = []
    for positions in file_tracks(audio, tracks):
        parts = [source.audio[position] for position in positions]
        channels, held = sum(part.channels for part in parts), layout_of(audio, parts)
        unsaid = [part for part in parts if is_unsaid(part.layout) and part.channels > 2]
        many = max((part.channels for part in unsaid), default=0)
        if unsaid and many != _CHANNELS_OF.get(held, many):
            found.append(CHANNELS_UNNAMED(channels=many))
        elif audio.channels == "keep" and len(parts) == 1:
            own = parts[0].layout
            if not is_unsaid(own) and held not in (own, own.replace("(side)", "")):
                found.append(LAYOUT_MIXED(layout=own, held=held, codec=audio.codec))
        elif audio.tracks == "merged" and audio.channels == "keep" and held == "stereo" and channels > 2:
            found.append(CHANNELS_MIXED(channels=channels, codec=audio.codec))
    return list(dict.fromkeys(found))
