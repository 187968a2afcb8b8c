"""Room on the disks while a batch runs: a file is only begun where it can be expected to fit."""

from __future__ import annotations

import shutil
import time
from collections.abc import Iterable, Sequence
from pathlib import Path

from boxkite.core.plan.rows import Row

_LOOK_EVERY_SECONDS = 1.0
_LEFT_FREE_BYTES = 1_000_000
_UNEVEN = 1.25
"""Shots of one preset differ in size for their frames."""


class DiskSpace:
    """Watches the volumes that files go to."""

    def __init__(self) -> None:
        self._free: dict[int, tuple[float, int]] = {}
        self._volume: dict[Path, int] = {}
        self._was_full: set[int] = set()
        self._learned: dict[str, tuple[int, int]] = {}

    def out_of_space(self, rows: Sequence[Row], running: Iterable[Row]) -> tuple[Path, int, int] | None:
        """(folder, bytes needed, bytes free) where the files of a shot do not fit beside those being made.

        None where they fit, where the system does not tell, and where nothing has been learned yet of how large
        such files become: expectations alone stop nothing.
        """
        needed: dict[int, int] = {}
        folders: dict[int, Path] = {}
        try:
            for row in (*rows, *running):
                volume = self._volume_of(row.folder)
                needed[volume] = needed.get(volume, 0) + self._needed(row, volume)
                folders.setdefault(volume, row.folder)
            for volume in {self._volume_of(row.folder) for row in rows}:
                free = self._free_on(volume, folders[volume])
                if needed[volume] and needed[volume] + _LEFT_FREE_BYTES > free:
                    return folders[volume], needed[volume], free
        except OSError:
            return None
        return None

    def made(self, row: Row, size_bytes: int) -> None:
        """Learn the size of a finished file."""
        size, expected = self._learned.get(row.preset.name, (0, 0))
        self._learned[row.preset.name] = (size + size_bytes, expected + row.expected_bytes)

    def _needed(self, row: Row, volume: int) -> int:
        """The bytes a file will take: as expected, corrected by earlier files; the least where there are none."""
        size, expected = self._learned.get(row.preset.name, (0, 0))
        times = 2 if row.chunks else 1  # its chunks are there until they are joined
        if expected:
            return round(times * row.expected_bytes * size / expected * _UNEVEN)
        return times * row.bytes_between[0] if volume in self._was_full else 0

    def was_full(self, row: Row) -> None:
        """A file has failed for want of room."""
        try:
            volume = self._volume_of(row.folder)
        except OSError:
            return
        self._was_full.add(volume)
        self._free.pop(volume, None)

    def _volume_of(self, folder: Path) -> int:
        if folder not in self._volume:
            self._volume[folder] = folder.stat().st_dev
        return self._volume[folder]

    def _free_on(self, volume: int, folder: Path) -> int:
        now = time.monotonic()
        at, free = self._free.get(volume, (-_LOOK_EVERY_SECONDS, 0))
        if now - at >= _LOOK_EVERY_SECONDS:
            free = shutil.disk_usage(folder).free
            self._free[volume] = (now, free)
        return free
