"""Checksums of files in the forms that manifests use, several in one reading."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Callable, Collection
from pathlib import Path
from typing import Any

import xxhash

_AT_A_TIME = 1 << 18

DIGESTS: dict[str, Callable[[], Any]] = {
    "xxh128": xxhash.xxh3_128,
    "xxh3": xxhash.xxh3_64,
    "xxh64": xxhash.xxh64,
    "md5": lambda: hashlib.md5(usedforsecurity=False),
    "sha1": lambda: hashlib.sha1(usedforsecurity=False),
    "sha256": hashlib.sha256,
}
"""By the name that manifests call them by. xxh128 is what records keep."""
DIGITS = {"xxh128": 32, "xxh3": 16, "xxh64": 16, "md5": 32, "sha1": 40, "sha256": 64}
"""Hexadecimal digits of each."""

MEDIA_HASH_LISTS = "ascmhl"
"""The folder that holds media hash lists, by the standard (ASC MHL)."""
_SUM_FILE = re.compile(rf"(?:.*\.)?({'|'.join(DIGITS)})(?:sums?)?(?:\.txt)?", re.IGNORECASE)


def kind_in_name(path: Path) -> str:
    """The kind of checksum that the name of a plain list of them tells, as "md5"; empty for other files."""
    match = _SUM_FILE.fullmatch(path.name)
    return match[1].lower() if match else ""


def is_manifest(path: Path) -> bool:
    """Whether a file is a manifest by its name, or by the folder it is in."""
    return bool(kind_in_name(path)) or MEDIA_HASH_LISTS in path.parts


def file_digests(
    path: Path, kinds: Collection[str], progress: Callable[[int], None] = lambda _: None
) -> dict[str, str]:
    """The checksums of a file, by kind, as hexadecimal digits, from one reading. Raises OSError.

    progress gets the number of bytes of each part that was read.
    """
    digests = {kind: DIGESTS[kind]() for kind in kinds}
    part = memoryview(bytearray(_AT_A_TIME))
    with path.open("rb", buffering=0) as file:
        while size := file.readinto(part):
            for digest in digests.values():
                digest.update(part[:size])
            progress(size)
    return {kind: digest.hexdigest() for kind, digest in digests.items()}
