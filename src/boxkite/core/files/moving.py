"""Giving a file or folder its name in one step: never over another one, or in exchange for one that is known."""

from __future__ import annotations

import contextlib
import errno
import os
import shutil
import sys
import threading
from functools import lru_cache
from pathlib import Path
from typing import Any

_NOT_OVER, _EXCHANGE = 1, 2
"""renameat2(2) on Linux."""
_MAC_EXCHANGE, _MAC_NOT_OVER = 2, 4
"""renamex_np(2) on macOS."""
_HERE = -100
"""AT_FDCWD: relative paths count from the working folder."""
_WRITE = 2
"""SYNC_FILE_RANGE_WRITE: without waiting."""
_CANNOT = frozenset({errno.ENOSYS, errno.EINVAL, errno.EOPNOTSUPP, errno.ENOTSUP, errno.EXDEV, errno.EPERM})


def place(path: Path, final: Path) -> None:
    """Give a file or folder a name that is free, and bring that to the disk. Raises FileExistsError, OSError."""
    move(path, final)
    sync_folder(final.parent)


def move(path: Path, final: Path) -> None:
    """The same, for several in a row: whoever calls it brings the folder to the disk afterwards."""
    if not _renamed(path, final, _NOT_OVER):
        _place_in_steps(path, final)


def _place_in_steps(path: Path, final: Path) -> None:
    """Where the system has no rename that fails on a taken name."""
    if not path.is_dir() or path.is_symlink():
        try:
            os.link(path, final, follow_symlinks=False)
        except FileExistsError:
            raise
        except OSError:
            pass  # volumes without hard links: the check and the rename are two steps there
        else:
            path.unlink()
            return
    if os.path.lexists(final):
        raise FileExistsError(errno.EEXIST, "the name is taken", str(final))
    path.rename(final)


def exchange(path: Path, other: Path) -> bool:
    """Let two files, or two folders, change names in one step. False where the system cannot. Raises OSError."""
    if not _renamed(path, other, _EXCHANGE):
        return False
    sync_folder(other.parent)
    return True


def _renamed(path: Path, other: Path, how: int) -> bool:
    call = _system_call()
    if call is None:
        return False
    import ctypes

    if call(os.fsencode(path), os.fsencode(other), how) == 0:
        return True
    number = ctypes.get_errno()
    if number in _CANNOT:
        return False
    raise OSError(number, os.strerror(number), str(path), None, str(other))


@lru_cache(maxsize=1)
def _system_call() -> Any:
    """The system's rename that takes conditions, as a function of (path, other, condition); None where it has none."""
    import ctypes

    with contextlib.suppress(OSError, AttributeError):
        library: Any = ctypes.CDLL(None, use_errno=True)
        if sys.platform == "linux":
            rename = library.renameat2
            rename.argtypes = [ctypes.c_int, ctypes.c_char_p, ctypes.c_int, ctypes.c_char_p, ctypes.c_uint]
            return lambda path, other, how: rename(_HERE, path, _HERE, other, how)
        if sys.platform == "darwin":
            swap = library.renamex_np
            swap.argtypes = [ctypes.c_char_p, ctypes.c_char_p, ctypes.c_uint]
            flags = {_NOT_OVER: _MAC_NOT_OVER, _EXCHANGE: _MAC_EXCHANGE}
            return lambda path, other, how: swap(path, other, flags[how])
    return None


def discard(path: Path) -> None:
    """Remove a file, or a folder with all in it, if it is there."""
    if path.is_dir() and not path.is_symlink():
        shutil.rmtree(path, ignore_errors=True)
    else:
        path.unlink(missing_ok=True)


def sync(path: Path) -> None:
    """Wait until a finished file, or folder of images, has reached the disk. Raises OSError."""
    if path.is_dir():
        for image in path.iterdir():
            _sync(image)
        sync_folder(path)
    else:
        _sync(path)


def start_syncing(path: Path) -> None:
    """Let a finished file begin to reach the disk while it is verified; what is left of it is waited for later."""
    if path.is_file() and _early_write():
        threading.Thread(target=_begin_to_sync, args=(path,), daemon=True).start()


def _begin_to_sync(path: Path) -> None:
    with contextlib.suppress(OSError):  # it may have been given up meanwhile
        descriptor = os.open(path, os.O_RDONLY)
        try:
            begin_to_sync(descriptor)
        finally:
            os.close(descriptor)


def begin_to_sync(descriptor: int, start: int = 0, length: int = 0) -> None:
    """Let bytes of an open file begin to reach the disk, where the system knows how to. length: 0 for all that follow.

    It does not tell what the disk did not take: sync does, afterwards. Two syncs would not do, as the system tells each
    failure once, to the one that waits first.
    """
    if call := _early_write():
        call(descriptor, start, length, _WRITE)


@lru_cache(maxsize=1)
def _early_write() -> Any:
    """sync_file_range(2) of Linux; None elsewhere."""
    if sys.platform == "linux":
        import ctypes

        with contextlib.suppress(OSError, AttributeError):
            call: Any = ctypes.CDLL(None).sync_file_range
            call.argtypes = [ctypes.c_int, ctypes.c_int64, ctypes.c_int64, ctypes.c_uint]
            return call
    return None


def sync_folder(folder: Path) -> None:
    """Wait until the names in a folder have reached the disk. Raises OSError."""
    if os.name != "nt":  # a folder cannot be opened for syncing there
        _sync(folder)


def _sync(path: Path) -> None:
    descriptor = os.open(path, os.O_RDONLY)
    try:
        os.fsync(descriptor)
    finally:
        os.close(descriptor)


def make_folders(folder: Path) -> list[Path]:
    """Make a folder and those above it, each brought to the disk; those that were made, the highest first.

    Raises OSError, after removing what it made.
    """
    made: list[Path] = []
    try:
        for ancestor in reversed([folder, *folder.parents]):
            if not ancestor.is_dir():
                with contextlib.suppress(FileExistsError):  # another process may have been faster
                    ancestor.mkdir()
                    made.append(ancestor)
                    sync_folder(ancestor.parent)
    except OSError:
        remove_empty(made)
        raise
    return made


def remove_empty(folders: list[Path]) -> None:
    """Remove folders that were made, unless somebody has put something in meanwhile."""
    for folder in reversed(folders):
        with contextlib.suppress(OSError):
            folder.rmdir()
