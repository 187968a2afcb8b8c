"""The files to be handed over: those of a batch, or those below a folder, with what is on record of each."""

from __future__ import annotations

import os
from collections.abc import Sequence
from functools import cached_property
from pathlib import Path

from msgspec import Struct, field

from boxkite.core.errors import RequestError
from boxkite.core.files.reading import path_from, without_dots
from boxkite.core.files.walking import Unseen, Walk
from boxkite.core.footage.kinds import is_junk
from boxkite.core.records.handovers import embedded_checksums, paths_handed_over
from boxkite.core.records.record import FileRecord
from boxkite.core.records.store import LAST, Records


class DeliveredFile(Struct, frozen=True):
    """A finished file, or a folder of numbered images."""

    root: Path
    """The folder of the delivery that it is below."""
    path: Path
    record: FileRecord | None = None
    """As the last batch that made it has it."""
    batch: str = ""
    """The name of that batch."""
    also: frozenset[str] = frozenset()
    """Other checksums it may have: values were embedded into it."""

    @property
    def name(self) -> str:
        """Its path below the root, with slashes."""
        return self.path.relative_to(self.root).as_posix()

    @property
    def is_numbered_images(self) -> bool:
        """Whether it is a folder of images that a batch has made."""
        return self.record is not None and self.path.is_dir()

    def parts(self) -> list[Path]:
        """The files it consists of: itself, or its images in the order of their names. Raises OSError."""
        return sorted(self.path.iterdir()) if self.is_numbered_images else [self.path]


class Delivery(Struct, frozen=True, dict=True):
    """What is handed over."""

    label: str
    """The batch's name, or the folder as it was given."""
    is_batch: bool
    roots: tuple[Path, ...]
    """The folders its files are below, absolute."""
    files: tuple[DeliveredFile, ...]
    """In the order of the plan, or of their names; those on record that are not there as well."""
    not_made: tuple[FileRecord, ...] = ()
    """Files of the batch that are not finished."""
    others: tuple[Path, ...] = ()
    """Files below the roots that belong to no delivered file, as manifests and notes; none of other batches."""
    unseen: tuple[Unseen, ...] = field(default=())

    @cached_property
    def _above(self) -> Path:
        """The folder that all the roots are in; with one root that itself."""
        return Path(os.path.commonpath(self.roots)) if self.roots else Path()

    def label_of(self, file: DeliveredFile) -> str:
        """A file's path below what all roots share, to tell files of one name in several apart."""
        return file.path.relative_to(self._above).as_posix()

    @property
    def title(self) -> str:
        """What it is called on paper."""
        return f"batch {self.label}" if self.is_batch else Path(self.label).name or str(self.roots[0])

    @cached_property
    def batches(self) -> tuple[str, ...]:
        """The names of the batches that made its files."""
        return tuple(dict.fromkeys(file.batch for file in self.files if file.batch))


def delivery_of(words: str) -> Delivery:
    """The delivery that a batch's name, "last" or a folder means. Raises RequestError, RecordsError."""
    folder = path_from(words)
    is_folder = words != LAST and folder.is_dir()
    if not is_folder and (folder.is_file() or os.sep in words):
        what = "it is a file" if folder.is_file() else "there is no such folder"
        raise RequestError(what, path=words, hint="give a folder, or a batch by its name or “last”")
    return delivery_of_folder(folder, words) if is_folder else delivery_of_batch(words)


def delivery_of_folder(folder: Path, label: str = "") -> Delivery:
    """The delivery of all that is in a folder. label: as the user calls it. Raises RecordsError."""
    label = label or str(folder)
    if not Records.are_kept():
        return _of_folder(label, without_dots(folder.absolute()), None)
    with Records() as records:
        return _of_folder(label, without_dots(folder.absolute()), records)


def delivery_of_paths(words: Sequence[str]) -> Delivery:
    """The delivery of a batch or a folder, or of files. Raises RequestError, RecordsError."""
    if len(words) == 1 and not path_from(words[0]).is_file():
        return delivery_of(words[0])
    paths: list[Path] = []
    for word in words:
        path = path_from(word).absolute()
        if path.is_dir():
            inside = (folder / name for folder, names in Walk(path).folders() for name in names)
            paths += [one for one in inside if not is_junk(one)]
        elif path.is_file():
            paths.append(path)
        else:
            raise RequestError("there is no such file or folder", path=word)
    root = Path(os.path.commonpath([path.parent for path in paths])) if paths else Path.cwd()
    files = []
    if Records.are_kept():
        with Records() as records:
            made = {
                file.path: DeliveredFile(root, file.path, file, batch)
                for batch, file in records.made_below(root)
            }
            files = [made[path] for path in paths if path in made]
    known = {file.path for file in files}
    return Delivery(
        root.name, False, (root,), tuple(files), (), tuple(path for path in paths if path not in known)
    )


def delivery_of_batch(name: str) -> Delivery:
    """The delivery of a batch. Raises RecordsError."""
    with Records() as records:
        return _of_batch(name, records)


def _of_batch(name: str, records: Records) -> Delivery:
    batch = records.batch(name)
    made = [file for file in batch.files if file.state == "verified"]
    also = embedded_checksums(records)
    files = [
        DeliveredFile(_root_of(file.path, batch.folders), file.path, file, batch.name, _others_of(also, file))
        for file in made
    ]
    roots = tuple(dict.fromkeys(file.root for file in files)) or batch.folders
    others: list[Path] = []
    unseen: list[Unseen] = []
    for root in roots:
        walk = Walk(root)
        known = {file.path for _, file in records.made_below(root)} | {file.path for file in batch.files}
        others += _others(walk, known | paths_handed_over(records))
        unseen += walk.unseen
    not_made = tuple(file for file in batch.files if file.state != "verified")
    return Delivery(batch.name, True, roots, tuple(files), not_made, tuple(others), tuple(unseen))


def _of_folder(words: str, folder: Path, records: Records | None) -> Delivery:
    made = records.made_below(folder) if records else []
    also = embedded_checksums(records) if records else {}
    files = {
        file.path: DeliveredFile(folder, file.path, file, batch, _others_of(also, file))
        for batch, file in made
    }
    walk = Walk(folder)
    others = _others(walk, files.keys() | (paths_handed_over(records) if records else set()))
    return Delivery(words, False, (folder,), tuple(files.values()), (), tuple(others), tuple(walk.unseen))


def _others_of(also: dict[Path, set[str]], file: FileRecord) -> frozenset[str]:
    return frozenset(also.get(file.path, ()))


def _others(walk: Walk, known: set[Path]) -> list[Path]:
    """The files of a walk that are neither known nor inside a known folder, nor left by systems."""
    if not walk.folder.is_dir():
        return []
    found, inside = [], tuple(f"{path}{os.sep}" for path in known if path.is_dir())
    for folder, names in walk.folders():
        if inside and f"{folder}{os.sep}".startswith(inside):
            continue
        paths = (folder / name for name in names)
        found += [path for path in paths if path not in known and not is_junk(path)]
    return found


def _root_of(path: Path, folders: tuple[Path, ...]) -> Path:
    """The output folder a file is below: of nested ones the innermost."""
    above = [folder for folder in folders if path.is_relative_to(folder)]
    return max(above, key=lambda folder: len(folder.parts), default=path.parent)
