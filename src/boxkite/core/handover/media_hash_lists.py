"""Media hash lists and their chain of generations (ASC MHL 2.0), read and written by the standard's reference library.

The library names a generation before its chain knows it. So it works on a copy of the folder of lists, which takes the
place of the old one in one step, complete.
"""

from __future__ import annotations

import contextlib
import io
import os
import platform
import shutil
import tempfile
from collections.abc import Iterator, Sequence
from datetime import datetime
from pathlib import Path
from typing import Any

from msgspec import Struct, field

from boxkite import __version__
from boxkite.core.errors import PlanError, RenderError, RequestError, setting
from boxkite.core.files.digests import DIGITS, MEDIA_HASH_LISTS
from boxkite.core.files.identity import stamp_of
from boxkite.core.files.moving import sync
from boxkite.core.files.partials import Partial
from boxkite.core.files.replacing import give_name
from boxkite.core.files.sweeping import sweep
from boxkite.core.handover.sum_files import sum_file_name
from boxkite.core.notices.handover import CHAIN_BROKEN, MANIFEST_UNREADABLE, NAMES_OUTSIDE
from boxkite.core.notices.notice import Notice

FOLDER = MEDIA_HASH_LISTS
_IGNORED = [".*", "Thumbs.db", "desktop.ini", *(sum_file_name(kind) for kind in DIGITS)]
"""Patterns of what a list leaves out, as it says itself: what systems leave behind, and our other manifests."""
_EXTRA = "pip install 'boxkite-shots[mhl]' adds it"
_LINE_BREAK = "\ue00a"
"""For line breaks in names, which the library would indent; a private character that no name holds."""


class HashedFile(Struct, frozen=True):
    """A file with its checksums."""

    path: Path
    size_bytes: int
    changed: datetime
    sums: dict[str, str]


class History(Struct):
    """The checksums of a folder in all generations."""

    root: Path
    generations: int = 0
    sums: dict[Path, dict[str, str]] = field(default_factory=dict)
    """By the absolute path of each file: the first checksum of each kind."""
    original: dict[Path, str] = field(default_factory=dict)
    """The kind of each file's first checksum: a later generation has to hold it, too."""
    notices: list[Notice] = field(default_factory=list)


def has_history(root: Path) -> bool:
    """Whether there are media hash lists in a folder."""
    return (root / FOLDER).is_dir()


def is_library_there() -> bool:
    """Whether the extra that reads and writes these lists is installed."""
    from importlib.util import find_spec

    return find_spec("ascmhl") is not None


def require_library() -> None:
    """Raises RequestError where the extra is missing, with how to get it."""
    if not is_library_there():
        raise RequestError("media hash lists need the extra “mhl”", hint=_EXTRA)


def read_history(root: Path) -> History:
    """What the media hash lists of a folder, and of folders below it, say; what is wrong with them as notices."""
    found = History(root)
    if not is_library_there():
        found.notices.append(
            MANIFEST_UNREADABLE(reason=f"the extra “mhl” is missing; {_EXTRA}").of(str(root / FOLDER))
        )
        return found
    try:
        history = _loaded(root)
    except RequestError as error:
        found.notices.append(CHAIN_BROKEN(reason=error.message).of(str(error.path)))
        return found
    from ascmhl.history import MHLHistory

    found.generations = len(history.hash_lists)
    renamed = set(history.renamed_path_with_previous_path())
    for one in MHLHistory.walk_child_histories(history):
        folder = one.get_root_path()
        for hash_list in one.hash_lists:
            for media_hash in hash_list.media_hashes:
                if media_hash.is_directory or f"{folder}{os.sep}{media_hash.path}" in renamed:
                    continue
                path = _as_written(Path(os.path.normpath(f"{folder}{os.sep}{media_hash.path}")))
                if not path.is_relative_to(root):
                    notice = NAMES_OUTSIDE(line=hash_list.generation_number, name=media_hash.path)
                    found.notices.append(notice.of(hash_list.file_path))
                    continue
                for entry in media_hash.hash_entries:
                    if entry.action != "failed":
                        found.sums.setdefault(path, {}).setdefault(entry.hash_format, _folded(entry))
                        found.original.setdefault(path, entry.hash_format)
    return found


def _folded(entry: Any) -> str:
    """A checksum as we compare it; those that are no hexadecimal digits tell upper case from lower."""
    return str(entry.hash_string if entry.hash_format == "c4" else entry.hash_string.lower())


def _as_written(path: Path) -> Path:
    """The file a list means: the library indents what follows a line break in a name by four spaces."""
    if "\n" not in path.name or path.exists():
        return path
    plain = path.with_name(path.name.replace("\n    ", "\n"))
    return plain if plain.exists() else path


def other_digest(path: Path, kind: str) -> str:
    """A checksum of a kind that only these lists have. Raises OSError."""
    from ascmhl.hasher import hash_file

    return str(hash_file(str(path), kind))


def write_generation(root: Path, files: Sequence[HashedFile], author: str) -> tuple[Path, int]:
    """Add a generation with the checksums of some files below a folder; the list, and its number.

    A file that is in an earlier generation must be given with its original kind of checksum. Raises RequestError where
    the chain is broken or a checksum differs, PlanError where it cannot be written.
    """
    require_library()
    final = root / FOLDER
    sweep(root)
    try:
        before = {folder: stamp_of(folder) for folder in _folders_of(root)}
        with tempfile.TemporaryDirectory(prefix="boxkite-mhl-") as place:
            own = Path(place, root.name or "root")
            own.mkdir()
            for folder in before:
                shutil.copytree(folder, own / folder.relative_to(root))
            name, number = _added(own, root, files, author)
            for folder in reversed(_folders_of(own)):
                target = root / folder.relative_to(own)
                if _contents(folder) != _contents(target):
                    _publish(folder, target, before.get(target, ""))
    except RenderError as error:
        raise PlanError(f"{error.message}", path=error.path, hint="make the manifest again") from None
    except OSError as error:
        reason = (error.strerror or str(error)).lower()
        raise PlanError(f"the manifest cannot be written: {reason}", path=final) from None
    return final / name, number


def _added(own: Path, root: Path, files: Sequence[HashedFile], author: str) -> tuple[str, int]:
    """Let the library add a generation to the copy of the lists; its name and number."""
    from ascmhl.generator import MHLGenerationCreationSession
    from ascmhl.hashlist import MHLAuthor, MHLCreatorInfo, MHLProcess, MHLProcessInfo, MHLTool
    from ascmhl.history import MHLHistory
    from ascmhl.ignore import MHLIgnoreSpec
    from ascmhl.utils import datetime_now_isostring

    history = _loaded(own)
    session = MHLGenerationCreationSession(history, MHLIgnoreSpec(history.latest_ignore_patterns(), _IGNORED))
    creator, process = MHLCreatorInfo(), MHLProcessInfo()
    creator.tool = MHLTool("Box Kite", __version__)
    creator.creation_date = datetime_now_isostring()
    creator.host_name = platform.node() or "unknown"
    creator.authors = [MHLAuthor(author)] if author else []
    process.process = MHLProcess("in-place")
    for one in MHLHistory.walk_child_histories(history):
        one.write_new_generation = _with_line_breaks(one.write_new_generation)
    with _quiet() as printed:
        for file in files:
            name = str(file.path.relative_to(root))
            if not name.isprintable() and any(
                ord(character) < 32 and character not in "\n\r\t" for character in name
            ):
                raise RequestError(
                    "its name holds a control character, which XML cannot hold", path=file.path
                )
            try:
                str(name).encode()
            except UnicodeEncodeError:
                raise RequestError(
                    "its name is not UTF-8, which a media hash list needs", path=file.path,
                    hint=f"rename it, or use a plain list: {setting('form')} xxh128",
                ) from None  # fmt: skip
            same = session.append_multiple_format_file_hashes(
                str(own / name), file.size_bytes, file.sums, file.changed, hash_date=datetime.now()
            )
            if not same:
                raise RequestError("its bytes are not those of an earlier generation", path=file.path,
                                   hint="boxkite verify tells more")  # fmt: skip
        for one in session.new_hash_lists.values():
            for media_hash in one.media_hashes:
                # the library puts a class among the entries, and would indent what follows a line break
                media_hash.hash_entries = [
                    entry for entry in media_hash.hash_entries if hasattr(entry, "hash_format")
                ]
                for entry in media_hash.hash_entries:
                    entry.action = (
                        "verified" if entry.action == "new" else entry.action
                    )  # its original one is, too
                media_hash.path = media_hash.path.replace("\n", _LINE_BREAK)
        session.commit(creator, process)
    if "ERR" in printed.getvalue():
        raise RequestError(printed.getvalue().strip().splitlines()[0], path=root / FOLDER)
    last = history.hash_lists[-1]
    return last.get_file_name(), last.generation_number


def _with_line_breaks(write: Any) -> Any:
    """The library's writing of a generation, with line breaks in names as XML's own references (XML 1.0, 4.1)."""

    def written(hash_list: Any) -> None:
        write(hash_list)
        path = Path(hash_list.file_path)
        content = path.read_bytes()
        path.write_bytes(content.replace(_LINE_BREAK.encode(), b"&#10;"))

    return written


def _loaded(root: Path) -> Any:
    """The library's history of a folder. Raises RequestError where it is broken, or is XML that may do harm."""
    import click
    from ascmhl.history import MHLHistory

    for folder in _folders_of(root):
        for path in sorted(folder.iterdir()):
            if path.suffix in (".mhl", ".xml") and path.is_file():
                _check_xml(path)
    try:
        with _quiet():
            return MHLHistory.load_from_path(str(root))
    except click.ClickException as error:
        raise RequestError(error.message, path=root / FOLDER) from None
    except (ValueError, SyntaxError, AssertionError, KeyError, AttributeError, TypeError, OSError) as error:
        raise RequestError(f"it cannot be understood: {error}", path=root / FOLDER) from None


def _check_xml(path: Path) -> None:
    """Raises RequestError for a file with entities of its own, or that is no XML."""
    from defusedxml import DefusedXmlException
    from defusedxml.ElementTree import ParseError, iterparse

    try:
        for _, element in iterparse(path, forbid_dtd=True):
            element.clear()
    except (ParseError, DefusedXmlException, ValueError, LookupError) as error:
        raise RequestError(f"it is no media hash list: {error}", path=path) from None


@contextlib.contextmanager
def _quiet() -> Iterator[io.StringIO]:
    """What the library prints is kept from the terminal."""
    printed = io.StringIO()
    with contextlib.redirect_stdout(printed), contextlib.redirect_stderr(printed):
        yield printed


def _folders_of(root: Path) -> list[Path]:
    """The folders of lists of a folder and of all below it, the outermost first."""
    found = []
    for parent, folders, _ in os.walk(root):
        if FOLDER in folders:
            found.append(Path(parent, FOLDER))
        folders[:] = sorted(name for name in folders if name != FOLDER)
    return found


def _contents(folder: Path) -> dict[str, bytes]:
    return (
        {path.name: path.read_bytes() for path in folder.iterdir() if path.is_file()}
        if folder.is_dir()
        else {}
    )


def _publish(folder: Path, final: Path, old: str) -> None:
    """Put a folder of lists in the place of the old one, complete. Raises RenderError, OSError."""
    held: set[Partial] = set()
    try:
        partial = Partial(final, folder=True, among=held)
        shutil.copytree(folder, partial.path, dirs_exist_ok=True)
        sync(partial.path)
        give_name(partial, replacing=old)
    finally:
        for one in held:
            one.discard()
