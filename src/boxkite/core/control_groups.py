"""What a container lets its programs use of the machine: control groups of Linux, versions 1 and 2.

Sources: admin-guide/cgroup-v2.rst, scheduler/sched-bwc.rst and admin-guide/cgroup-v1/memory.rst of the kernel's
documentation.
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from pathlib import Path

MOUNTED = Path("/sys/fs/cgroup")
OWN_GROUPS = Path("/proc/self/cgroup")


def allowed_cores(mounted: Path = MOUNTED, own_groups: Path = OWN_GROUPS) -> float | None:
    """How many cores' time this process may use, perhaps a part of one; None where nothing limits it.

    mounted: where the groups are; own_groups: the file that says which this process is in.
    """
    found = []
    for group in _groups("cpu", mounted, own_groups):
        limit = _words(group / "cpu.max") or [
            *_words(group / "cpu.cfs_quota_us"),
            *_words(group / "cpu.cfs_period_us"),
        ]
        if len(limit) == 2 and all(map(str.isdecimal, limit)) and int(limit[1]):  # else “max”, or -1
            found.append(int(limit[0]) / int(limit[1]))
    return min(found, default=None)


def allowed_bytes(mounted: Path = MOUNTED, own_groups: Path = OWN_GROUPS) -> int | None:
    """Memory that this process and those in its container may still take; None where nothing limits it.

    What is kept of files and was not asked for lately counts as free: the system lets go of it first.
    """
    found = []
    for group in _groups("memory", mounted, own_groups):
        most = _words(group / "memory.max") or _words(group / "memory.limit_in_bytes")
        used = _words(group / "memory.current") or _words(group / "memory.usage_in_bytes")
        if most and used and most[0].isdecimal() and used[0].isdecimal():
            counts = _words(group / "memory.stat")
            kept = dict(zip(counts[::2], counts[1::2], strict=False))
            idle = kept.get("total_inactive_file", kept.get("inactive_file", "0"))
            found.append(max(0, int(most[0]) - int(used[0]) + int(idle if idle.isdecimal() else 0)))
    return min(found, default=None)


def _groups(controller: str, mounted: Path, own_groups: Path) -> Iterator[Path]:
    """The folders of this process's group and of those around it, as far as they are seen from here."""
    for line in _lines(own_groups):
        _, controllers, path = [*line.split(":", 2), "", ""][:3]
        if controllers and controller not in controllers.split(","):
            continue
        top = mounted / controller if controllers else mounted
        group = top / path.strip("/")
        yield from (folder for folder in (group, *group.parents) if folder.is_relative_to(top))


def _lines(path: Path) -> list[str]:
    with contextlib.suppress(OSError, UnicodeDecodeError):
        return path.read_text().splitlines()
    return []


def _words(path: Path) -> list[str]:
    """The words in a file; none where there is no such file."""
    return " ".join(_lines(path)).split()
