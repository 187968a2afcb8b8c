"""Looking through folders without passing over anything: what could not be looked into is named."""

from __future__ import annotations

import os
from collections.abc import Iterator
from pathlib import Path

from msgspec import Struct, field


class Unseen(Struct, frozen=True):
    """A place that could not be looked into, or was not, and why."""

    path: Path
    reason: str


class Walk(Struct):
    """One look through a folder and all below it."""

    folder: Path
    stay: bool = False
    """Whether folders on other volumes are left alone."""
    unseen: list[Unseen] = field(default_factory=list)
    """Folders that could not be read, known once all was walked."""
    hidden: int = 0
    """Folders and files that are passed over by their name."""

    def folders(self) -> Iterator[tuple[Path, list[str]]]:
        """(folder, names of the files in it) from the top down, in the order of their names.

        Hidden folders are passed over; names of files are all there are. Links to folders are not followed.
        """
        device = self.folder.stat().st_dev
        for parent, folders, names in os.walk(self.folder, onerror=self._failed):
            inside = []
            for name in sorted(folders):
                if name.startswith("."):
                    self.hidden += 1
                elif self._is_entered(Path(parent, name), device):
                    inside.append(name)
            folders[:] = inside
            yield Path(parent), sorted(names)

    def _is_entered(self, path: Path, device: int) -> bool:
        try:
            if path.is_symlink():
                self.unseen.append(Unseen(path, "a link to a folder, which is not followed"))
                return False
            if self.stay and path.stat().st_dev != device:
                self.unseen.append(Unseen(path, "it is on another volume"))
                return False
        except OSError as error:
            self._failed(error, path)
            return False
        return True

    def _failed(self, error: OSError, path: Path | None = None) -> None:
        where = path or Path(os.fsdecode(error.filename) if error.filename else self.folder)
        reason = (error.strerror or str(error)).lower()
        self.unseen.append(Unseen(where, f"this folder cannot be looked into: {reason}"))
