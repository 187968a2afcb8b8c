"""Clean-up after processes that have ended: partial files removed, interrupted replacements finished."""

from __future__ import annotations

import contextlib
import os
from pathlib import Path

from boxkite.core.files.moving import discard
from boxkite.core.files.partials import NOTES, PARTIAL, PREFIX, claimed
from boxkite.core.files.replacing import NOTE, finish
from boxkite.core.notices.notice import Notice


def sweep(folder: Path) -> list[Notice]:
    """Remove the partial files in a folder that nobody owns, and finish replacements that were interrupted.

    Notices of the latter.
    """
    notices = []
    hidden = _hidden(folder)
    for path in hidden:
        if path.name.endswith(NOTE):
            notices += finish(path)
    for path in hidden:
        if path.name.endswith(PARTIAL):
            with contextlib.suppress(OSError):
                if claim := claimed(path):
                    discard(path)
                    claim.release()
    for path in hidden:
        owner, notes, _ = path.name.partition(NOTES)
        if notes and not path.with_name(f"{owner}{PARTIAL}").exists():
            with contextlib.suppress(OSError):
                path.unlink(missing_ok=True)
    return notices


def _hidden(folder: Path) -> list[Path]:
    try:
        return [Path(folder, entry.name) for entry in os.scandir(folder) if entry.name.startswith(PREFIX)]
    except OSError:
        return []
