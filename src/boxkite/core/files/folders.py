"""Folders that files are going to be written to: made, tried, and rid of what nobody owns."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

from boxkite.core.errors import PlanError
from boxkite.core.files.moving import make_folders, remove_empty
from boxkite.core.files.partials import partial_of
from boxkite.core.files.sweeping import sweep
from boxkite.core.notices.notice import Notice


def prepare_folders(folders: Iterable[Path]) -> list[Notice]:
    """Make the folders files will be written to, and make sure that they can be; notices of what was finished there.

    Partial files of processes that have ended are removed, replacements that were interrupted are finished. Raises
    PlanError for the first folder that cannot be written to, after removing the folders made so far.
    """
    made: list[Path] = []
    notices: list[Notice] = []
    for folder in sorted(set(folders)):
        try:
            made += make_folders(folder)
            notices += sweep(folder)
            with partial_of(folder / "trial"):
                pass
        except OSError as error:
            remove_empty(made)
            raise PlanError(
                f"this folder cannot be written to: {(error.strerror or 'unknown cause').lower()}",
                path=folder,
                hint="choose another output folder",
            ) from None
    return notices
