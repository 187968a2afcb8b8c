"""Files under a hidden name while they are made, and who owns them.

A partial file lies in the folder of the file it becomes, so that giving the name is one step on one volume. Its
owner holds a lock on it that the system releases when the owner's process ends, however it ends. Names of machines
and numbers of processes say nothing about that: machines are cloned, and containers all count from 1. On a volume
that other machines write to, where locks may not reach them, the owner also touches its files every now and then, and
what was not touched for a while belongs to nobody.
"""

from __future__ import annotations

import contextlib
import errno
import hashlib
import os
import stat
import time
from collections.abc import Iterator
from pathlib import Path

from msgspec import Struct

from boxkite.core.files.moving import discard
from boxkite.core.files.volumes import is_shared

PREFIX = ".boxkite-"
PARTIAL = ".partial"
NOTES = ".passes"
LEASE_SECONDS = 180.0
"""On shared volumes: for so long after the last touch a partial file has an owner."""
RENEW_SECONDS = 20.0
_ATTEMPTS = 20
_NO_LOCKS = frozenset(
    {errno.ENOLCK, errno.EOPNOTSUPP, errno.ENOTSUP, errno.ENOSYS, errno.EBADF, errno.EINVAL}
)


def key_of(final: Path) -> str:
    """The common part of the hidden names of everything that belongs to a file."""
    return hashlib.sha256(final.name.encode("utf-8", "surrogatepass")).hexdigest()[:12]


def new_token() -> str:
    """A token that tells one attempt at a file from every other, on any machine."""
    return os.urandom(6).hex()


def notes_beside(partial: Path) -> Path:
    """Where an encoder's notes on a file are kept between its passes; some encoders add to this name."""
    return partial.with_name(partial.name.removesuffix(PARTIAL) + NOTES)


def discard_notes(partial: Path) -> None:
    """Remove an encoder's notes on a file."""
    notes = notes_beside(partial)
    for path in notes.parent.glob(f"{_escaped(notes.name)}*"):
        path.unlink(missing_ok=True)


def _escaped(name: str) -> str:
    import glob

    return glob.escape(name)


class Partial:
    """A partial file, or folder of images, that this process owns until it is released, given its name or discarded."""

    def __init__(self, final: Path, *, folder: bool = False, among: set[Partial] | None = None) -> None:
        """Make it, empty, beside the file it becomes. Raises OSError.

        among: takes it in before there is anything on disk, so that whoever is interrupted at any place can remove it.
        """
        self.final = self.path = final
        self._claim: Claim | None = None
        if among is not None:
            among.add(self)
        try:
            self._make(folder)
        except OSError:
            if among is not None:
                among.discard(self)
            raise

    def _make(self, folder: bool) -> None:
        for _ in range(_ATTEMPTS):
            self.path = self.final.with_name(f"{PREFIX}{key_of(self.final)}-{new_token()}{PARTIAL}")
            if folder:
                self.path.mkdir()
            else:
                os.close(os.open(self.path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o666))
            try:
                self._claim = claimed(self.path, own=True)
            except BaseException:  # the end of the process among them
                discard(self.path)
                raise
            if self._claim is not None:
                return
        raise OSError(errno.EBUSY, "no partial file could be locked", str(self.final.parent))

    def renew(self) -> None:
        """Tell other machines that the file still has an owner."""
        if self._claim is not None:
            self._claim.renew()

    def release(self) -> None:
        """Let go of it; what still bears the hidden name belongs to nobody then."""
        if self._claim is not None:
            self._claim.release()

    def discard(self) -> None:
        """Remove it and an encoder's notes on it, and let go of it."""
        if self.path == self.final:  # interrupted before there was anything
            return
        try:
            with contextlib.suppress(OSError):
                discard_notes(self.path)
        finally:  # also where the process is being ended meanwhile
            with contextlib.suppress(OSError):  # a volume that has gone; what is left has no owner
                discard(self.path)
            self.release()


class Claim(Struct):
    """A lock on a file that is there."""

    path: Path
    descriptor: int | None
    """None where the volume knows no locks."""
    shared: bool
    renewed: float = 0.0

    def renew(self) -> None:
        """Touch the file where others cannot see the lock, unless that was just done."""
        now = time.monotonic()
        if self.shared and now - self.renewed >= RENEW_SECONDS:
            self.renewed = now
            with contextlib.suppress(OSError):
                os.utime(self.path)

    def release(self) -> None:
        """Give the lock back."""
        if self.descriptor is not None:
            os.close(self.descriptor)
            self.descriptor = None


def claimed(path: Path, *, own: bool = False) -> Claim | None:
    """A lock on a file or folder; None where somebody else has it, or it has gone. own: it was just made by the caller.

    Raises OSError where it cannot be opened.
    """
    shared = is_shared(path.parent)
    try:
        is_folder = path.is_dir()
        descriptor = os.open(path, os.O_RDONLY if is_folder or not own else os.O_RDWR)
    except FileNotFoundError:
        return None
    except OSError:
        if os.name == "nt" and path.is_dir():
            return Claim(path, None, shared=True)
        raise
    locks = _lock(descriptor)
    if locks is None:
        os.close(descriptor)
        return None
    if not _is_same(descriptor, path):  # removed or exchanged before the lock was there
        os.close(descriptor)
        return None
    shared = shared or not locks
    if shared and not own and time.time() - _touched(path) < LEASE_SECONDS:
        os.close(descriptor)
        return None
    return Claim(path, descriptor, shared)


def _lock(descriptor: int) -> bool | None:
    """True for a lock that was taken, False where the volume has none, None where another process holds it."""
    try:
        import fcntl
    except ImportError:
        return False
    try:
        fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError as error:
        if error.errno in _NO_LOCKS:
            return False
        if error.errno in (errno.EWOULDBLOCK, errno.EACCES):
            return None
        raise
    return True


def _is_same(descriptor: int, path: Path) -> bool:
    try:
        there = path.lstat()
    except OSError:
        return False
    own = os.fstat(descriptor)
    return (own.st_dev, own.st_ino) == (there.st_dev, there.st_ino)


def _touched(path: Path) -> float:
    """When a file was last written to or touched, by this machine's clock, as near as possible."""
    found = path.lstat()
    newest = max(found.st_mtime, found.st_ctime)
    if stat.S_ISDIR(found.st_mode):
        with contextlib.suppress(OSError):
            newest = max([newest, *(entry.stat().st_mtime for entry in os.scandir(path))])
    return newest


@contextlib.contextmanager
def partial_of(final: Path) -> Iterator[Partial]:
    """A partial file for as long as it is written; what is not given its name by then is removed. Raises OSError."""
    held: set[Partial] = set()
    try:
        yield Partial(final, among=held)
    finally:
        for partial in held:
            partial.discard()
