"""Lists of checksums beside finished files: those that are found are read, new ones are written."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from datetime import datetime
from pathlib import Path

from msgspec import Struct, field

from boxkite.core.errors import PlanError, RequestError
from boxkite.core.files.digests import DIGESTS, file_digests, is_manifest, kind_in_name
from boxkite.core.files.walking import Walk
from boxkite.core.files.writing import replace_file
from boxkite.core.footage.kinds import is_junk
from boxkite.core.handover.delivery import DeliveredFile, Delivery
from boxkite.core.handover.media_hash_lists import (
    FOLDER,
    HashedFile,
    History,
    has_history,
    other_digest,
    read_history,
    require_library,
    write_generation,
)
from boxkite.core.handover.sum_files import list_with, read_sum_file, sum_file_name
from boxkite.core.machine import usable_cores
from boxkite.core.notices.notice import Notice

MHL = "mhl"
_OWN_KIND = "xxh128"
"""The kind that records keep."""
_MOST_AT_ONCE = 4
_TICK_SECONDS = 0.001
"""Records keep whole milliseconds."""

Progress = Callable[[int], None]
"""Gets the number of bytes of each part that was read."""


class KnownSums(Struct):
    """The checksums that manifests beside a delivery know."""

    sums: dict[Path, list[tuple[str, dict[str, str]]]] = field(default_factory=dict)
    """By absolute path: the manifest's name, and the checksums by kind that it has of the file."""
    manifests: list[Path] = field(default_factory=list)
    """Files and folders that are manifests."""
    notices: list[Notice] = field(default_factory=list)

    def add(self, label: str, sums: dict[Path, dict[str, str]], root: Path) -> None:
        """Take what a manifest says of files below a folder."""
        for path, kinds in sums.items():
            if path.is_relative_to(root):
                self.sums.setdefault(path, []).append((label, kinds))


def sums_beside(roots: Iterable[Path]) -> KnownSums:
    """What the manifests in some folders, below them and directly above them say of the files below them."""
    found = KnownSums()
    for root in roots:
        for path in _manifests_of(root):
            read = read_history(path.parent) if path.name == FOLDER else read_sum_file(path)
            label = str(path.relative_to(root)) if path.is_relative_to(root) else str(path)
            found.add(label, read.sums, root)
            found.notices += read.notices
            if path.is_relative_to(root):
                found.manifests.append(path)
    return found


def _manifests_of(root: Path) -> Iterator[Path]:
    walk = Walk(root)
    histories: list[Path] = []
    for folder, names in walk.folders() if root.is_dir() else ():
        if folder.name == FOLDER:
            continue
        if has_history(folder) and not any(folder.is_relative_to(above) for above in histories):
            histories.append(folder)  # with those of the folders below it
            yield folder / FOLDER
        yield from (folder / name for name in names if kind_in_name(Path(name)) and not is_junk(Path(name)))
    above = root.parent
    if has_history(above):
        yield above / FOLDER
    try:
        names = sorted(path.name for path in above.iterdir())
    except OSError:
        return
    yield from (above / name for name in names if kind_in_name(Path(name)) and (above / name).is_file())


def known_checksum(file: DeliveredFile) -> str:
    """The checksum a batch took of a file that has not been written to since; empty where there is none."""
    record = file.record
    if record is None or file.is_numbered_images or not record.checksum or not record.ended:
        return ""
    try:
        status = file.path.stat()
    except OSError:
        return ""
    unchanged = status.st_mtime < datetime.fromisoformat(record.ended).timestamp() + _TICK_SECONDS
    return record.checksum if unchanged and status.st_size == record.size_bytes else ""


class Manifest(Struct, frozen=True):
    """A manifest that was written."""

    path: Path
    files: int
    read: int
    """Files whose bytes were read; of the others a batch had taken the checksum."""
    generation: int = 0
    """Of a media hash list."""


def write_manifests(
    delivery: Delivery,
    form: str,
    *,
    author: str = "",
    taken: Mapping[Path, str] | None = None,
    progress: Progress = lambda _: None,
) -> list[Manifest]:
    """Write a manifest into each folder of a delivery.

    form: one of MANIFEST_FORMS; taken: checksums of the kind that records keep, which were just taken. Raises
    RequestError, PlanError.
    """
    if form == MHL:
        require_library()
    if delivery.not_made and not delivery.files:
        raise RequestError(
            f"batch {delivery.label} has no finished file", hint=f"boxkite resume {delivery.label}"
        )
    return [_write(delivery, root, form, author, taken or {}, progress) for root in delivery.roots]


def bytes_to_read(delivery: Delivery, form: str) -> int:
    """How many bytes writing a manifest is going to read, about."""
    sizes = (
        part.stat().st_size
        for file in _files_of(delivery)
        if form not in (MHL, _OWN_KIND) or not known_checksum(file)
        for part in file.parts()
    )
    return sum(sizes)


def _files_of(delivery: Delivery) -> list[DeliveredFile]:
    """The files a manifest lists: of a folder all that are there, of a batch its own; no manifests."""
    found = [file for file in delivery.files if file.path.exists()]
    if not delivery.is_batch:
        (root,) = delivery.roots
        found += [DeliveredFile(root, path) for path in delivery.others if not is_manifest(path)]
    return found


def _write(
    delivery: Delivery, root: Path, form: str, author: str, taken: Mapping[Path, str], progress: Progress
) -> Manifest:
    files = [file for file in _files_of(delivery) if file.root == root]
    if not files:
        raise RequestError("there is no file to list", path=root)
    missing = [file for file in delivery.files if file.root == root and not file.path.exists()]
    if missing:
        raise RequestError(
            "it is not there", path=missing[0].path, hint="boxkite verify names all that is missing"
        )
    history = read_history(root) if form == MHL and has_history(root) else History(root)
    if history.notices:
        raise RequestError(str(history.notices[0]), hint="boxkite verify tells more")
    kind = form if form != MHL else _OWN_KIND
    hashed, read = [], 0
    try:
        for one, was_read in _hashed(files, kind, history, taken, progress):
            hashed.append(one)
            read += was_read
    except OSError as error:
        reason = (error.strerror or str(error)).lower()
        raise PlanError(f"it cannot be read: {reason}", path=error.filename) from None
    if form == MHL:
        path, generation = write_generation(root, hashed, author)
        return Manifest(path, len(hashed), read, generation)
    path = root / sum_file_name(form)
    sums = {one.path.relative_to(root).as_posix(): one.sums[kind] for one in hashed}
    on_record = {file.name for file in files if file.record}
    try:
        replace_file(path, list_with(path, sums, on_record))
    except OSError as error:
        reason = (error.strerror or str(error)).lower()
        raise PlanError(f"the manifest cannot be written: {reason}", path=path) from None
    return Manifest(path, len(hashed), read)


def _hashed(
    files: Sequence[DeliveredFile], kind: str, history: History, taken: Mapping[Path, str], progress: Progress
) -> Iterator[tuple[HashedFile, bool]]:
    """The files with their checksums, in order, and whether they were read for it. Raises OSError."""

    def hash_one(place: tuple[DeliveredFile, Path]) -> tuple[HashedFile, bool]:
        file, path = place
        wanted = {kind, history.original.get(path, kind)}
        known = taken.get(path) or known_checksum(file)
        status = path.stat()
        if known and wanted == {_OWN_KIND}:
            sums, was_read = {_OWN_KIND: known}, False
        else:
            sums, was_read = digests_of(path, wanted, progress), True
        return HashedFile(path, status.st_size, datetime.fromtimestamp(status.st_mtime), sums), was_read

    parts = [(file, path) for file in files for path in file.parts()]
    with ThreadPoolExecutor(min(_MOST_AT_ONCE, usable_cores())) as pool:
        yield from pool.map(hash_one, parts)


def digests_of(path: Path, kinds: Iterable[str], progress: Progress = lambda _: None) -> dict[str, str]:
    """The checksums of a file by kind, those of media hash lists too; unknown kinds are left out. Raises OSError."""
    wanted = set(kinds)
    found = file_digests(path, [kind for kind in DIGESTS if kind in wanted], progress)
    for kind in wanted - DIGESTS.keys():
        if kind == "c4":
            found[kind] = other_digest(path, kind)
    return found
