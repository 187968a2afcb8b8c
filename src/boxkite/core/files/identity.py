"""The identity of a file: tells it from others, and from itself before a change."""

from __future__ import annotations

import contextlib
import os
import struct
from collections.abc import Sequence
from functools import lru_cache
from pathlib import Path

import xxhash
from msgspec import Struct
from msgspec.structs import replace

from boxkite.core.files.volumes import has_stable_inodes

_END_BYTES = 1 << 16
_MOST_INDEX_BYTES = 1 << 26
_MOST_BOXES = 1000
_MOVIE_BOXES = (b"ftyp", b"moov", b"mdat", b"wide", b"free", b"skip", b"pnot")


class FileIdentity(Struct, frozen=True):
    """A regular file as it was at one moment."""

    system: str
    """The run of the system that device, inode and changed_ns (when content or status changed last) hold for;
    elsewhere, and after the next start, they say nothing."""
    device: int
    """0 where the volume makes them up."""
    inode: int
    size_bytes: int
    modified_ns: int
    """As every machine sees them."""
    changed_ns: int
    ends: str
    """XXH3 of 128 bits over its first and last 64 KB and, of MOV and MP4 (ISO/IEC 14496-12), its index."""

    def is_status_of(self, now: os.stat_result) -> bool:
        """Whether size and times, inode and device are those it had; the cheap half of the comparison."""
        if (now.st_size, now.st_mtime_ns) != (self.size_bytes, self.modified_ns):
            return False
        if not self._knows(now.st_dev):
            return True  # another machine, or a volume that was connected again: only the content can tell
        return (self.inode, self.changed_ns) == (now.st_ino, now.st_ctime_ns)

    def difference(self, now: FileIdentity) -> str:
        """How a file differs now, in words; empty if it does not."""
        if now.size_bytes != self.size_bytes:
            return f"it had {self.size_bytes} bytes and has {now.size_bytes}"
        if now.ends != self.ends:
            return "its content is different"
        if now.modified_ns != self.modified_ns:
            return "it was written to"
        if self._knows(now.device):
            if self.inode != now.inode:
                return "another file was put in its place"
            if self.changed_ns != now.changed_ns:
                return "it was written to, moved or given other rights"
        return ""

    def is_here_and_now(self, now: os.stat_result) -> bool:
        """Whether device, inode and times are those of a file as it is here and now."""
        same = (self.device, self.inode, self.changed_ns) == (now.st_dev, now.st_ino, now.st_ctime_ns)
        return same and self.system == _system()

    def with_status(self, now: os.stat_result) -> FileIdentity:
        """The same content with the status it has here and now."""
        if not self.device:
            return self
        return replace(
            self, system=_system(), device=now.st_dev, inode=now.st_ino, changed_ns=now.st_ctime_ns
        )

    @property
    def stamp(self) -> str:
        """The identity in short, as every machine sees it: size, time of change, some of its content."""
        return f"{self.size_bytes}-{self.modified_ns}-{self.ends[:16]}"

    def _knows(self, device: int) -> bool:
        """Whether inode and time of change can be compared with those of a file on a device, here and now."""
        return bool(self.device) and device == self.device and self.system == _system()


@lru_cache(maxsize=1)
def _system() -> str:
    """The name of this boot of this system: all containers of a machine share it, two machines never do."""
    with contextlib.suppress(OSError):
        return Path("/proc/sys/kernel/random/boot_id").read_text("ascii").strip()
    import uuid

    import psutil

    return f"{uuid.getnode()}-{psutil.boot_time():.0f}"


def identity_of(descriptor: int, path: Path) -> FileIdentity:
    """The identity of an open regular file. path: where it lies, to learn what its volume can tell. Raises OSError."""
    found = os.fstat(descriptor)
    stable = has_stable_inodes(path, found.st_dev)
    return FileIdentity(
        system=_system(),
        device=found.st_dev if stable else 0,
        inode=found.st_ino if stable else 0,
        size_bytes=found.st_size,
        modified_ns=found.st_mtime_ns,
        changed_ns=found.st_ctime_ns if stable else 0,
        ends=_ends(descriptor, found.st_size),
    )


def begins_as_movie(descriptor: int) -> bool:
    """Whether an open file begins as MOV and MP4 files of today do (ISO/IEC 14496-12 §4.3)."""
    return _read(descriptor, 0, 8)[4:] == b"ftyp"


def identity_of_images(paths: Sequence[Path]) -> FileIdentity:
    """The identity of numbered images together: their names, sizes and times. Raises OSError where one has gone."""
    stable = has_stable_inodes(paths[0])
    shared, own = xxhash.xxh3_128(), xxhash.xxh3_64()
    size, newest, changed, device = 0, 0, 0, 0
    for path in paths:
        found = path.stat()
        name = path.name.encode("utf-8", "surrogatepass")
        shared.update(name + f"\0{found.st_size} {found.st_mtime_ns}\n".encode())
        own.update(f"{found.st_dev} {found.st_ino} {found.st_ctime_ns}\n".encode())
        size += found.st_size
        newest = max(newest, found.st_mtime_ns)
        changed = max(changed, found.st_ctime_ns)
        device = found.st_dev
    return FileIdentity(
        system=_system(),
        device=device if stable else 0,
        inode=own.intdigest() if stable else 0,
        size_bytes=size,
        modified_ns=newest,
        changed_ns=changed if stable else 0,
        ends=shared.hexdigest(),
    )


def _ends(descriptor: int, size: int) -> str:
    checksum = xxhash.xxh3_128()
    head = _read(descriptor, 0, min(size, _END_BYTES))
    checksum.update(head)
    if size > _END_BYTES:
        start = max(_END_BYTES, size - _END_BYTES)
        checksum.update(_read(descriptor, start, size - start))
    if head[4:8] in _MOVIE_BOXES:
        begin, end = _index_place(descriptor, size)
        while begin < end:
            part = _read(descriptor, begin, min(1 << 20, end - begin))
            if not part:
                break
            checksum.update(part)
            begin += len(part)
    return checksum.hexdigest()


def _index_place(descriptor: int, size: int) -> tuple[int, int]:
    """First byte of the movie box and the first after what is looked at of it; 0, 0 where there is none."""
    at = 0
    for _ in range(_MOST_BOXES):
        head = _read(descriptor, at, 16)
        if len(head) < 8:
            break
        length, kind = struct.unpack(">I4s", head[:8])
        if length == 1 and len(head) == 16:
            length = struct.unpack(">Q", head[8:])[0]
        elif length == 0:
            length = size - at
        if kind == b"moov":
            return at, min(size, at + min(length, _MOST_INDEX_BYTES))
        if length < 8:
            break
        at += length
    return 0, 0


def _read(descriptor: int, at: int, count: int) -> bytes:
    """Bytes from a place in an open file, whose own place stays where it is."""
    if hasattr(os, "pread"):
        return os.pread(descriptor, count, at)
    os.lseek(descriptor, at, os.SEEK_SET)
    return os.read(descriptor, count)


def stamp_of(path: Path) -> str:
    """The stamp of a file or a folder of images: tells whether its content may have changed.

    Raises OSError. A rename leaves it as it is.
    """
    found = path.lstat()
    own = [found.st_dev, found.st_ino] if has_stable_inodes(path) else [0, 0]
    if not path.is_dir() or path.is_symlink():
        return "-".join(map(str, (*own, found.st_size, found.st_mtime_ns)))
    checksum = xxhash.xxh3_128()
    for entry in sorted(os.scandir(path), key=lambda one: one.name):
        inside = entry.stat(follow_symlinks=False)
        line = f"{entry.name}\0{inside.st_size} {inside.st_mtime_ns} {inside.st_mode}\n"
        checksum.update(line.encode("utf-8", "surrogatepass"))
    return "-".join(map(str, (*own, checksum.hexdigest())))
