"""From the paths a user names to sources: files, folders with all below them, numbered images as sequences."""

from __future__ import annotations

import contextlib
import os
import re
from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import partial
from pathlib import Path
from typing import TypeVar

from msgspec.structs import replace

from boxkite.core.errors import BoxkiteError, InaccessibleError
from boxkite.core.files.digests import is_manifest
from boxkite.core.files.walking import Unseen, Walk
from boxkite.core.footage.access import open_media
from boxkite.core.footage.cache import Memory, memory
from boxkite.core.footage.exr import with_layer
from boxkite.core.footage.kinds import MARKS_TABLE, REVIEW_PAGE, STILL_SUFFIXES, is_junk
from boxkite.core.footage.source import Findings, ImageSettings, SequencePattern, Source, Unreadable
from boxkite.core.machine import usable_cores
from boxkite.core.processes import can_fork, readers

_FEWEST_AT_ONCE = 4
"""Files that are worth several threads."""
_FEWEST_FOR_PROCESSES = 100
"""Files that are worth several processes: what these take to begin is won back."""
_AT_A_TIME = 16

Found = TypeVar("Found")


def find_sources(paths: Iterable[Path], images: ImageSettings | None = None) -> Findings:
    """Read every source under the paths. What cannot be read is listed with its reason.

    A folder gives all files below it but the systems' own hidden ones. Two or more images whose names
    differ only in their number, of one folder or named side by side, make one sequence. images: how these
    are read. A path that does not exist is listed as unreadable, what the system does not let be seen as unseen.
    Files that have not changed since the last look are not opened again.
    """
    sources: list[Source] = []
    unreadable: list[Unreadable] = []
    unseen: list[Unseen] = []
    junk = 0
    with memory() as known:
        for files, left, folder in _heaps(paths, unseen):
            junk += left
            if folder and not files and not unseen:
                unreadable.append(Unreadable(folder, "there is nothing in this folder"))
            sequences, singles = group_sequences(files)
            known.look_up("source", singles)
            found = _read_all(singles, known)
            items: list[SequencePattern | Path] = [*sequences, *singles]
            for item in items:
                try:
                    if isinstance(item, SequencePattern):
                        sources.append(_read_sequence(item, images))
                        continue
                    source = found[item]
                    if isinstance(source, Exception):
                        raise source
                    sources.append(with_layer(source, images or ImageSettings()))
                except InaccessibleError as error:
                    unseen.append(Unseen(item if isinstance(item, Path) else item.folder, error.message))
                except (BoxkiteError, ValueError, ArithmeticError) as error:
                    where = item.folder / item.label if isinstance(item, SequencePattern) else item
                    unreadable.append(_unreadable(where, error))
                except OSError as error:
                    where = item.folder if isinstance(item, SequencePattern) else item
                    unseen.append(
                        Unseen(where, f"it cannot be read: {(error.strerror or str(error)).lower()}")
                    )
    sources.sort(key=lambda source: (str(source.path.parent), source.path.name))
    return Findings(tuple(sources), tuple(unreadable), junk, tuple(unseen))


def _read_sequence(sequence: SequencePattern, images: ImageSettings | None) -> Source:
    from boxkite.core.footage.probe import read_sequence  # the codec library takes a while to load

    return read_sequence(sequence, images)


def _read_source(path: Path) -> Source:
    from boxkite.core.footage.probe import read_source

    return read_source(path)


def _unreadable(path: Path, error: Exception) -> Unreadable:
    if isinstance(error, BoxkiteError):
        return Unreadable(path, error.message, error.hint)
    return Unreadable(
        path, f"what it says of itself makes no sense: {error}"
    )  # as a rate that no file can have


def _heaps(paths: Iterable[Path], unseen: list[Unseen]) -> Iterator[tuple[list[Path], int, Path | None]]:
    """(files, number of files not worth opening, folder) for each folder; files that were named form one group."""
    named = []
    for path in paths:
        if path.is_dir():
            yield *_files_below(path, unseen), path
        else:
            named.append(path)
    if named:
        yield named, 0, None


def _read_all(paths: Sequence[Path], known: Memory) -> dict[Path, Source | Exception]:
    """The source of each file, or why it cannot be read; those that are not remembered are read on all cores."""
    found: dict[Path, Source | Exception] = {}
    for path in paths:
        recalled = _tried(partial(_recalled, path, known))
        if recalled is not None:
            found[path] = recalled
    unknown = [path for path in paths if path not in found]
    for path, source in _read_by_processes(unknown):
        found[path] = source
        known.keep("source", path, source)
    unknown = [path for path in unknown if path not in found]
    if len(unknown) < _FEWEST_AT_ONCE:
        read: list[Source | Exception] = [_tried(partial(_read_source, path)) for path in unknown]
    else:
        from concurrent.futures import ThreadPoolExecutor

        import boxkite.core.footage.probe  # noqa: F401  loaded once, before the threads

        with ThreadPoolExecutor(usable_cores()) as pool:
            read = list(pool.map(lambda path: _tried(partial(_read_source, path)), unknown))
    for path, one in zip(unknown, read, strict=True):
        found[path] = one
        if isinstance(one, Source):
            known.keep("source", path, one)
    return found


def _read_by_processes(paths: Sequence[Path]) -> Iterator[tuple[Path, Source]]:
    """Sources of many files by copies of this process, where it can be copied; not those that cannot be read."""
    if len(paths) < _FEWEST_FOR_PROCESSES or usable_cores() == 1 or not can_fork():
        return
    from concurrent.futures.process import BrokenProcessPool

    import boxkite.core.footage.probe  # noqa: F401  loaded once, before the processes

    with contextlib.suppress(BrokenProcessPool), readers(usable_cores()) as pool:
        for path, source in zip(paths, pool.map(_source_or_none, paths, chunksize=_AT_A_TIME), strict=True):
            if source:
                yield path, source


def _source_or_none(path: Path) -> Source | None:
    read = _tried(partial(_read_source, path))
    return read if isinstance(read, Source) else None


def _tried(read: Callable[[], Found]) -> Found | Exception:
    try:
        return read()
    except Exception as error:
        return error


def _recalled(path: Path, known: Memory) -> Source | None:
    """The source as it is remembered; None where it is not, or where reading it says why it cannot be."""
    try:
        now = path.stat()
    except (OSError, ValueError):
        return None
    found = known.recall("source", path, Source, now)
    if found is None or found.identity is None:
        return None
    if not os.access(path, os.R_OK):  # its rights may have changed since
        os.close(open_media(path))
    if found.path == path and found.identity.is_here_and_now(now):
        return found
    return replace(found, path=path, identity=found.identity.with_status(now))


def _files_below(folder: Path, unseen: list[Unseen]) -> tuple[list[Path], int]:
    """(files worth a look, how many are not) of a folder and all below it; what could not be seen is added."""
    found: list[Path] = []
    junk = 0
    walk = Walk(folder, unseen=unseen)
    pages: list[Path] = []
    for parent, names in walk.folders():
        if parent != folder and REVIEW_PAGE in names:
            pages.append(parent)
        if any(parent.is_relative_to(page) for page in pages):
            continue
        sidecars = _sidecars(names)
        for name in names:
            if is_junk(Path(name)):
                junk += not name.startswith(f".{MARKS_TABLE}")
            elif name not in sidecars and name != MARKS_TABLE and not is_manifest(Path(parent.name, name)):
                found.append(Path(parent, name))
    return found, junk


def _sidecars(names: list[str]) -> set[str]:
    """The files that only tell of others beside them (clip.xmp, clip.mov.xmp), and are read with those."""
    xmp = {name for name in names if name.lower().endswith(".xmp")}
    others = set(names) - xmp
    stems = {Path(name).stem for name in others} if xmp else set()
    return {name for name in xmp if Path(name).stem in others or Path(name).stem in stems}


def group_sequences(files: Iterable[Path]) -> tuple[list[SequencePattern], list[Path]]:
    """Split files into numbered image sequences of two or more frames and all other files."""
    groups: dict[tuple[Path, str, int, str], list[tuple[int, Path]]] = {}
    singles: list[Path] = []
    for path in files:
        match = _last_number(path.name) if path.suffix.lower() in STILL_SUFFIXES else None
        if match:
            prefix, number, suffix = match
            digits = len(number) if number.startswith("0") or len(number) > 1 else 0
            groups.setdefault((path.parent, prefix, digits, suffix), []).append((int(number), path))
        else:
            singles.append(path)
    sequences = []
    for (folder, prefix, digits, suffix), members in groups.items():
        if len(members) < 2:
            singles += [path for _, path in members]
            continue
        numbers = sorted(number for number, _ in members)
        present = set(numbers)
        span = range(numbers[0], numbers[-1] + 1)
        if len(span) > 4 * len(numbers) + 1000:  # names that share a shape but are no sequence
            singles += [path for _, path in members]
            continue
        missing = tuple(number for number in span if number not in present)
        sequences.append(SequencePattern(folder, prefix, digits, suffix, numbers[0], numbers[-1], missing))
    return sequences, singles


def _last_number(name: str) -> tuple[str, str, str] | None:
    stem, dot, extension = name.rpartition(".")
    match = re.fullmatch(r"(.*?)(\d{1,12})", stem, re.ASCII | re.DOTALL)
    return (match[1], match[2], f"{dot}{extension}") if match else None
