"""What is to be sent of a delivery, and under which names."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path, PurePosixPath

from msgspec import Struct
from msgspec.structs import replace

from boxkite.core.errors import PatternError, PlanError, RequestError, setting
from boxkite.core.files.digests import file_digests
from boxkite.core.files.names import clash_key
from boxkite.core.files.walking import Walk
from boxkite.core.footage.kinds import is_junk
from boxkite.core.handover.delivery import DeliveredFile, Delivery
from boxkite.core.handover.described import Described, Description, describe
from boxkite.core.handover.manifests import known_checksum
from boxkite.core.handover.review_page import plays
from boxkite.core.job.choice import Choice
from boxkite.core.machine import usable_cores
from boxkite.core.naming.pattern import Pattern, check_length, check_tokens, make_name
from boxkite.core.records.handovers import SHOT_FOLDERS, handovers_of
from boxkite.core.records.store import Records
from boxkite.core.shots.choosing import Candidate, fitting_all

LIGHT, NEW = "light", "new"
"""Choices of sending: files that browsers play; what was not sent before, without a look at the destination."""


class Upload(Struct, frozen=True):
    """One file that is to be sent."""

    path: Path
    name: str
    """Its path below the destination, with slashes."""
    size_bytes: int
    checksum: str = ""
    """XXH3 of 128 bits, where it is known already."""


def uploads_of(
    delivery: Delivery,
    *,
    only: Sequence[str] = (),
    names: Pattern | None = None,
    tables: Sequence[Path] = (),
    with_others: bool = True,
    user: str = "",
) -> list[Upload]:
    """The files of a delivery, and what was made of them, with their names at a destination.

    only: choices among shots, and LIGHT. names: a pattern instead of the tree as it is here. with_others: manifests,
    sheets, pages and whatever else is beside the files. Raises RequestError, PatternError, PlanError.
    """
    missing = [file for file in delivery.files if not file.path.exists()]
    if missing:
        raise RequestError(
            "it is not there", path=missing[0].path, hint="boxkite verify names all that is missing"
        )
    if delivery.not_made and not delivery.files:
        raise RequestError(
            f"batch {delivery.label} has no finished file", hint=f"boxkite resume {delivery.label}"
        )
    found = [(file, delivery.label_of(file)) for file in delivery.files]
    if only or names:
        found = _chosen(delivery, describe(delivery, tables, user=user), only, names)
        with_others = with_others and not only
    uploads = [one for file, name in found for one in _parts(file, name)]
    if with_others:
        uploads += _others(delivery, {one.path for one in uploads} | {file.path for file, _ in found})
    if not uploads:
        raise RequestError(f"there is nothing to send in {delivery.label}")
    _require_one_each(uploads)
    return uploads


def _chosen(
    delivery: Delivery, description: Description, only: Sequence[str], names: Pattern | None
) -> list[tuple[DeliveredFile, str]]:
    choices = [Choice.parse(text, setting("only")) for text in only if text != LIGHT]
    candidates = [Candidate(one.shot, number, one.values) for number, one in enumerate(description.files, 1)]
    fits = fitting_all(choices, description.tokens, setting("only"))
    kept = [
        one
        for one, candidate in zip(description.files, candidates, strict=True)
        if fits(candidate) and (LIGHT not in only or plays(one))
    ]
    if not kept:
        raise RequestError(
            f"no file fits {', '.join(only)}",
            hint=f"without {setting('only')} all are sent",
        )
    if names is None:
        return [(one.file, delivery.label_of(one.file)) for one in kept]
    check_tokens(names, description.tokens)
    return [(one.file, _named(one, names)) for one in kept]


def _named(one: Described, names: Pattern) -> str:
    try:
        name = make_name(names, one.values)
    except PatternError as error:
        raise PlanError(f"{one.file.name}: {error.message}", hint=error.hint) from None
    extension = "" if one.file.path.is_dir() else one.file.path.suffix
    check_length(name, extension, names)
    return name + extension


def _parts(file: DeliveredFile, name: str) -> list[Upload]:
    if not file.is_numbered_images:
        return [Upload(file.path, name, file.path.stat().st_size, known_checksum(file))]
    return [Upload(part, f"{name}/{part.name}", part.stat().st_size) for part in file.parts()]


def _others(delivery: Delivery, known: set[Path]) -> list[Upload]:
    """What is beside the files of a folder; of a batch what was made of its files."""
    if not delivery.is_batch:
        (root,) = delivery.roots
        inside = (folder / name for folder, names in Walk(root).folders() for name in names)
        paths = [path for path in inside if path not in known and not is_junk(path)]
        return [Upload(path, path.relative_to(root).as_posix(), path.stat().st_size) for path in paths]
    uploads = []
    for path in _written_of(delivery):
        root = next((root for root in delivery.roots if path.is_relative_to(root)), path.parent)
        above = delivery.label_of(DeliveredFile(root, root)) if root in delivery.roots else "."
        for one in _files_in(path):
            below = one.relative_to(root).as_posix()
            if one not in known:
                uploads.append(Upload(one, below if above == "." else f"{above}/{below}", one.stat().st_size))
    return uploads


def _written_of(delivery: Delivery) -> list[Path]:
    if not delivery.batches:
        return []
    with Records() as records:
        made = [one for name in delivery.batches for one in handovers_of(records, name)]
    found = [one.path for one in made if one.path and one.kind != SHOT_FOLDERS]
    return [path for path in dict.fromkeys(found) if path.exists()]


def _files_in(path: Path) -> Iterable[Path]:
    return sorted(one for one in path.rglob("*") if one.is_file()) if path.is_dir() else [path]


def _require_one_each(uploads: Sequence[Upload]) -> None:
    seen: dict[str, Upload] = {}
    for one in uploads:
        if one.name.startswith("/") or ".." in PurePosixPath(one.name).parts:
            raise PlanError("this name leads out of the destination", path=one.path)
        other = seen.setdefault(clash_key(one.name), one)
        if other is not one:
            raise PlanError(f"{other.path.name} and {one.path.name} would both become {one.name}",
                            hint=f"add a token that tells them apart to {setting('names')}")  # fmt: skip


def with_checksums(
    uploads: Sequence[Upload], progress: Callable[[int], None] = lambda _: None
) -> list[Upload]:
    """The same, each with its checksum; those that no batch took are taken now. Raises OSError."""

    def hashed(one: Upload) -> Upload:
        if one.checksum:
            return one
        return replace(one, checksum=file_digests(one.path, ["xxh128"], progress)["xxh128"])

    with ThreadPoolExecutor(usable_cores()) as pool:
        return list(pool.map(hashed, uploads))
