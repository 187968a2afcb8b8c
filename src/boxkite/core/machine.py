"""The cores and memory of this machine."""

from __future__ import annotations

import os


def usable_cores() -> int:
    """Cores this process may use."""
    if hasattr(os, "sched_getaffinity"):
        return len(os.sched_getaffinity(0))
    return os.cpu_count() or 1


def free_memory_bytes() -> int:
    """Memory that programs can still take without the machine beginning to swap."""
    import psutil

    return int(psutil.virtual_memory().available)
