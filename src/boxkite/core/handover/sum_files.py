"""Plain lists of checksums, a line each, as the checksum programs of every system write and read them."""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping
from pathlib import Path

from msgspec import Struct, field

from boxkite.core.errors import RequestError
from boxkite.core.files.digests import DIGITS, kind_in_name
from boxkite.core.files.reading import read_bytes
from boxkite.core.notices.handover import MANIFEST_UNREADABLE, NAMES_OUTSIDE
from boxkite.core.notices.notice import Notice

_MOST_BYTES = 1 << 28
_STEM = "checksums"
_BY_LINE = re.compile(r"(\\?)(?:XXH3_)?([0-9a-fA-F]{16,64}) [ *](.+)", re.DOTALL)
_TAGGED = re.compile(r"(\\?)(\w+) \((.+)\) = (?:XXH3_)?([0-9a-fA-F]{16,64})", re.DOTALL)
_ESCAPED = re.compile(r"\\(.)", re.DOTALL)
_TAGS = {
    "xxh3": "xxh3",
    "xxh64": "xxh64",
    "xxh128": "xxh128",
    "md5": "md5",
    "sha1": "sha1",
    "sha256": "sha256",
}


class SumFile(Struct):
    """The checksums in a list."""

    path: Path
    sums: dict[Path, dict[str, str]] = field(default_factory=dict)
    """By the absolute path of each file: its checksums by kind."""
    notices: list[Notice] = field(default_factory=list)


def sum_file_name(kind: str) -> str:
    """The name of the list that is written for a kind of checksum."""
    return f"{_STEM}.{kind}"


def read_sum_file(path: Path) -> SumFile:
    """The list in a file of such a name; what cannot be understood is in its notices."""
    found, kind = SumFile(path), kind_in_name(path)
    try:
        text = read_bytes(path, _MOST_BYTES).decode("utf-8-sig", "surrogateescape")
    except OSError as error:
        found.notices.append(MANIFEST_UNREADABLE(reason=(error.strerror or str(error)).lower()).of(str(path)))
        return found
    unread: list[int] = []
    for number, raw in enumerate(text.split("\n"), start=1):
        line = raw.removesuffix("\r")
        if not line.strip() or line.startswith(("#", ";", "%")):
            continue
        read = entry_in(line, kind)
        if read is None:
            unread.append(number)
            continue
        name, own_kind, checksum = read
        target = _below(path.parent, name)
        if target is None:
            found.notices.append(NAMES_OUTSIDE(line=number, name=name).of(str(path)))
        else:
            found.sums.setdefault(target, {})[own_kind] = checksum.lower()
    if unread:
        others = f" and {len(unread) - 1} more" if len(unread) > 1 else ""
        reason = f"there is no checksum in line {unread[0]}{others}"
        found.notices.append(MANIFEST_UNREADABLE(reason=reason).of(str(path)))
    return found


def entry_in(line: str, kind: str) -> tuple[str, str, str] | None:
    """(name, kind, checksum) of a line of a list; None where it holds no checksum of that kind."""
    if match := _TAGGED.fullmatch(line):
        escaped, tag, name, checksum = match.groups()
        kind = _TAGS.get(tag.lower().replace("-", ""), "")
    elif match := _BY_LINE.fullmatch(line):
        escaped, checksum, name = match.groups()
    else:
        return None
    if DIGITS.get(kind) != len(checksum):
        return None
    return (_unescaped(name) if escaped else name), kind, checksum


def _below(folder: Path, name: str) -> Path | None:
    """The path of a name in a list; None for one outside its folder."""
    parts = [part for part in name.replace("\\", "/").split("/") if part not in ("", ".")]
    written = folder / name
    if written.exists() and ".." not in Path(name).parts and not Path(name).is_absolute():
        return Path(*[str(folder), *[part for part in Path(name).parts if part != "."]])
    if not parts or ".." in parts or name.startswith("/") or "\0" in name:
        return None
    return folder.joinpath(*parts)


def list_with(path: Path, sums: Mapping[str, str], on_record: Collection[str]) -> bytes:
    """A list as GNU coreutils and xxhsum read it, with checksums by name; every other line that stands there stays.

    on_record: names of files that a record vouches for, whose checksums may change. Raises RequestError where another
    file is no longer what the list says, OSError.
    """
    kind, left, lines = kind_in_name(path), dict(sums), []
    for line in _lines_of(path):
        entry = entry_in(line, kind)
        name = entry[0] if entry and entry[1] == kind else ""
        if entry is None or name not in left:
            lines.append(line)
            continue
        if entry[2].lower() != left[name] and name not in on_record:
            hint = "boxkite verify tells more; move the list away to begin a new one"
            raise RequestError(f"{name} is no longer what this list says", path=path, hint=hint)
        lines.append(line_of(left.pop(name), name))
    lines += [line_of(checksum, name) for name, checksum in sorted(left.items())]
    return "".join(f"{line}\n" for line in lines).encode("utf-8", "surrogateescape")


def _lines_of(path: Path) -> list[str]:
    """The lines of a list; none where there is no list. Raises OSError."""
    if not path.exists():
        return []
    lines = read_bytes(path, _MOST_BYTES).decode("utf-8-sig", "surrogateescape").split("\n")
    return [line.removesuffix("\r") for line in (lines if lines[-1] else lines[:-1])]


def line_of(checksum: str, name: str) -> str:
    """One line without its end; a name with backslashes or line breaks is escaped, and a backslash before all tells."""
    escaped = name.replace("\\", "\\\\").replace("\n", "\\n").replace("\r", "\\r")
    lead = "\\" if escaped != name else ""
    return f"{lead}{checksum}  {escaped}"


def _unescaped(name: str) -> str:
    return _ESCAPED.sub(lambda found: {"n": "\n", "r": "\r"}.get(found[1], found[1]), name)
