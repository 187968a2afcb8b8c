"""The type of volume a path is on: whether locks hold there, and whether inodes identify files."""

from __future__ import annotations

import contextlib
import os
import sys
from pathlib import Path

_STABLE = frozenset(
    {"ext2", "ext3", "ext4", "xfs", "btrfs", "zfs", "f2fs", "tmpfs", "overlay", "bcachefs", "jfs", "reiserfs", "ufs",
     "apfs", "hfs", "nfs", "nfs4", "ceph"}
)  # fmt: skip
"""Volumes that keep inode numbers and the time of the last change of status; card file systems make both up."""
_SHARED = frozenset(
    {"nfs", "nfs4", "cifs", "smb3", "smbfs", "afpfs", "webdav", "9p", "virtiofs", "ceph", "glusterfs", "lustre",
     "gfs2", "ocfs2", "afs", "beegfs", "gpfs", "davfs"}
)  # fmt: skip
"""Volumes that other machines may write to as well; fuse.* counts among them."""


_KNOWN: dict[int, str] = {}
"""The kind of file system of each device that was asked for; a device has one."""


def has_stable_inodes(path: Path, device: int | None = None) -> bool:
    """Whether device, inode and time of change tell a file from another one put in its place.

    device: that the path lies on, where it is known already.
    """
    return kind_of_volume(path, device) in _STABLE


def is_shared(path: Path) -> bool:
    """Whether other machines may write to the volume too, so that a lock taken here may not reach them."""
    kind = kind_of_volume(path)
    return kind in _SHARED or kind.startswith("fuse")


def kind_of_volume(path: Path, device: int | None = None) -> str:
    """The kind of file system that a path lies on, as the system calls it; empty where it does not tell."""
    try:
        device = path.stat().st_dev if device is None else device
    except (OSError, ValueError):
        return ""
    if device not in _KNOWN:
        place = Path(os.path.realpath(path))
        while not place.is_mount() and place != place.parent:
            place = place.parent
        _KNOWN[device] = _mounted().get(str(place), "")
    return _KNOWN[device]


def _mounted() -> dict[str, str]:
    """The kind of file system by the place it is mounted at; the last one mounted there counts."""
    if sys.platform == "linux":
        found = {}
        with contextlib.suppress(OSError), Path("/proc/self/mountinfo").open("rb") as table:
            for line in table:
                before, _, after = line.partition(b" - ")
                place = before.split(b" ")[4].decode("unicode_escape").encode("latin-1")  # spaces are \040
                found[os.fsdecode(place)] = os.fsdecode(after.split(b" ")[0])
        return found
    import psutil

    return {part.mountpoint: part.fstype.casefold() for part in psutil.disk_partitions(all=True)}
