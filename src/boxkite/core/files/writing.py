"""The one way small files are written: beside, brought to the disk, then named; whole or not at all."""

from __future__ import annotations

import os
from pathlib import Path

from boxkite.core.files.moving import place, sync_folder
from boxkite.core.files.partials import PREFIX, Partial, key_of, partial_of
from boxkite.core.files.sweeping import sweep


def replace_file(path: Path, content: bytes) -> None:
    """Write a file in the place of what bears its name, if anything does; its permissions stay. Raises OSError.

    A link that leads to the file stays a link.
    """
    target = Path(os.path.realpath(path))
    _sweep_own(target)
    with partial_of(target) as partial:
        _fill(partial, content)
        if target.exists():
            partial.path.chmod(target.stat().st_mode & 0o7777)
        partial.path.replace(target)
        sync_folder(target.parent)


def create_file(path: Path, content: bytes) -> None:
    """Write a new file. Raises FileExistsError where the name is taken, OSError."""
    _sweep_own(path)
    with partial_of(path) as partial:
        _fill(partial, content)
        place(partial.path, path)


def _fill(partial: Partial, content: bytes) -> None:
    with partial.path.open("wb") as file:
        file.write(content)
        file.flush()
        os.fsync(file.fileno())


def _sweep_own(path: Path) -> None:
    """Remove what a writer of this very file left half-written when it was killed."""
    if any(entry.name.startswith(f"{PREFIX}{key_of(path)}-") for entry in _entries(path.parent)):
        sweep(path.parent)


def _entries(folder: Path) -> list[os.DirEntry[str]]:
    try:
        return list(os.scandir(folder))
    except OSError:
        return []
