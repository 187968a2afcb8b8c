"""Whether finished files are still what they were: there, whole, with the same bytes; and what is there besides."""

from __future__ import annotations

from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from msgspec import Struct, field

from boxkite.core.files.checksum import file_checksum
from boxkite.core.files.digests import is_manifest
from boxkite.core.footage.kinds import MEDIA_SUFFIXES
from boxkite.core.handover.delivery import DeliveredFile, Delivery
from boxkite.core.handover.manifests import KnownSums, Progress, digests_of, sums_beside
from boxkite.core.machine import usable_cores
from boxkite.core.notices.handover import EXTRA, MISSING, NOT_READ, OTHER_BYTES, OTHER_SIZE, TRUNCATED
from boxkite.core.notices.notice import Notice

JOURNAL = "the record"
_OWN_KIND = "xxh128"
_MOST_AT_ONCE = 4


class Checked(Struct, frozen=True):
    """One file, and what was found."""

    file: DeliveredFile
    faults: tuple[Notice, ...] = ()
    notices: tuple[Notice, ...] = ()
    """What is to be known of it and is no fault."""
    against: tuple[str, ...] = ()
    """What it was compared with: the record, manifests."""

    @property
    def is_known(self) -> bool:
        """Whether a record or a manifest knows it."""
        return bool(self.against)


class Check(Struct):
    """A delivery that is to be checked."""

    delivery: Delivery
    known: KnownSums
    files: list[DeliveredFile] = field(default_factory=list)
    """All that should be there, and what is there besides, manifests excepted."""

    @property
    def is_known(self) -> bool:
        """Whether any record or manifest knows any of the files."""
        return any(file.record for file in self.files) or bool(self.known.sums)

    @property
    def size_bytes(self) -> int:
        """How many bytes checking it reads, about."""
        total = 0
        for file in self.files:
            try:
                total += sum(part.stat().st_size for part in file.parts())
            except OSError:
                continue
        return total


def check_of(delivery: Delivery) -> Check:
    """The check of a delivery: its files, those that manifests beside it name, and what nobody knows."""
    known = sums_beside(delivery.roots)
    files = list(delivery.files)
    images = {file.path for file in files if file.is_numbered_images}
    seen = {file.path for file in files}
    others = [path for path in delivery.others if not is_manifest(path)]
    if not delivery.is_batch:
        others += [path for path in known.sums if path not in seen and path.parent not in images]
    for path in dict.fromkeys(others):
        root = next(root for root in delivery.roots if path.is_relative_to(root))
        if path not in seen:
            files.append(DeliveredFile(root, path))
    return Check(delivery, known, files)


def check_files(check: Check, progress: Progress = lambda _: None) -> Iterator[Checked]:
    """Read every file and compare it with its record and with all manifests, in order. Writes nothing."""
    is_known = check.is_known

    def check_one(file: DeliveredFile) -> Checked:
        try:
            return _checked(file, check.known, is_known, progress)
        except OSError as error:
            return Checked(file, (NOT_READ(reason=(error.strerror or str(error)).lower()),))

    with ThreadPoolExecutor(min(_MOST_AT_ONCE, usable_cores())) as pool:
        yield from pool.map(check_one, check.files)


def _checked(file: DeliveredFile, known: KnownSums, is_known: bool, progress: Progress) -> Checked:
    record = file.record
    if not file.path.exists():
        return Checked(file, (MISSING(),), against=_against(file, known))
    if file.is_numbered_images:
        return _checked_images(file, known, progress)
    listed = known.sums.get(file.path, [])
    if record is None and not listed:
        return Checked(file, (EXTRA(),) if is_known else ())
    size = file.path.stat().st_size
    against = _against(file, known)
    if record and record.size_bytes and size != record.size_bytes and not file.also:
        if size < record.size_bytes:
            return Checked(file, (TRUNCATED(found=size, wanted=record.size_bytes),), against=against)
        fault = OTHER_SIZE(found=size, wanted=record.size_bytes, against=JOURNAL)
        return Checked(file, (fault,), against=against)
    wanted = [(label, kind, checksum) for label, kinds in listed for kind, checksum in kinds.items()]
    if record and record.checksum:
        wanted.insert(0, (JOURNAL, _OWN_KIND, record.checksum))
    found = digests_of(file.path, {kind for _, kind, _ in wanted}, progress)
    faults = [
        OTHER_BYTES(kind=kind, found=found[kind], wanted=checksum, against=label)
        for label, kind, checksum in wanted
        if kind in found and found[kind] != checksum and not (label == JOURNAL and found[kind] in file.also)
    ]
    return Checked(file, tuple(faults), against=against)


def _checked_images(file: DeliveredFile, known: KnownSums, progress: Progress) -> Checked:
    """A folder of images: all together against its record, each against the manifests."""
    assert file.record
    faults = []
    found = file_checksum(file.path)
    if found != file.record.checksum:
        faults.append(OTHER_BYTES(kind=_OWN_KIND, found=found, wanted=file.record.checksum, against=JOURNAL))
    inside = {path: listed for path, listed in known.sums.items() if path.parent == file.path}
    for path, listed in inside.items():
        if not path.exists():
            faults.append(MISSING().of(path.name))
            continue
        digests = digests_of(path, {kind for _, kinds in listed for kind in kinds}, progress)
        for label, kinds in listed:
            for kind, checksum in kinds.items():
                if digests.get(kind, checksum) != checksum:
                    fault = OTHER_BYTES(kind=kind, found=digests[kind], wanted=checksum, against=label)
                    faults.append(fault.of(path.name))
    return Checked(file, tuple(faults), against=_against(file, known))


def _against(file: DeliveredFile, known: KnownSums) -> tuple[str, ...]:
    labels = [JOURNAL] if file.record else []
    labels += [label for label, _ in known.sums.get(file.path, [])]
    return tuple(dict.fromkeys(labels))


def is_media(path: Path) -> bool:
    """Whether a file is one the codec library may read, by its extension."""
    return path.suffix.lower() in MEDIA_SUFFIXES
