"""What sending would do at one destination: each file sent, there already, or in the way of another."""

from __future__ import annotations

import hashlib
import os
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path, PurePosixPath
from typing import Literal

from msgspec import Struct
from msgspec.structs import replace

from boxkite.core.errors import PlanError, setting
from boxkite.core.handover.sending.address import Address
from boxkite.core.handover.sending.place import Content, FolderPlace, Place, Remote, WrongThereError
from boxkite.core.handover.sending.uploads import Upload
from boxkite.core.records.sendings import SentFile, half_sent_to, sent_to
from boxkite.core.records.store import Records

Existing = Literal["stop", "skip", "number", "replace"]
What = Literal["send", "replace", "sent before", "identical", "kept"]
"""send: it is not there; sent before, identical: these bytes are there; kept: another file is there and stays."""
_PARTIAL = ".boxkite-{key}.sending"
"""Not the extension of files that are being made: what nobody holds of those is swept away."""
_MOST_NUMBERS = 10_000


class PlannedUpload(Struct, frozen=True):
    """A file and what becomes of it at the destination."""

    upload: Upload
    what: What
    tag: str = ""
    """Of the file that is there, where these bytes are there."""

    @property
    def is_sent(self) -> bool:
        """Whether bytes go over."""
        return self.what in ("send", "replace")

    @property
    def partial(self) -> str:
        """The hidden name it is sent under: the same for the same bytes and name, so that it can be resumed."""
        key = hashlib.sha256(
            f"{self.upload.checksum} {self.upload.name}".encode("utf-8", "surrogatepass")
        ).hexdigest()
        return str(PurePosixPath(self.upload.name).parent / _PARTIAL.format(key=key[:16])).removeprefix("./")


class SendPlan(Struct, frozen=True):
    """What sending does at one destination."""

    address: Address
    uploads: tuple[PlannedUpload, ...]
    stale: tuple[str, ...] = ()
    """Partial names of earlier sendings that nothing resumes; they are removed."""
    conflicts: tuple[str, ...] = ()
    """Names that another file has there, where that stops it."""

    @property
    def to_send(self) -> list[PlannedUpload]:
        """Those whose bytes go over."""
        return [one for one in self.uploads if one.is_sent]

    @property
    def size_bytes(self) -> int:
        """How many bytes go over, if nothing of them is there already."""
        return sum(one.upload.size_bytes for one in self.to_send)

    def require_free(self) -> None:
        """Raises PlanError where a name is taken by another file and that stops it."""
        if self.conflicts:
            raise PlanError(
                f"another file of this name is there already; nothing was sent: {self.conflicts[0]}",
                path=self.address.label, details=[f"{name} too" for name in self.conflicts[1:20]],
                hint=f"{setting('existing')} skip leaves it, number takes another name, replace writes over it",
            )  # fmt: skip


def plan_sending(
    place: Place,
    uploads: Sequence[Upload],
    records: Records,
    *,
    existing: Existing = "stop",
    only_new: bool = False,
    progress: Callable[[int], None] = lambda _: None,
) -> SendPlan:
    """Look at a destination and at the records. Uploads have checksums.

    only_new: what was sent there before is not looked for. progress is told of the bytes that were read there, to
    compare files that have the same name and size. Raises RecordsError, and what the libraries of the protocol
    raise.
    """
    before = sent_to(records, place.address.url)
    if only_new:
        uploads = [one for one in uploads if not _was_sent(before.get(one.name), one)]
    there = {folder: place.files_in(folder) for folder in dict.fromkeys(map(_folder, uploads))}
    planned: list[PlannedUpload] = []
    conflicts: list[str] = []
    taken = {one.name for one in uploads}
    for one in uploads:
        remote = there[_folder(one)].get(PurePosixPath(one.name).name)
        found = _planned(place, one, remote, before.get(one.name), progress)
        if found is None and existing == "stop":
            conflicts.append(one.name)
        elif found is None and existing == "number":
            found = _numbered(place, one, there, before, taken, progress)
        elif found is None:
            if existing == "replace":
                _require_no_original(place, one, records)
            found = PlannedUpload(one, "kept" if existing == "skip" else "replace")
        planned += [found] if found else []
    partials = {one.partial for one in planned if one.is_sent}
    stale = {one.partial for one in half_sent_to(records, place.address.url)} - partials
    return SendPlan(place.address, tuple(planned), tuple(sorted(stale)), tuple(conflicts))


def _require_no_original(place: Place, upload: Upload, records: Records) -> None:
    """Raises PlanError where the file that would be replaced is a source of a batch on record."""
    if isinstance(place, FolderPlace):
        path = Path(place.at(upload.name))
        if records.ask("select 1 from file where source = ? limit 1", os.fsencode(path)):
            raise PlanError("it is a source of a batch, and is never replaced", path=path)


def _folder(upload: Upload) -> str:
    folder = str(PurePosixPath(upload.name).parent)
    return "" if folder == "." else folder


def _was_sent(before: SentFile | None, upload: Upload) -> bool:
    return before is not None and before.checksum == upload.checksum


def _planned(
    place: Place,
    upload: Upload,
    remote: Remote | None,
    before: SentFile | None,
    progress: Callable[[int], None],
) -> PlannedUpload | None:
    """What becomes of a file under this name; None where another one has it."""
    if remote is None:
        return PlannedUpload(upload, "send")
    if remote.size_bytes != upload.size_bytes:
        return None
    if before is not None and _was_sent(before, upload) and before.tag == remote.tag:
        return PlannedUpload(upload, "sent before", remote.tag)
    try:
        place.check(Content(upload.path, upload.size_bytes, upload.checksum), upload.name, progress)
    except WrongThereError:
        return None
    return PlannedUpload(upload, "identical", remote.tag)


def _numbered(
    place: Place,
    upload: Upload,
    there: Mapping[str, Mapping[str, Remote]],
    before: Mapping[str, SentFile],
    taken: set[str],
    progress: Callable[[int], None],
) -> PlannedUpload | None:
    """The file under the next name that is free, or that has these bytes."""
    path = PurePosixPath(upload.name)
    for number in range(2, _MOST_NUMBERS):
        name = str(path.with_name(f"{path.stem}_{number}{path.suffix}"))
        if name in taken:
            continue
        other = replace(upload, name=name)
        remote = there[_folder(upload)].get(PurePosixPath(name).name)
        if found := _planned(place, other, remote, before.get(name), progress):
            taken.add(name)
            return found
    return None
