"""Going back from the clips of an edit to the camera files: by path, by name, by reel and timecode."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from pathlib import Path, PurePath, PureWindowsPath

from msgspec import Struct

from boxkite.core.edit.timeline import Clip, MediaName
from boxkite.core.errors import FootageError
from boxkite.core.files.reading import is_file
from boxkite.core.footage.exr import with_layer
from boxkite.core.footage.find import group_sequences
from boxkite.core.footage.kinds import STILL_SUFFIXES
from boxkite.core.footage.source import ImageSettings, Source
from boxkite.core.timebase import Timecode


class Found(Struct, frozen=True):
    """The source of a clip, or None with what is missing or ambiguous and what was tried."""

    source: Source | None
    problem: str = ""


class MediaFinder:
    """Finds the sources of clips among the footage at hand; each medium is looked for once."""

    def __init__(self, edit_path: Path, sources: Sequence[Source], images: ImageSettings) -> None:
        self._folder = edit_path if edit_path.is_dir() else edit_path.parent
        self._images = images
        self._by_path = {source.path.absolute(): source for source in sources if source.video}
        self._by_name: dict[str, list[Source]] = {}
        self._by_reel: dict[str, list[Source]] = {}
        for source in self._by_path.values():
            for name in {source.path.name.casefold(), source.clip_name.casefold(), source.label.casefold()}:
                self._by_name.setdefault(name, []).append(source)
            if source.reel:
                self._by_reel.setdefault(source.reel.casefold(), []).append(source)
        self._known: dict[tuple[MediaName, str, int], Found] = {}

    def find(self, clip: Clip) -> Found:
        """The source a clip was cut from."""
        key = (clip.media, clip.name, clip.source_start)
        if key not in self._known:
            self._known[key] = self._find(clip)
        return self._known[key]

    def _find(self, clip: Clip) -> Found:
        tried: list[str] = []
        if clip.media.path:
            source = self.at_path(clip.media.path)
            if source:
                return Found(source)
            tried.append(f"path {clip.media.path}")
        names = _names(clip)
        named = _distinct(source for name in names for source in self._by_name.get(name, ()))
        if names:
            tried.append(f"name {min(names, key=len)}")
        if len(named) > 1:
            named = _narrowed(named, clip)
        if len(named) == 1:
            return Found(named[0])
        if not named and clip.media.tape:
            reel = clip.media.tape.casefold()
            candidates = [*self._by_reel.get(reel, ()), *self._by_name.get(reel, ())]
            named = _distinct(source for source in candidates if _holds(source, clip) is not False)
            tried.append(f"reel {clip.media.tape} at {_source_timecode(clip)}")
            if len(named) > 1:
                named = [source for source in named if _holds(source, clip)] or named
            if len(named) == 1:
                return Found(named[0])
        label = clip.media.label
        if named:
            listed = ", ".join(str(source.path) for source in named[:4]) + (" …" if len(named) > 4 else "")
            return Found(None, f"“{label}” fits {len(named)} sources: {listed}")
        return Found(None, f"“{label}” is missing; tried {', '.join(tried) or 'nothing, it has no name'}")

    def at_path(self, text: str) -> Source | None:
        """The source at a path as an edit writes it, absolute or beside the edit."""
        where = (self._folder / text).absolute()
        if where in self._by_path:
            return self._by_path[where]
        try:
            if is_file(where):
                source = self._read(where)
                self._by_path[where] = source
                return source if source.video else None
        except (FootageError, OSError, ValueError):
            return None
        return None

    def _read(self, path: Path) -> Source:
        from boxkite.core.footage.probe import read_sequence, read_source  # loads the codec library

        if path.suffix.lower() in STILL_SUFFIXES:
            beside = [one for one in path.parent.iterdir() if one.suffix.lower() == path.suffix.lower()]
            sequences, _ = group_sequences(sorted(beside))
            for sequence in sequences:
                if path.name == sequence.file_name(sequence.first):
                    return read_sequence(sequence, self._images)
        return with_layer(read_source(path), self._images)


def _distinct(sources: Iterable[Source]) -> list[Source]:
    return list({source.path: source for source in sources}.values())


def _names(clip: Clip) -> set[str]:
    """The names a clip's media may bear, case ignored: of its path, of its media, of the clip itself."""
    names = set()
    for text in (clip.media.path, clip.media.name, clip.name):
        if text:
            name = PureWindowsPath(text).name or text
            names |= {name.casefold(), PurePath(name).stem.casefold()}
    return {name for name in names if name}


def _narrowed(sources: list[Source], clip: Clip) -> list[Source]:
    """Of several sources of one name those that fit best: by folder, by reel, by timecode."""
    wanted = [part.casefold() for part in PureWindowsPath(clip.media.path).parts]

    def alike(source: Source) -> int:
        own = [part.casefold() for part in source.path.absolute().parts]
        count = 0
        while count < min(len(own), len(wanted)) and own[-1 - count] == wanted[-1 - count]:
            count += 1
        return count

    if len(wanted) > 1:
        best = max(alike(source) for source in sources)
        if best > 1:
            sources = [source for source in sources if alike(source) == best]
    reel = clip.media.tape.casefold()
    if reel and any(source.reel.casefold() == reel for source in sources):
        sources = [source for source in sources if source.reel.casefold() == reel]
    if clip.source_from_zero is not True and any(_holds(source, clip) for source in sources):
        sources = [source for source in sources if _holds(source, clip)]
    return sources


def _holds(source: Source, clip: Clip) -> bool | None:
    """Whether the timecode of a source runs over the clip's first frame; None where either has none."""
    start, video = source.start_timecode, source.video
    if start is None or video is None or clip.source_from_zero is True:
        return None
    offset = _timecode_offset(clip, start)
    return 0 <= offset < max(1, video.frame_count)


def _source_timecode(clip: Clip) -> Timecode | int:
    return Timecode(clip.source_start, clip.source_rate) if clip.source_rate else clip.source_start


def _timecode_offset(clip: Clip, start: Timecode) -> int:
    """Frames from a source's start timecode to the clip's first frame, in frames of the source."""
    rate = clip.source_rate or start.rate
    if rate.nominal == start.rate.nominal:
        drop = clip.source_drop and start.rate.can_drop
        if clip.source_from_zero is False and drop != start.drop:
            return (
                Timecode(clip.source_start, rate, clip.source_drop)
                .relabelled(start.rate, drop=start.drop)
                .frame
                - start.frame
            )
        return clip.source_start - start.frame
    return round(clip.source_start * start.rate.fraction / rate.fraction) - start.frame
