"""Cards: their files copied to where they shall live, each read again and compared, before anything else is done."""

from __future__ import annotations

import csv
import os
import queue
import shutil
import threading
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

import xxhash

from boxkite.core.errors import BoxkiteError, PlanError, RequestError
from boxkite.core.footage.find import group_sequences
from boxkite.core.footage.kinds import MEDIA_SUFFIXES, is_junk
from boxkite.core.naming.filename import clash_key, safe_component
from boxkite.core.records.checksum import file_checksum
from boxkite.core.render.explaining import explain
from boxkite.core.render.publishing import discard, partial_path, prepare_folders, publish, sync

CHECKSUMS = "checksums.xxh128"
FACTS = "facts.csv"
_AT_A_TIME = 8 << 20


@dataclass(frozen=True)
class CardFile:
    """One file of a card, and where it shall live."""

    card: Path
    path: Path
    target: Path
    size_bytes: int


@dataclass(frozen=True)
class Copied:
    """A file has been copied and compared, was there already with the same content, or has failed."""

    file: CardFile
    checksum: str = ""
    was_there: bool = False
    failure: str = ""


@dataclass(frozen=True)
class Copying:
    """How many bytes of a card have been copied so far."""

    card: Path
    done_bytes: int


@dataclass(frozen=True)
class _CardEnds:
    card: Path


def plan_cards(cards: Sequence[Path], into: Path) -> list[CardFile]:
    """Every file of some cards, with its place in a folder named after its card.

    Hidden files and what systems leave behind stay where they are. Raises RequestError for what is no folder or is
    empty, for two cards of one name, and where the disk does not hold them.
    """
    files: list[CardFile] = []
    names: dict[str, Path] = {}
    for card in cards:
        if not card.is_dir():
            raise RequestError("there is no such card or folder", path=card)
        name = safe_component(card.resolve().name or "card")
        if (other := names.setdefault(clash_key(name), card)) is not card:
            raise RequestError(
                f"two cards are called {name}: {other} and {card}",
                hint="gather them into folders of their own",
            )
        if into.absolute().is_relative_to(card.absolute()):
            raise RequestError("this folder lies on the card itself", path=into)
        own = [CardFile(card, path, into / name / path.relative_to(card), path.stat().st_size)
               for path in _files_of(card)]  # fmt: skip
        if not own:
            raise RequestError("there is nothing on this card", path=card)
        files += own
    needed = sum(file.size_bytes for file in files if not file.target.exists())
    there = next(folder for folder in (into.absolute(), *into.absolute().parents) if folder.is_dir())
    free = shutil.disk_usage(there).free
    if needed > free:
        raise PlanError(
            f"{needed // 1_000_000} MB are to be copied, {free // 1_000_000} MB are free", path=into
        )
    return files


def _files_of(card: Path) -> Iterator[Path]:
    for parent, folders, names in os.walk(card):
        folders[:] = sorted(name for name in folders if not name.startswith("."))
        for name in sorted(names):
            path = Path(parent, name)
            if not name.startswith(".") and not is_junk(path) and path.is_file() and not path.is_symlink():
                yield path


def copy_cards(files: Sequence[CardFile]) -> Iterator[Copied | Copying]:
    """Copy all files, the cards side by side, and yield what happens.

    A file is read once from its card while its checksum is taken; the copy is read again from the disk before it
    gets its name. Nothing that is there is overwritten. Raises PlanError where a folder cannot be written to.
    """
    prepare_folders({file.target.parent for file in files})
    told: queue.Queue[Copied | Copying | _CardEnds] = queue.Queue()
    cards = list(dict.fromkeys(file.card for file in files))
    for card in cards:
        own = [file for file in files if file.card == card]
        threading.Thread(target=_copy_card, args=(card, own, told), daemon=True).start()
    running = len(cards)
    while running:
        heard = told.get()
        if isinstance(heard, _CardEnds):
            running -= 1
        else:
            yield heard


def _copy_card(
    card: Path, files: Sequence[CardFile], told: queue.Queue[Copied | Copying | _CardEnds]
) -> None:
    done = 0
    for file in files:
        partial = partial_path(file.target)
        try:
            if file.target.exists():
                told.put(_compared(file))
                continue
            checksum = xxhash.xxh3_128()
            with file.path.open("rb") as source, partial.open("wb") as copy:
                while part := source.read(_AT_A_TIME):
                    checksum.update(part)
                    copy.write(part)
                    done += len(part)
                    told.put(Copying(card, done))
            shutil.copystat(file.path, partial)
            sync(partial)
            _forget_pages(partial)
            if file_checksum(partial) != checksum.hexdigest():
                raise PlanError("the copy is not what was read from the card: the disk may be failing")
            publish(partial, file.target)
            told.put(Copied(file, checksum.hexdigest()))
        except (BoxkiteError, OSError) as error:
            discard(partial)
            told.put(Copied(file, failure=explain(error)))
    told.put(_CardEnds(card))


def _compared(file: CardFile) -> Copied:
    """A file whose place is taken: by the same content, or by something else, which stays."""
    checksum = file_checksum(file.path)
    if file.target.is_file() and file_checksum(file.target) == checksum:
        return Copied(file, checksum, was_there=True)
    return Copied(file, failure="another file is in its place; nothing was overwritten")


def _forget_pages(path: Path) -> None:
    """Let the system drop what it still holds of a file, so that reading it again reads the disk."""
    if hasattr(os, "posix_fadvise"):
        with path.open("rb") as file:
            os.posix_fadvise(file.fileno(), 0, 0, os.POSIX_FADV_DONTNEED)


def write_checksums(into: Path, copied: Sequence[Copied]) -> Path:
    """A list of checksums beside the cards' folders, a line each as checksum programs read it; the file.

    Lines of files that were gathered before stay. Raises OSError.
    """
    path = into / CHECKSUMS
    lines = {}
    if path.exists():
        for line in path.read_text("utf-8", "surrogateescape").splitlines():
            checksum, _, name = line.partition("  ")
            lines[name] = checksum
    lines |= {one.file.target.relative_to(into).as_posix(): one.checksum for one in copied if one.checksum}
    text = "".join(f"{checksum}  {name}\n" for name, checksum in sorted(lines.items()))
    _write_whole(path, text)
    return path


def write_facts(into: Path, files: Sequence[CardFile], facts: Mapping[str, str]) -> Path:
    """A table of facts that hold for all media of the cards, as --metadata reads it; the file. Raises OSError."""
    path = into / FACTS
    known: dict[str, dict[str, str]] = {}
    if path.exists():
        with path.open(encoding="utf-8", errors="surrogateescape", newline="") as table:
            known = {row["File"]: dict(row) for row in csv.DictReader(table) if row.get("File")}
    cards = {file.target: file.card.resolve().name for file in files}
    sequences, singles = group_sequences(path for path in cards if path.suffix.lower() in MEDIA_SUFFIXES)
    sources = [(path, cards[path]) for path in singles]
    for one in sequences:
        sources.append((one.folder / one.label, cards[one.folder / one.file_name(one.first)]))
    for source, card in sources:
        name = source.relative_to(into).as_posix()
        row = known.setdefault(name, {"File": name})
        row |= {"Card": card, **facts}
    columns = list(dict.fromkeys(["File", "Card", *(key for row in known.values() for key in row)]))
    lines = [columns, *([row.get(column) or "" for column in columns] for row in known.values())]
    _write_whole(path, "".join(_csv_line(line) for line in lines))
    return path


def _csv_line(values: Sequence[str]) -> str:
    return ",".join('"' + value.replace('"', '""') + '"' for value in values) + "\r\n"


def _write_whole(path: Path, text: str) -> None:
    partial = partial_path(path)
    partial.write_text(text, encoding="utf-8", errors="surrogateescape", newline="")
    sync(partial)
    partial.replace(path)
