"""Files written beside and then renamed: an unfinished one never bears its final name, nothing is replaced."""

from __future__ import annotations

import contextlib
import hashlib
import os
import platform
import shutil
import threading
from collections.abc import Iterable
from pathlib import Path

from boxkite.core.errors import PlanError, RenderError
from boxkite.core.naming.filename import clash_key

PARTIAL_PREFIX = ".boxkite-"
PARTIAL_ENDING = ".partial"
_HERE = hashlib.sha256(platform.node().encode("utf-8", "replace")).hexdigest()[:6]
"""Tells this machine from others that write to the same share."""


def partial_path(final: Path, process: int | None = None) -> Path:
    """Where a file is written until it is proved: hidden, in the same folder, one name a machine, process and file.

    process: the process that writes it; None for this one.
    """
    return final.with_name(f"{_stem(final)}-{_HERE}-{process or os.getpid()}{PARTIAL_ENDING}")


def _stem(final: Path) -> str:
    """What all partial files of a final one begin with, whoever writes them."""
    key = hashlib.sha256(final.name.encode("utf-8", "surrogatepass")).hexdigest()[:12]
    return f"{PARTIAL_PREFIX}{key}"


def discard_all_of(finals: Iterable[Path]) -> None:
    """Remove whatever any process on any machine left half-made of some files, notes of their encoders too."""
    stems: dict[Path, set[str]] = {}
    for final in finals:
        notes = final.with_name(f"{final.name}.passes")
        stems.setdefault(final.parent, set()).update((_stem(final), _stem(notes)))
    for folder, wanted in stems.items():
        with contextlib.suppress(OSError):
            for path in folder.glob(f"{PARTIAL_PREFIX}*{PARTIAL_ENDING}*"):
                if path.name.partition(PARTIAL_ENDING)[0].rsplit("-", 2)[0] in wanted:
                    discard(path)


def notes_path(final: Path, process: int | None = None) -> Path:
    """Where an encoder's notes on a file are kept between its passes: hidden, beside the file."""
    return partial_path(final.with_name(f"{final.name}.passes"), process)


def discard_notes(final: Path, process: int | None = None) -> None:
    """Remove an encoder's notes; some lie beside them, under longer names."""
    notes = notes_path(final, process)
    for path in notes.parent.glob(f"{notes.name}*"):
        path.unlink(missing_ok=True)


def discard(partial: Path) -> None:
    """Remove a partial file, or folder of images, if it is there."""
    if partial.is_dir():
        shutil.rmtree(partial, ignore_errors=True)
    else:
        partial.unlink(missing_ok=True)


def publish(partial: Path, final: Path, *, replacing: bool = False) -> None:
    """Give a finished file, or folder of images, its name; it has reached the disk already (see sync).

    replacing: what bears the name is given up in the same step. Raises RenderError if the name is taken otherwise.
    """
    if partial.is_dir():
        _publish_folder(partial, final, replacing=replacing)
        return
    if replacing:
        _replace_file(partial, final)
        return
    try:
        os.link(partial, final)  # unlike a rename, this never replaces a file that came meanwhile
        partial.unlink()
    except FileExistsError:
        raise RenderError(
            "another file took its name meanwhile; nothing was overwritten", path=final
        ) from None
    except OSError:
        # Volumes without hard links: the check and the rename are two steps there.
        if final.exists():
            raise RenderError(
                "another file took its name meanwhile; nothing was overwritten", path=final
            ) from None
        partial.rename(final)
    _sync(final.parent)


def _replace_file(partial: Path, final: Path) -> None:
    """Put a file in the place of another, also of one that a case-folding volume would take for it."""
    partial.replace(final)
    key = clash_key(final.name)
    for other in final.parent.iterdir():
        if other.name != final.name and clash_key(other.name) == key and other.is_file():
            other.unlink()
    _sync(final.parent)


def _publish_folder(partial: Path, final: Path, *, replacing: bool) -> None:
    old = None
    if final.exists() and replacing:
        old = partial.with_name(f"{partial.name}-old{PARTIAL_ENDING}")
        final.rename(old)
    elif final.exists() or final.is_symlink():
        raise RenderError("something took its name meanwhile; nothing was overwritten", path=final)
    partial.rename(final)
    _sync(final.parent)
    if old:
        discard(old)


def prepare_folders(folders: set[Path]) -> None:
    """Make the folders files will be written to, and make sure that they can be.

    Removes what killed runs left in them. Raises PlanError for the first that cannot be written to, after
    removing the folders made so far.
    """
    made: list[Path] = []
    for folder in sorted(folders):
        try:
            for ancestor in reversed([folder, *folder.parents]):
                if not ancestor.is_dir():
                    ancestor.mkdir()
                    made.append(ancestor)
            _remove_stale_partials(folder)
            trial = partial_path(folder / "trial")
            trial.touch()
            trial.unlink()
        except OSError as error:
            for ancestor in reversed(made):
                with contextlib.suppress(OSError):  # someone else may have put something in meanwhile
                    ancestor.rmdir()
            raise PlanError(
                f"this folder cannot be written to: {(error.strerror or 'unknown cause').lower()}",
                path=folder,
                hint="choose another with --to",
            ) from None


def _remove_stale_partials(folder: Path) -> None:
    """Remove what killed runs left in a folder: partial files of processes that are no more."""
    for path in folder.glob(
        f"{PARTIAL_PREFIX}*{PARTIAL_ENDING}*"
    ):  # encoders put more behind the names of their notes
        *_, machine, process = path.name.partition(PARTIAL_ENDING)[0].split("-")
        if machine == _HERE and process.isdigit() and not _is_running(int(process)):
            discard(path)


def _is_running(process: int) -> bool:
    try:
        os.kill(process, 0)
    except ProcessLookupError:
        return False
    except OSError:
        return True
    return True


def start_syncing(partial: Path) -> None:
    """Let a finished file begin to reach the disk while it is proved; publishing it waits for what is left."""
    if partial.is_file():
        threading.Thread(target=_sync_quietly, args=(partial,), daemon=True).start()


def sync(partial: Path) -> None:
    """Wait until a finished file, or folder of images, has reached the disk. Raises OSError."""
    if partial.is_dir():
        for image in partial.iterdir():
            _sync(image)
    _sync(partial)


def _sync_quietly(path: Path) -> None:
    with contextlib.suppress(OSError):  # it may have been given up meanwhile; publishing syncs it for good
        _sync(path)


def _sync(path: Path) -> None:
    if os.name == "nt" and path.is_dir():
        return  # a folder cannot be opened for syncing there
    descriptor = os.open(path, os.O_RDONLY)
    try:
        os.fsync(descriptor)
    finally:
        os.close(descriptor)
