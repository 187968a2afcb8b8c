"""The cores and memory of this machine."""

from __future__ import annotations

import contextlib
import math
import os
from collections.abc import Iterator

_BLAS = "OPENBLAS_NUM_THREADS"
_MMAP_THRESHOLD, _TRIM_THRESHOLD = -3, -1
_MMAP_BYTES, _TRIM_BYTES = 32 << 20, 64 << 20


class _Settings:
    """What this process has put into its environment."""

    blas_is_ours = False


def begin_no_threads_for_matrices() -> None:
    """Let NumPy's library begin no threads when it is loaded: they wait busily, and no command multiplies matrices.

    Does nothing where the user has said how many there should be.
    """
    if _BLAS not in os.environ:
        os.environ[_BLAS], _Settings.blas_is_ours = "1", True


@contextlib.contextmanager
def no_threads_for_matrices() -> Iterator[None]:
    """The same while NumPy is loaded here, as in a program that uses the library; its environment stays as it was."""
    is_said = _BLAS in os.environ
    os.environ.setdefault(_BLAS, "1")
    try:
        yield
    finally:
        if not is_said:
            os.environ.pop(_BLAS, None)


def users_environment() -> dict[str, str]:
    """The environment as the user has it, for programs that are not ours."""
    hidden = {_BLAS} if _Settings.blas_is_ours else set()
    return {name: value for name, value in os.environ.items() if name not in hidden}


def keep_memory() -> None:
    """Have frames and packets take memory that was theirs before, where the C library is GNU's and was told nothing."""
    import ctypes

    names = ("MALLOC_MMAP_THRESHOLD_", "MALLOC_TRIM_THRESHOLD_")
    for name, what, size in zip(
        names, (_MMAP_THRESHOLD, _TRIM_THRESHOLD), (_MMAP_BYTES, _TRIM_BYTES), strict=True
    ):
        if name not in os.environ:
            with contextlib.suppress(AttributeError, OSError, TypeError):
                ctypes.CDLL(None).mallopt(what, size)


def usable_cores() -> int:
    """Cores this process may use; in a container, as many as it is given the time of, a part of one counted as one."""
    from boxkite.core.control_groups import allowed_cores

    cores = len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1
    allowed = allowed_cores()
    return cores if allowed is None else max(1, min(cores, math.ceil(allowed)))


def free_memory_bytes() -> int:
    """Memory that programs can still take without the machine beginning to swap, or their container to end them."""
    import psutil

    from boxkite.core.control_groups import allowed_bytes

    free, allowed = int(psutil.virtual_memory().available), allowed_bytes()
    return free if allowed is None else min(free, allowed)
