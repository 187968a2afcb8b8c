"""Room on the disks while a batch runs: a file is only begun where it can be expected to fit."""

from __future__ import annotations

import shutil
import time
from collections.abc import Iterable, Sequence
from pathlib import Path

from boxkite.core.plan.rows import Row

_LOOK_EVERY_SECONDS = 1.0
_LEFT_FREE_BYTES = 1_000_000


class Room:
    """Watches the volumes that files go to."""

    def __init__(self) -> None:
        self._free: dict[int, tuple[float, int]] = {}
        self._volume: dict[Path, int] = {}
        self._was_full: set[int] = set()

    def lacking(self, rows: Sequence[Row], running: Iterable[Row]) -> tuple[Path, int, int] | None:
        """(folder, bytes needed, bytes free) where the files of a shot do not fit beside those being made.

        The least they can take counts; the most, once a volume has been full. None where they fit, and where
        the system does not tell.
        """
        needed: dict[int, int] = {}
        folders: dict[int, Path] = {}
        try:
            for row in (*rows, *running):
                volume = self._volume_of(row.folder)
                most = row.bytes_between[volume in self._was_full]
                needed[volume] = needed.get(volume, 0) + most
                folders.setdefault(volume, row.folder)
            for volume in {self._volume_of(row.folder) for row in rows}:
                free = self._free_on(volume, folders[volume])
                if needed[volume] + _LEFT_FREE_BYTES > free:
                    return folders[volume], needed[volume], free
        except OSError:
            return None
        return None

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
