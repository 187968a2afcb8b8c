"""Giving files of the hand-over their names: never over another one unless asked."""

from __future__ import annotations

from pathlib import Path
from typing import Literal, get_args

from boxkite.core.errors import PlanError, setting
from boxkite.core.files.writing import create_file, replace_file

Existing = Literal["stop", "number", "replace"]
WHERE_THERE: tuple[Existing, ...] = get_args(Existing)
_MOST_NUMBERS = 10_000


def free_path(path: Path, existing: Existing) -> Path:
    """Where a file is going to be written. Raises PlanError where its name is taken and that stops it."""
    if existing == "number":
        for number in range(2, _MOST_NUMBERS):
            if not path.exists():
                return path
            path = path.with_name(f"{path.stem.removesuffix(f'_{number - 1}')}_{number}{path.suffix}")
    if path.exists() and existing == "stop":
        raise PlanError(
            "it exists already; nothing was overwritten", path=path,
            hint=f"{setting('existing')} replace writes over it, number takes another name",
        )  # fmt: skip
    return path


def write(path: Path, content: bytes, existing: Existing) -> None:
    """Write a file under a name of free_path. Raises PlanError."""
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        if existing == "replace":
            replace_file(path, content)
        else:
            create_file(path, content)
    except FileExistsError:
        raise PlanError("another file took its name meanwhile; nothing was overwritten", path=path) from None
    except OSError as error:
        raise PlanError(
            f"it cannot be written: {(error.strerror or str(error)).lower()}", path=path
        ) from None
