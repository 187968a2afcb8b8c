"""Whether a renaming was interrupted: a quick look at the records' bytes, since every status asks and few have any."""

from __future__ import annotations

import contextlib
from pathlib import Path

from boxkite.core.records.store import state_folder

_STATES = (b'"state":"begun"', b'"state":"undoing"')


def renames_folder() -> Path:
    """Where renamings are on record, one file each."""
    return state_folder() / "renames"


def may_be_unfinished() -> bool:
    """Whether any record says so, or cannot be read."""
    folder = renames_folder()
    for path in folder.glob("*.json") if folder.is_dir() else []:
        with contextlib.suppress(FileNotFoundError):
            try:
                content = path.read_bytes() if path.is_file() else b""
            except OSError:
                return True
            if not content.startswith(b'{"kind":"RenameRecord"') or any(
                state in content for state in _STATES
            ):
                return True
    return False
