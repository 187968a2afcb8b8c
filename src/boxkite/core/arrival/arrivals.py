"""The sources in a watched folder, and how long each has been unchanged."""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Iterable
from pathlib import Path

from msgspec import Struct

from boxkite.core.files.walking import Unseen, Walk
from boxkite.core.footage.find import group_sequences
from boxkite.core.footage.kinds import CAMERA_RAW, MEDIA_SUFFIXES, is_junk
from boxkite.core.footage.source import SequencePattern

Clock = Callable[[], float]


class Arrival(Struct, frozen=True):
    """One source in the folder: a media file, or a sequence of images, with the files that belong to it."""

    path: Path
    """Of the file; of a sequence its folder and its name with a # for each digit."""
    files: tuple[Path, ...]
    stamp: str
    """Tells it from what it was before."""
    beside: tuple[str, ...] = ()
    """Stamps of the files beside it that share its name."""

    @property
    def name(self) -> str:
        """Its name in messages."""
        return self.path.name


def look_into(folder: Path) -> tuple[list[Arrival], list[Unseen]]:
    """Every source below a folder, in the order of their names, and what could not be looked into.

    Raises OSError where the folder itself cannot be read.

    Hidden files, and those whose ending is of no media (as copying programs give them until they are complete), are
    none.
    """
    media: list[Path] = []
    others: dict[tuple[Path, str], list[str]] = {}
    stamps: dict[Path, tuple[int, int]] = {}
    os.scandir(folder).close()
    walk = Walk(folder)
    for parent, names in walk.folders():
        for name in names:
            path = parent / name
            if name.startswith(".") or is_junk(path):
                continue
            try:
                status = path.stat()
            except FileNotFoundError:
                continue  # gone meanwhile: the next look tells
            except OSError as error:
                walk.unseen.append(Unseen(path, f"it cannot be looked at: {(error.strerror or '').lower()}"))
                continue
            suffix = path.suffix.lower()
            if suffix in MEDIA_SUFFIXES or suffix in CAMERA_RAW:
                media.append(path)
                stamps[path] = (status.st_size, status.st_mtime_ns)
            else:
                others.setdefault((path.parent, _stem(name)), []).append(
                    f"{name} {status.st_size} {status.st_mtime_ns}"
                )
    return [_arrival(path, files, stamps, others) for path, files in _sources(media)], walk.unseen


def _sources(media: Iterable[Path]) -> list[tuple[Path, tuple[Path, ...]]]:
    sequences, singles = group_sequences(media)
    found: list[tuple[Path, tuple[Path, ...]]] = [(path, (path,)) for path in singles]
    for one in sequences:
        numbers = sorted({*range(one.first, one.last + 1)} - {*one.missing})
        files = tuple(one.folder / one.file_name(number) for number in numbers)
        found.append((_sequence_path(one), files))
    return sorted(found)


def _sequence_path(one: SequencePattern) -> Path:
    return one.folder / f"{one.prefix}{'#' * max(1, one.digits)}{one.suffix}"


def _arrival(
    path: Path,
    files: tuple[Path, ...],
    stamps: dict[Path, tuple[int, int]],
    others: dict[tuple[Path, str], list[str]],
) -> Arrival:
    size = sum(stamps[file][0] for file in files)
    newest = max(stamps[file][1] for file in files)
    return Arrival(
        path, files, f"{len(files)}-{size}-{newest}", tuple(others.get((path.parent, _stem(path.name)), ()))
    )


def _stem(name: str) -> str:
    """A file's name up to its first extension: clip for clip.mov and clip.mov.xmp."""
    return name.partition(".")[0]


class Settling:
    """Remembers since when each arrival has stayed as it is."""

    def __init__(self, clock: Clock = time.monotonic) -> None:
        self._clock = clock
        self._since: dict[Path, tuple[Arrival, float]] = {}

    def seen(self, arrivals: Iterable[Arrival]) -> None:
        """Take note of a look into the folder."""
        now = self._clock()
        known = self._since
        self._since = {}
        for arrival in arrivals:
            before, since = known.get(arrival.path, (None, now))
            self._since[arrival.path] = (arrival, since if before == arrival else now)

    def still_for(self, arrival: Arrival) -> float:
        """Seconds for which it has not changed."""
        known, since = self._since.get(arrival.path, (None, self._clock()))
        return self._clock() - since if known == arrival else 0.0
