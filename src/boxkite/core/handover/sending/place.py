"""One place that files are sent to: what every protocol does in the same way, over the one interface of fsspec."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Callable, Iterator, Mapping
from pathlib import Path
from typing import Any, BinaryIO

import xxhash
from msgspec import Struct

from boxkite.core.errors import RequestError
from boxkite.core.files.moving import begin_to_sync
from boxkite.core.handover.sending.address import Address

AT_A_TIME = 1 << 22
_NEAR_BYTES = 1 << 18
_EXTRA = "pip install 'boxkite-shots[send]'"

Tick = Callable[[int], None]
"""Gets the number of bytes that went over, below 0 where they are to be sent again. May raise to end it."""


class Remote(Struct, frozen=True):
    """A file at its destination."""

    size_bytes: int
    tag: str = ""
    """Changes with the file: an entity tag, or the time of the last change. Empty where there is none."""


class Content(Struct, frozen=True):
    """The bytes to be sent."""

    path: Path
    size_bytes: int
    checksum: str
    """XXH3 of 128 bits."""


class ChangedHereError(Exception):
    """The file here is not the one that was to be sent."""


class WrongThereError(Exception):
    """What is read back is not what was sent."""


class Place:
    """A destination that is connected. Not for several threads at once."""

    can_append = True
    """Whether a half-sent file can be resumed."""

    def __init__(self, address: Address) -> None:
        self.address = address
        self.fs: Any = self.connect()

    def connect(self) -> Any:
        """The file system of fsspec. Raises whatever its library raises, RequestError where that is missing."""
        return file_system(self.address.protocol, host=self.address.host or None, port=self.address.port,
                           username=self.address.user or None, use_listings_cache=False)  # fmt: skip

    def close(self) -> None:
        """Let go of the connection."""

    def at(self, name: str) -> str:
        """The path of a file as fsspec takes it."""
        return f"{self.address.path}/{name}"

    def files_in(self, folder: str) -> dict[str, Remote]:
        """The files in one folder of the destination by name; none where there is no such folder."""
        try:
            found = self.fs.ls(self.at(folder).rstrip("/"), detail=True)
        except (FileNotFoundError, NotADirectoryError):
            return {}
        return {
            str(one["name"]).rstrip("/").rpartition("/")[2]: self.as_remote(one)
            for one in found
            if one.get("type") != "directory"
        }

    def as_remote(self, info: Mapping[str, Any]) -> Remote:
        """What fsspec says of a file."""
        tag = next(
            (info[key] for key in ("ETag", "etag", "mtime", "modified", "LastModified") if info.get(key)), ""
        )
        return Remote(int(info.get("size") or 0), str(tag))

    def make_folder(self, folder: str) -> None:
        """Make a folder of the destination and those above it."""
        self.fs.makedirs(self.at(folder).rstrip("/"), exist_ok=True)

    def length_of(self, name: str) -> int:
        """How many bytes of a partial file are there."""
        try:
            return int(self.fs.info(self.at(name))["size"])
        except FileNotFoundError:
            return 0

    def send(self, content: Content, partial: str, tick: Tick) -> None:
        """Send the bytes to a partial name, after those that are there. Raises ChangedHereError."""
        start = self.length_of(partial) if self.can_append else 0
        start = start if start <= content.size_bytes else 0
        with reading(content) as source, self.open_for_writing(partial, start) as target:
            source.skip(start)
            tick(start)
            self.hand_over(source, target, tick)
            source.require_whole()
            try:
                self.bring_to_disk(target)
                return
            except Exception as error:
                failure = error
        self.remove(partial)  # it is told once: an attempt that goes on from there would not hear of it
        raise failure

    def hand_over(self, source: Source, target: Any, tick: Tick) -> None:
        """Write the bytes that are left of a source. The libraries may keep what they are given for a while."""
        while part := source.read(AT_A_TIME):
            target.write(part)
            tick(len(part))

    def open_for_writing(self, partial: str, start: int) -> Any:
        """The partial file, to be written to from a place on."""
        return self.fs.open(self.at(partial), "ab" if start else "wb")

    def bring_to_disk(self, target: Any) -> None:
        """Wait until what was written has reached the disk, where the protocol knows of one; raises what it does."""

    def read(self, name: str, size_bytes: int) -> Iterator[bytes]:
        """The bytes of a file there. size_bytes: how many there should be; another number may end it early."""
        left = size_bytes
        with self.fs.open(self.at(name), "rb") as file:
            while left and (
                part := file.read(min(left, AT_A_TIME))
            ):  # asking beyond the end is slow over SFTP
                left -= len(part)
                yield part
        if self.length_of(name) != size_bytes:
            raise WrongThereError

    def check(self, content: Content, name: str, tick: Tick) -> str:
        """Read a file back and compare it, telling how many bytes were read; how that was done. Raises
        WrongThereError.
        """
        digest, length = xxhash.xxh3_128(), 0
        for part in self.read(name, content.size_bytes):
            digest.update(part)
            length += len(part)
            tick(len(part))
        if length != content.size_bytes or digest.hexdigest() != content.checksum:
            raise WrongThereError
        return "read back"

    def name_it(self, partial: str, name: str, *, replace: bool) -> None:
        """Give a partial file its name. Raises FileExistsError where it is taken and not to be replaced."""
        if not replace and self.fs.exists(self.at(name)):
            raise FileExistsError(name)
        self.fs.mv(self.at(partial), self.at(name))

    def remove(self, name: str) -> None:
        """Remove a file, if it is there."""
        with contextlib.suppress(FileNotFoundError):
            self.fs.rm_file(self.at(name))

    def remove_partial(self, name: str) -> None:
        """Remove what is left of a file that was half sent."""
        self.remove(name)

    def is_full(self, wanted_bytes: int) -> bool:
        """Whether the destination says that so many bytes have no room."""
        return False


def file_system(protocol: str, **options: Any) -> Any:
    """A file system of fsspec by its name. Raises RequestError where there is none, or its package is missing."""
    try:
        import fsspec
    except ImportError:
        raise RequestError("sending needs the extra “send”", hint=_EXTRA) from None
    try:
        kind = fsspec.get_filesystem_class(protocol)
    except ValueError:
        raise RequestError(f"there is no way to send to “{protocol}://”",
                           hint="there are folders, https:// (WebDAV), sftp://, s3://") from None  # fmt: skip
    except ImportError as error:
        raise RequestError(f"sending to {protocol}:// needs a package that is not installed",
                           hint=str(error).strip().splitlines()[0]) from None  # fmt: skip
    wanted = {key: value for key, value in options.items() if value is not None}
    return kind(skip_instance_cache=True, **wanted)


class Source:
    """The bytes of a file here, counted and hashed as they are read."""

    def __init__(self, content: Content, file: BinaryIO) -> None:
        self.content = content
        self._file = file
        self._digest = xxhash.xxh3_128()
        self.position = 0

    def read(self, size: int = -1) -> bytes:
        """The next bytes."""
        part = self._file.read(size)
        self._digest.update(part)
        self.position += len(part)
        return part

    def read_into(self, buffer: memoryview) -> int:
        """The next bytes, into a buffer; how many."""
        size = self._file.readinto(buffer)  # type: ignore[attr-defined]
        self._digest.update(buffer[:size])
        self.position += size
        return int(size)

    def skip(self, length: int) -> None:
        """Read over what is there already."""
        while self.position < length:
            if not self.read(min(AT_A_TIME, length - self.position)):
                return

    def require_whole(self) -> None:
        """Raises ChangedHereError where these are not the bytes that were to be sent."""
        if self.position != self.content.size_bytes or self._digest.hexdigest() != self.content.checksum:
            raise ChangedHereError


@contextlib.contextmanager
def reading(content: Content) -> Iterator[Source]:
    """A file here, opened to be sent. Raises OSError."""
    with content.path.open("rb", buffering=0) as file:
        yield Source(content, file)


class FolderPlace(Place):
    """A folder of this machine, or of a volume that is mounted."""

    def connect(self) -> Any:
        """The local file system."""
        return file_system("file", auto_mkdir=False)

    def hand_over(self, source: Source, target: Any, tick: Tick) -> None:
        """In pieces that stay near the processor between being read, counted in and written."""
        buffer, told = memoryview(bytearray(_NEAR_BYTES)), source.position
        while size := source.read_into(buffer):
            target.write(buffer[:size])
            if source.position - told >= AT_A_TIME:
                tick(source.position - told)
                told = source.position
                begin_to_sync(target.fileno())
        tick(source.position - told)

    def read(self, name: str, size_bytes: int) -> Iterator[bytes]:
        """The bytes of a file there, in such pieces."""
        buffer = bytearray(_NEAR_BYTES)
        with Path(self.at(name)).open("rb", buffering=0) as file:
            while size := file.readinto(buffer):
                yield memoryview(buffer)[:size]  # type: ignore[misc]
        if self.length_of(name) != size_bytes:
            raise WrongThereError

    def bring_to_disk(self, target: Any) -> None:
        """Sync it."""
        target.flush()
        os.fsync(target.fileno())

    def name_it(self, partial: str, name: str, *, replace: bool) -> None:
        """In one step, and on the disk when it returns."""
        from boxkite.core.files.moving import place, sync_folder

        path, final = Path(self.at(partial)), Path(self.at(name))
        if replace:
            path.replace(final)
            sync_folder(final.parent)
        else:
            place(path, final)

    def make_folder(self, folder: str) -> None:
        """Make it and those above it, on the disk."""
        from boxkite.core.files.moving import make_folders

        make_folders(Path(self.at(folder)))
