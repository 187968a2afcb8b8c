"""Putting a new version in the place of an old one, so that one of the two bears the name at every instant.

Where the system can, both change names in one step. Elsewhere the old one is put aside first, and a note beside them
says what belongs where, so that whoever comes next finishes what was begun. The note's owner holds a lock on it.
Nothing is ever removed but what the note names as the old version or the new one, by inode, size and time.
"""

from __future__ import annotations

import contextlib
import errno
import json
import os
from collections.abc import Iterator
from pathlib import Path

from msgspec import Struct
from msgspec.structs import asdict

from boxkite.core.errors import RenderError
from boxkite.core.files.identity import stamp_of
from boxkite.core.files.moving import discard, exchange, place, sync_folder
from boxkite.core.files.partials import PARTIAL, PREFIX, Partial, claimed, key_of, new_token
from boxkite.core.files.reading import read_bytes
from boxkite.core.notices.batches import KEPT_BESIDE, REPLACEMENT_FINISHED, REPLACEMENT_UNFINISHED
from boxkite.core.notices.notice import Notice

NOTE, NEW, OLD = ".note", ".new", ".old"
_MOST_NOTE_BYTES = 1 << 16
_MOST_NAMES = 1000


class _Note(Struct, frozen=True):
    """What a replacement brings where, as its note tells it."""

    name: str
    """Of the file in its folder."""
    new: str
    old: str
    """Stamps of its two versions."""


def replace_known(partial: Path, final: Path, old: str) -> None:
    """Put a finished partial file, or folder, in the place of what bears its name.

    old: the stamp of what is to be replaced, as the plan saw it. Raises RenderError where something else is there
    by now, which stays; OSError.
    """
    if _stamp(final) != old:
        raise RenderError(
            "it is not what it was when the plan was made; it was not replaced", path=final,
            hint="look at it, and plan again",
        )  # fmt: skip
    stem = f"{PREFIX}{key_of(final)}-{new_token()}"
    note = _Note(final.name, stamp_of(partial), old)
    with _kept(final.with_name(stem + NOTE), note):
        place(partial, final.with_name(stem + NEW))
        try:
            _put_in_place(final, stem, note)
        except OSError:
            with contextlib.suppress(OSError):
                _finished(final.parent, stem, note)
            raise


def _put_in_place(final: Path, stem: str, note: _Note) -> None:
    """Exchange the new version for the old one, in one step or in two."""
    new, aside = final.with_name(stem + NEW), final.with_name(stem + OLD)
    if exchange(new, final):
        if _stamp(new) == note.old:
            _retire(new)
            return
        exchange(new, final)  # it came between the look and the exchange
        _retire(new)
        raise RenderError("another file took its name meanwhile; it was not replaced", path=final)
    place(final, aside)
    if _stamp(aside) != note.old:
        place(aside, final)
        _retire(new)
        raise RenderError("another file took its name meanwhile; it was not replaced", path=final)
    try:
        place(new, final)
    except FileExistsError:
        kept = _finished(final.parent, stem, note)
        raise RenderError(
            "another file took its name meanwhile; the old version was kept beside it", path=final,
            hint=f"it is called {', '.join(path.name for path in kept) or 'as before'}",
        ) from None  # fmt: skip
    _retire(aside)


def _retire(path: Path) -> None:
    """Remove a version that is no longer needed; interrupted, what is left of it is anybody's to remove."""
    spare = path.with_name(f"{PREFIX}{key_of(path)}-{new_token()}{PARTIAL}")
    place(path, spare)
    discard(spare)


@contextlib.contextmanager
def _kept(path: Path, note: _Note) -> Iterator[None]:
    """A note on the disk, owned for as long as the replacement takes; it stays where that failed."""
    with path.open("x", encoding="ascii") as file:
        try:
            json.dump(asdict(note), file)
            file.flush()
            os.fsync(file.fileno())
        except OSError:  # nothing was moved yet
            with contextlib.suppress(OSError):
                path.unlink(missing_ok=True)
            raise
    sync_folder(path.parent)
    claim = claimed(path, own=True)
    if claim is None:
        raise OSError(errno.EBUSY, "the note of a replacement could not be locked", str(path))
    try:
        yield
    except RenderError:
        path.unlink(missing_ok=True)  # everything is where it belongs
        raise
    else:
        path.unlink(missing_ok=True)
        sync_folder(path.parent)
    finally:
        claim.release()


def finish(path: Path) -> list[Notice]:
    """Finish a replacement that was interrupted, if nobody is at it: one version gets the name, the other goes.

    path: of its note. Notices of what was done. Never raises.
    """
    try:
        claim = claimed(path)
        if claim is None:
            return []
        try:
            return _finish(path)
        finally:
            claim.release()
    except OSError as error:
        unfinished = REPLACEMENT_UNFINISHED(reason=error.strerror or str(error))
        return [unfinished.of(str(path))]


def _finish(path: Path) -> list[Notice]:
    stem = path.name.removesuffix(NOTE)
    note = _read(path)
    if note is None:  # interrupted while the note was written: nothing was moved yet
        if not os.path.lexists(path.with_name(stem + NEW)):
            path.unlink(missing_ok=True)
        return []
    was_begun = any(os.path.lexists(path.with_name(stem + version)) for version in (NEW, OLD))
    kept = _finished(path.parent, stem, note)
    path.unlink(missing_ok=True)
    sync_folder(path.parent)
    final = path.parent / note.name
    finished = [REPLACEMENT_FINISHED().of(str(final))] if was_begun else []
    return finished + [KEPT_BESIDE(name=note.name).of(str(one)) for one in kept]


def _finished(folder: Path, stem: str, note: _Note) -> list[Path]:
    """Bring both versions where they belong; what had to be kept under a separate name."""
    final, new, old = folder / note.name, folder / (stem + NEW), folder / (stem + OLD)
    kept = []
    if not os.path.lexists(final):
        for version in (new, old):
            if os.path.lexists(version):
                with contextlib.suppress(FileExistsError):
                    place(version, final)
                    break
    at_final = _stamp(final)
    for version in (new, old):
        stamp = _stamp(version)
        if not stamp:
            continue
        if at_final and version.samefile(final):
            version.unlink()  # the second of two names that a move in two steps gave it
            continue
        is_spare = (stamp == note.old and at_final == note.new) or (
            stamp == note.new and at_final == note.old
        )
        if is_spare or (stamp == note.new and at_final):
            _retire(version)  # a new version is made again; an old one goes once the new one has its name
        else:
            kept.append(_kept_beside(version, final))
    return kept


def _kept_beside(path: Path, final: Path) -> Path:
    """Give what must not be lost a name that can be seen."""
    for number in range(1, _MOST_NAMES):
        target = final.with_name(f"{final.stem} (kept {number}){final.suffix}")
        with contextlib.suppress(FileExistsError):
            place(path, target)
            return target
    return path


def _read(path: Path) -> _Note | None:
    try:
        values = json.loads(read_bytes(path, _MOST_NOTE_BYTES))
        note = _Note(**values)
        is_name = Path(note.name).name == note.name and note.name not in ("", ".", "..")
        return note if is_name and isinstance(note.new, str) and isinstance(note.old, str) else None
    except (ValueError, TypeError):
        return None


def _stamp(path: Path) -> str:
    """The stamp of a file; empty where it is not there."""
    try:
        return stamp_of(path)
    except OSError:
        return ""


def give_name(partial: Partial, *, replacing: str = "") -> None:
    """Give a finished partial file, or folder of images, its name; it has reached the disk already.

    replacing: the stamp of what it takes the place of; empty where the name is to be free. Raises RenderError where
    the name is taken, OSError.
    """
    if replacing:
        replace_known(partial.path, partial.final, replacing)
    else:
        try:
            place(partial.path, partial.final)
        except FileExistsError:
            raise RenderError(
                "another file took its name meanwhile; nothing was overwritten", path=partial.final
            ) from None
    partial.release()
