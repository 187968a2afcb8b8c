"""Cards: their files copied to where the originals are kept, each read again and compared before anything else."""

from __future__ import annotations

import os
import queue
import shutil
import stat
import threading
from collections.abc import Iterator, Sequence
from pathlib import Path

import xxhash
from msgspec import Struct

from boxkite.core.errors import BoxkiteError, PlanError, RequestError
from boxkite.core.files.checksum import file_checksum
from boxkite.core.files.folders import prepare_folders
from boxkite.core.files.moving import begin_to_sync, sync, sync_folder
from boxkite.core.files.names import clash_key, safe_component
from boxkite.core.files.partials import partial_of
from boxkite.core.files.reading import kind_of, opened
from boxkite.core.files.replacing import give_name
from boxkite.core.files.walking import Unseen, Walk
from boxkite.core.footage.kinds import is_junk
from boxkite.core.render.failures import explain

_AT_A_TIME = 1 << 18
"""Bytes: few enough to stay near the processor between being read, counted in and written."""
_TOLD_EVERY = 8 << 20


class CardFile(Struct, frozen=True):
    """One file of a card, and where its copy is kept."""

    card: Path
    path: Path
    target: Path
    size_bytes: int


class Card(Struct, frozen=True):
    """A card with its files."""

    folder: Path
    name: str
    files: tuple[CardFile, ...]
    unseen: tuple[Unseen, ...]
    """Folders that could not be entered, and files that are never copied."""
    left: int
    """Hidden and system files."""

    @property
    def size_bytes(self) -> int:
        """All its files together."""
        return sum(file.size_bytes for file in self.files)


class CardCount(Struct, frozen=True):
    """A card and its copy, counted after copying."""

    name: str
    files: int
    size_bytes: int
    copied_files: int
    copied_bytes: int
    unseen: tuple[Unseen, ...]
    """Parts of the card that could not be read."""

    @property
    def is_complete(self) -> bool:
        """Whether everything on the card is in the copy."""
        return not self.unseen and (self.files, self.size_bytes) == (self.copied_files, self.copied_bytes)


class Copied(Struct, frozen=True):
    """A file has been copied and compared, was there already with the same content, or has failed."""

    file: CardFile
    checksum: str = ""
    was_there: bool = False
    failure: str = ""


class Copying(Struct, frozen=True):
    """How many bytes of a card have been copied so far."""

    card: Path
    done_bytes: int


class _CardEnds(Struct, frozen=True):
    card: Path


def plan_cards(folders: Sequence[Path], into: Path) -> list[Card]:
    """The files of some cards, each with its place in a folder named after its card.

    Hidden files and those of operating systems are not copied. Raises RequestError for what is no folder or is
    empty, for two cards of one name, and where the disk does not hold them.
    """
    cards: list[Card] = []
    names: dict[str, Path] = {}
    for folder in folders:
        if not folder.is_dir():
            raise RequestError("there is no such card or folder", path=folder)
        name = safe_component(folder.resolve().name or "card")
        if (other := names.setdefault(clash_key(name), folder)) is not folder:
            raise RequestError(
                f"two cards are called {name}: {other} and {folder}",
                hint="gather them into separate folders",
            )
        if into.absolute().is_relative_to(folder.absolute()) or into.resolve().is_relative_to(
            folder.resolve()
        ):
            raise RequestError("this folder is on the card itself", path=into)
        card = _look_through(folder, name, into)
        if not card.files and not card.unseen:
            raise RequestError("there is nothing on this card", path=folder)
        cards.append(card)
    needed = sum(file.size_bytes for card in cards for file in card.files if not file.target.exists())
    there = next(folder for folder in (into.absolute(), *into.absolute().parents) if folder.is_dir())
    free = shutil.disk_usage(there).free
    if needed > free:
        raise PlanError(
            f"{needed // 1_000_000} MB are to be copied, {free // 1_000_000} MB are free", path=into
        )
    return cards


def _look_through(folder: Path, name: str, into: Path) -> Card:
    """Every file of a card; links, pipes, sockets and other volumes are named, not copied."""
    walk = Walk(folder, stay=True)
    files, left = [], 0
    for parent, names in walk.folders():
        for own in names:
            path = parent / own
            if own.startswith(".") or is_junk(path):
                left += 1
                continue
            try:
                found = path.lstat()
            except OSError as error:
                walk.unseen.append(Unseen(path, f"it cannot be looked at: {(error.strerror or '').lower()}"))
                continue
            if stat.S_ISLNK(found.st_mode):
                walk.unseen.append(Unseen(path, "a link, which is not copied"))
            elif kind := kind_of(found.st_mode):
                walk.unseen.append(Unseen(path, f"{kind}, which is not copied"))
            else:
                files.append(CardFile(folder, path, into / name / path.relative_to(folder), found.st_size))
    return Card(folder, name, tuple(files), tuple(walk.unseen), left + walk.hidden)


def count_cards(cards: Sequence[Card], copied: Sequence[Copied], into: Path) -> list[CardCount]:
    """Each card, read once more, beside what was copied of it and is there."""
    counts = []
    for card in cards:
        now = _look_through(card.folder, card.name, into)
        verified = {one.file.target for one in copied if one.checksum and one.file.card == card.folder}
        there = [file for file in now.files if file.target in verified]
        sizes = [size for file in there if (size := _size(file.target)) is not None]
        unseen = (*now.unseen, *(one for one in card.unseen if one not in now.unseen))
        counts.append(CardCount(card.name, len(now.files), now.size_bytes, len(sizes), sum(sizes), unseen))
    return counts


def _size(path: Path) -> int | None:
    try:
        return path.stat().st_size
    except OSError:
        return None


def copy_cards(cards: Sequence[Card]) -> Iterator[Copied | Copying]:
    """Copy all files, the cards side by side, and yield what happens.

    A file is read once from its card while its checksum is taken; the copy is read again from the disk before it
    gets its name. Nothing that is there is overwritten. Raises PlanError where a folder cannot be written to.
    """
    prepare_folders({file.target.parent for card in cards for file in card.files})
    events: queue.Queue[Copied | Copying | _CardEnds] = queue.Queue()
    for card in cards:
        threading.Thread(target=_copy_card, args=(card, events), daemon=True).start()
    running = len(cards)
    while running:
        event = events.get()
        if isinstance(event, _CardEnds):
            running -= 1
        else:
            yield event


def _copy_card(card: Card, events: queue.Queue[Copied | Copying | _CardEnds]) -> None:
    done = 0
    try:
        for file in card.files:
            try:
                for event in _copy(file, done):
                    events.put(event)
            except (BoxkiteError, OSError) as error:
                events.put(Copied(file, failure=explain(error, then="gather again")))
            done += file.size_bytes
    finally:
        events.put(_CardEnds(card.folder))


def _copy(file: CardFile, done: int) -> Iterator[Copied | Copying]:
    """Copy one file; done: bytes of its card before it. Raises BoxkiteError, OSError."""
    if os.path.lexists(file.target):
        yield _compared(file)
        return
    checksum, buffer = xxhash.xxh3_128(), memoryview(bytearray(_AT_A_TIME))
    with partial_of(file.target) as partial, opened(file.path) as descriptor:
        with partial.path.open("wb") as copy:
            source, told = os.fdopen(descriptor, "rb", buffering=0, closefd=False), done
            while size := source.readinto(buffer):
                checksum.update(buffer[:size])
                copy.write(buffer[:size])
                done += size
                if done - told >= _TOLD_EVERY:
                    told = done
                    partial.renew()
                    begin_to_sync(copy.fileno())
                    yield Copying(file.card, done)
            yield Copying(file.card, done)
        found = os.fstat(descriptor)
        if found.st_size != partial.path.stat().st_size:
            raise PlanError("it changes while it is copied: it is still being written to")
        shutil.copystat(file.path, partial.path)
        sync(partial.path)
        _forget_pages(partial.path)
        if file_checksum(partial.path) != checksum.hexdigest():
            raise PlanError("the copy is not what was read from the card: the disk may be failing")
        give_name(partial)
    yield Copied(file, checksum.hexdigest())


def _compared(file: CardFile) -> Copied:
    """A file whose place is taken: by the same content, or by something else, which stays."""
    checksum = file_checksum(file.path)
    is_file = file.target.is_file() and not file.target.is_symlink()
    if is_file and file_checksum(file.target) == checksum:
        # whoever gave the name may have been stopped before it was on the disk
        sync_folder(file.target.parent)
        return Copied(file, checksum, was_there=True)
    return Copied(file, failure="another file is in its place; nothing was overwritten")


def _forget_pages(path: Path) -> None:
    """Let the system drop what it still holds of a file, so that reading it again reads the disk."""
    if hasattr(os, "posix_fadvise"):
        with path.open("rb") as file:
            os.posix_fadvise(file.fileno(), 0, 0, os.POSIX_FADV_DONTNEED)
