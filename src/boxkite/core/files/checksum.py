"""The checksum of a file, and what tells whether a source is still the one it was."""

from __future__ import annotations

from pathlib import Path

import xxhash

_AT_A_TIME = 1 << 18
"""Bytes: few enough to stay near the processor between being read and being counted in."""


def file_checksum(path: Path) -> str:
    """XXH3 of 128 bits over all bytes of a file, as 32 hexadecimal digits. Raises OSError.

    Of a folder: over the names of its files and the checksum of each, in the order of their names.
    """
    checksum = xxhash.xxh3_128()
    if path.is_dir():
        for inside in sorted(path.iterdir()):
            checksum.update(f"{inside.name}\0{file_checksum(inside)}\n".encode("utf-8", "surrogatepass"))
        return checksum.hexdigest()
    part = memoryview(bytearray(_AT_A_TIME))
    with path.open("rb", buffering=0) as file:
        while size := file.readinto(part):
            checksum.update(part[:size])
    return checksum.hexdigest()


def text_checksum(text: str) -> str:
    """XXH3 of 128 bits over a text in UTF-8."""
    return xxhash.xxh3_128_hexdigest(text.encode("utf-8", "surrogatepass"))


def file_stamp(path: Path) -> str:
    """Size and time of change: as long as both stay, a source is taken to be the same. Raises OSError."""
    status = path.stat()
    return f"{status.st_size}-{status.st_mtime_ns}"
