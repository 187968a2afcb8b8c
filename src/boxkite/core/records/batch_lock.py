"""Who runs a batch: a lock that ends with its process, however that ends."""

from __future__ import annotations

import contextlib
from pathlib import Path
from types import TracebackType
from typing import TYPE_CHECKING, Self

from boxkite.core.errors import RecordsError, setting

if TYPE_CHECKING:
    from filelock import FileLock

_PATIENCE_SECONDS = 2.0


def lock_path(folder: Path, name: str) -> Path:
    """Where the lock of a batch lies in the state folder."""
    return folder / "running" / f"{name}.lock"


class BatchLock:
    """Holds a batch while it is run, or a folder while it is watched; a second process cannot. Use it as a context."""

    def __init__(self, folder: Path, name: str, *, taken: str = "", hint: str = "") -> None:
        """taken, hint: the message where another process holds it, if it is no batch."""
        self._taken = taken or f"batch {name} is being run by another process"
        self._hint = (
            hint or f"boxkite status {name} {setting('follow')} shows it, boxkite stop {name} stops it"
        )
        self._path = lock_path(folder, name)
        self._lock = _lock_at(self._path)

    def __enter__(self) -> Self:
        """Raises RecordsError where another process holds it."""
        from filelock import Timeout

        try:
            self._path.parent.mkdir(parents=True, exist_ok=True)
            self._lock.acquire(timeout=_PATIENCE_SECONDS)  # one that only looks holds it for an instant
        except Timeout:
            raise RecordsError(self._taken, hint=self._hint) from None
        except OSError as error:
            raise RecordsError(
                f"the batch cannot be locked: {error.strerror or error}", path=self._path
            ) from None
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._lock.release()


def _lock_at(path: Path) -> FileLock:
    from filelock import FileLock  # late: most questions are about batches that nobody can hold

    return FileLock(path, thread_local=False)


def is_held(folder: Path, name: str) -> bool:
    """Whether a process runs the batch, or waits for its turn."""
    path = lock_path(folder, name)
    if not path.exists():
        return False
    from filelock import Timeout

    lock = _lock_at(path)
    try:
        lock.acquire(timeout=0)
    except Timeout:
        return True
    except OSError:
        return False
    lock.release()
    return False


def remove_lock(folder: Path, name: str) -> None:
    """Remove what is left of a lock nobody needs, and what a process in the background printed."""
    for path in (lock_path(folder, name), prints_path(folder, name)):
        with contextlib.suppress(OSError):
            path.unlink(missing_ok=True)


def prints_path(folder: Path, name: str) -> Path:
    """Where what the process of a batch prints in the background is kept."""
    return lock_path(folder, name).with_suffix(".txt")
