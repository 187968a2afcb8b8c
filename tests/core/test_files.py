"""Files on disk: who owns a half-made one, what is replaced, what a file is known by, what is refused unread."""

from __future__ import annotations

import errno
import os
import subprocess
import sys
import time
from dataclasses import dataclass, field
from fractions import Fraction
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from boxkite.core.arrival.cards import CardFile, Copied, _copy
from boxkite.core.errors import PlanError, RenderError, RequestError
from boxkite.core.files import moving, partials, replacing
from boxkite.core.files.cells import guarded, plain_cell, table_bytes
from boxkite.core.files.document import DocumentError, read_document, shape_of, write_document
from boxkite.core.files.folders import prepare_folders
from boxkite.core.files.identity import identity_of, identity_of_images, stamp_of
from boxkite.core.files.partials import Partial
from boxkite.core.files.reading import opened, path_from, read_bytes
from boxkite.core.files.replacing import NEW, NOTE, OLD, give_name
from boxkite.core.files.sweeping import sweep
from boxkite.core.files.walking import Walk
from boxkite.core.files.writing import create_file, replace_file
from boxkite.core.notices.batches import REPLACEMENT_FINISHED
from tests import wording


def hidden(folder: Path) -> list[str]:
    return sorted(path.name for path in folder.iterdir() if path.name.startswith(".boxkite"))


def test_a_name_is_given_once_and_never_over_another_file(tmp_path: Path) -> None:
    for folder in (False, True):
        final = tmp_path / f"dip{folder}"
        first, second = Partial(final, folder=folder), Partial(final, folder=folder)
        give_name(first)
        made = stamp_of(final)
        with pytest.raises(RenderError, match="another file took its name"):
            give_name(second)
        second.discard()
        assert stamp_of(final) == made
    assert hidden(tmp_path) == []


def test_half_made_files_belong_to_a_process_for_as_long_as_it_lives(tmp_path: Path) -> None:
    """Neither its number nor the machine's name counts: both are the same in two containers."""
    script = (
        "import sys; from pathlib import Path; from boxkite.core.files.partials import Partial;"
        "kept = [Partial(Path(sys.argv[1]) / 'a.mov'), Partial(Path(sys.argv[1]) / 'b', folder=True)];"
        "print('ready', flush=True); sys.stdin.read()"
    )
    command = [sys.executable, "-c", script, str(tmp_path)]
    with subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE) as other:
        assert other.stdout and other.stdout.readline()
        mine = Partial(tmp_path / "a.mov")
        (tmp_path / f"{mine.path.name.removesuffix('.partial')}.passes-0.log").touch()
        (tmp_path / ".boxkite-0123456789ab-0123456789ab.passes-0.log.mbtree").touch()
        (tmp_path / ".boxkite-0123456789ab-0123456789ab.partial").touch()
        prepare_folders({tmp_path})
        assert len(hidden(tmp_path)) == 4
        other.kill()
    prepare_folders({tmp_path})
    assert len(hidden(tmp_path)) == 2
    mine.discard()
    assert hidden(tmp_path) == []


def test_on_shared_volumes_what_was_touched_of_late_has_an_owner(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(partials, "is_shared", lambda path: True)
    partial = Partial(tmp_path / "a.mov")
    partial.release()  # as if the lock did not reach this machine
    sweep(tmp_path)
    assert partial.path.exists()
    now = time.time()
    monkeypatch.setattr(partials.time, "time", lambda: now + partials.LEASE_SECONDS + 1)
    sweep(tmp_path)
    assert not partial.path.exists()
    kept = Partial(tmp_path / "b.mov")
    os.utime(kept.path, (1, 1))
    kept.renew()
    assert time.time() - kept.path.stat().st_mtime < 2 * partials.LEASE_SECONDS


@pytest.mark.parametrize("knows_exchange", [True, False])
@pytest.mark.parametrize("is_folder", [False, True])
def test_a_known_file_is_replaced_and_nothing_else(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, knows_exchange: bool, is_folder: bool
) -> None:
    if not knows_exchange:
        monkeypatch.setattr(moving, "_system_call", lambda: None)
    final = tmp_path / "dip"

    def made(text: str) -> Partial:
        partial = Partial(final, folder=is_folder)
        (partial.path / "1" if is_folder else partial.path).write_text(text)
        return partial

    def text() -> str:
        return (final / "1" if is_folder else final).read_text()

    give_name(made("old"))
    known = stamp_of(final)
    give_name(made("new"), replacing=known)
    assert (text(), hidden(tmp_path)) == ("new", [])
    stale = made("newer")
    with pytest.raises(RenderError, match="not what it was when the plan was made"):
        give_name(stale, replacing=known)
    stale.discard()
    now, late = stamp_of(final), made("late")
    real = replacing._stamp
    looks = iter([True])  # it is exchanged right after the look

    def stamp(path: Path) -> str:
        found = real(path)
        if path == final and next(looks, False):
            final.rename(tmp_path / "moved")
            (tmp_path / "theirs").mkdir() if is_folder else (tmp_path / "theirs").write_text("theirs")
            (tmp_path / "theirs").rename(final)
        return found

    monkeypatch.setattr(replacing, "_stamp", stamp)
    with pytest.raises(RenderError, match="another file took its name meanwhile"):
        give_name(late, replacing=now)
    late.discard()
    assert hidden(tmp_path) == []
    assert list(final.iterdir()) == [] if is_folder else final.read_text() == "theirs"


@pytest.mark.parametrize("taken", [False, True])
def test_a_replacement_that_was_cut_short_between_its_two_steps_is_finished_by_whoever_comes_next(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, taken: bool
) -> None:
    monkeypatch.setattr(moving, "_system_call", lambda: None)
    final = tmp_path / "dip.mov"
    final.write_text("old")
    partial = Partial(final)
    partial.path.write_text("new")

    class Killed(BaseException):
        pass

    def place(path: Path, target: Path) -> None:
        if target == final:
            raise Killed
        moving.place(path, target)

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(replacing, "place", place)
        with pytest.raises(Killed):
            give_name(partial, replacing=stamp_of(final))
    assert not final.exists()
    assert sorted(Path(name).suffix for name in hidden(tmp_path)) == sorted([NEW, NOTE, OLD])
    if taken:
        final.write_text("theirs")
    (line, *more) = prepare_folders({tmp_path})
    assert line.is_a(REPLACEMENT_FINISHED) and len(more) == taken
    assert final.read_text() == ("theirs" if taken else "new")
    kept = {path.read_text() for path in tmp_path.iterdir()}
    assert kept == ({"theirs", "old"} if taken else {"new"}) and hidden(tmp_path) == []


def test_files_that_nobody_knows_are_never_removed_by_finishing(tmp_path: Path) -> None:
    (tmp_path / "dip.mov").write_text("final")
    stem = ".boxkite-0123456789ab-0123456789ab"
    (tmp_path / f"{stem}{NEW}").write_text("somebody's only copy")
    for note in (
        '{"name": "dip.mov", "new": "1", "old": "2"}',
        '{"name": "../x", "new": "1", "old": "2"}',
        "{",
    ):
        (tmp_path / f"{stem}{NOTE}").write_text(note)
        sweep(tmp_path)
        texts = [path.read_text() for path in tmp_path.iterdir()]
        assert "somebody's only copy" in texts and "final" in texts


def test_small_files_are_written_completely_or_not_at_all_and_keep_rights_and_links(tmp_path: Path) -> None:
    path, link = tmp_path / "marks.csv", tmp_path / "link.csv"
    create_file(path, b"one")
    with pytest.raises(FileExistsError):
        create_file(path, b"two")
    path.chmod(0o640)
    link.symlink_to(path)
    replace_file(link, b"three")
    assert link.is_symlink() and path.read_bytes() == b"three" and path.stat().st_mode & 0o777 == 0o640
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(os, "fsync", lambda _: (_ for _ in ()).throw(OSError(errno.EIO, "broken")))
        with pytest.raises(OSError, match="broken"):
            replace_file(path, b"four")
    assert path.read_bytes() == b"three" and hidden(tmp_path) == []
    left = Partial(path)
    left.release()
    replace_file(path, b"five")
    assert hidden(tmp_path) == []


def test_every_change_of_a_file_shows_in_its_identity(tmp_path: Path) -> None:
    path = tmp_path / "a.mov"

    def now():
        with opened(path) as descriptor:
            return identity_of(descriptor, path)

    path.write_bytes(bytes(range(256)) * 2000)
    first, times = now(), (path.stat().st_atime_ns, path.stat().st_mtime_ns)
    assert first.difference(now()) == "" and first.is_status_of(path.stat())
    time.sleep(0.02)
    with path.open("r+b") as file:  # in its middle, its time put back
        file.seek(250_000)
        file.write(b"other")
    os.utime(path, ns=times)
    assert "written to, moved or given other rights" in first.difference(now())
    assert not first.is_status_of(path.stat())
    elsewhere = replace(first, system="another machine")
    assert elsewhere.difference(now()) == "" and elsewhere.is_status_of(path.stat())
    with path.open("r+b") as file:
        file.write(b"head")
    os.utime(path, ns=times)
    assert elsewhere.difference(now()) == "its content is different"
    other = tmp_path / "b.mov"
    other.write_bytes(path.read_bytes())
    os.utime(other, ns=times)
    before = now()
    other.replace(path)
    assert before.difference(now()) == "another file was put in its place"
    assert replace(before, system="x").difference(now()) == ""
    path.write_bytes(b"short")
    assert "bytes and has 5" in first.difference(now())


def test_a_change_in_the_index_of_a_movie_shows_even_on_another_machine(tmp_path: Path) -> None:
    def box(kind: bytes, content: bytes) -> bytes:
        return (len(content) + 8).to_bytes(4, "big") + kind + content

    paths = []
    for number, index in enumerate((b"one", b"two")):
        path = tmp_path / f"{number}.mov"
        data = bytes(200_000)
        path.write_bytes(
            box(b"ftyp", b"qt  ") + box(b"free", data) + box(b"moov", index) + box(b"free", data)
        )
        os.utime(path, (5, 5))
        paths.append(path)
    found = []
    for path in paths:
        with opened(path) as descriptor:
            found.append(replace(identity_of(descriptor, path), system=""))
    assert found[0].difference(found[1]) == "its content is different"


def test_images_are_known_together(tmp_path: Path) -> None:
    paths = [tmp_path / f"{number}.png" for number in range(3)]
    for path in paths:
        path.write_bytes(b"1")
    first = identity_of_images(paths)
    assert first.difference(identity_of_images(paths)) == ""
    paths[1].write_bytes(b"22")
    assert first.difference(identity_of_images(paths))
    paths[2].unlink()
    with pytest.raises(FileNotFoundError):
        identity_of_images(paths)


def test_what_is_no_regular_file_or_too_large_is_refused_unread(tmp_path: Path) -> None:
    os.mkfifo(tmp_path / "pipe")
    (tmp_path / "large").write_bytes(bytes(2001))
    for path, says in (
        (tmp_path / "pipe", "a named pipe"), (Path("/dev/zero"), "a device"), (tmp_path, "a folder"),
        (tmp_path / "large", "more than the 1 KB"),
    ):  # fmt: skip
        with pytest.raises(OSError, match=says):
            read_bytes(path, 2000)
    for text in ("~nosuch-user/x", "a\0b"):
        with pytest.raises(RequestError):
            path_from(text)


def test_a_walk_names_what_it_could_not_look_into(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    for name in ("locked", "open", ".hidden"):
        (tmp_path / name).mkdir()
        (tmp_path / name / "a.mov").touch()
    (tmp_path / "linked").symlink_to(tmp_path / "open")
    real = os.scandir

    def scandir(path):
        if Path(path).name == "locked":
            raise PermissionError(errno.EACCES, "Permission denied", os.fspath(path))
        return real(path)

    monkeypatch.setattr(os, "scandir", scandir)
    walk = Walk(tmp_path)
    found = [parent / name for parent, names in walk.folders() for name in names]
    assert found == [tmp_path / "open/a.mov"] and walk.hidden == 1
    message = {one.path.name: one.reason for one in walk.unseen}
    assert wording.PERMISSION_DENIED in message["locked"] and wording.LINK_TO_FOLDER in message["linked"]


@given(st.text(max_size=12) | st.sampled_from(["=1+1", "'=1", " =1", "''@x", "+", "\t=", "-dip", "＝x", "'"]))
def test_no_cell_is_a_formula_and_every_cell_comes_back(text: str) -> None:
    cell = guarded(text)
    assert not cell.lstrip(" \n").startswith(("=", "+", "-", "@", "\t", "\r", "＝", "＋", "－", "＠"))
    assert plain_cell(cell) == text


def test_a_folder_that_cannot_be_written_to_is_named_and_what_was_made_for_it_goes(tmp_path: Path) -> None:
    (tmp_path / "file").touch()
    with pytest.raises(PlanError, match="cannot be written to"):
        prepare_folders({tmp_path / "a/b", tmp_path / "file/c"})
    assert [path.name for path in tmp_path.iterdir()] == ["file"]
    assert table_bytes([["a", "=1"]]) == b"\xef\xbb\xbfa,'=1\r\n"


@dataclass(frozen=True)
class Leaf:
    rate: Fraction
    path: Path


@dataclass(frozen=True)
class Tree:
    leaf: Leaf
    others: tuple[Leaf, ...] = ()
    either: Leaf | str | None = None
    metadata: dict[str, int] = field(default_factory=dict)
    plain: Any = None


def test_documents_give_back_what_was_written_and_share_what_was_shared() -> None:
    leaf = Leaf(Fraction(30000, 1001), Path(os.fsdecode(b"/caf\xe9")))
    tree = Tree(leaf, (leaf, Leaf(Fraction(1), Path("/b"))), leaf, {"a": 1}, {"b": [1.5, {"c": None}]})
    content = write_document(tree, Tree, 3, (Leaf,))
    back = read_document(content, Tree, 3, (Leaf,))
    assert back == tree and back.leaf is back.others[0] is back.either
    mapped = read_document(content, Tree, 3, (Leaf,), lambda text: Path("/there") / text.lstrip("/"))
    assert mapped.others[1].path == Path("/there/b")


@pytest.mark.parametrize(
    "bad",
    [
        ('"version":3', '"version":2'), ('"kind":"Tree"', '"kind":"Leaf"'), ("30000/1001", "1/0"),
        ("30000/1001", "x"), ('"rate"', '"__class__"'), ('"metadata":{"a":1}', '"metadata":{"a":"1"}'),
        ('"leaf":0', '"leaf":9'),
        ('"leaf":0', '"leaf":-1'), ('"leaf":0', '"leaf":null'), ('["Leaf",0]', '["os.system","x"]'), ("{", "["),
        ('"leaf":0,', ""), ('"path":"/b"', '"path":"\\u0000"'),
    ],
)  # fmt: skip
def test_documents_that_were_changed_are_refused_whatever_was_done_to_them(bad: tuple[str, str]) -> None:
    leaf = Leaf(Fraction(30000, 1001), Path("a"))
    content = write_document(
        Tree(leaf, (Leaf(Fraction(1), Path("/b")),), leaf, {"a": 1}), Tree, 3, (Leaf,)
    ).decode()
    assert bad[0] in content
    with pytest.raises(DocumentError):
        read_document(content.replace(*bad).encode(), Tree, 3, (Leaf,))


def test_another_shape_of_a_document_needs_another_version() -> None:
    import xxhash

    from boxkite.core.batch.executors.messages import ShotTask, WorkerMessage
    from boxkite.core.batch.packing import VERSION, Packed
    from boxkite.core.projects.renaming import VERSION as RENAMING
    from boxkite.core.projects.renaming import RenameRecord

    shapes = "\n".join(shape_of(kind) for kind in (Packed, ShotTask, WorkerMessage))
    assert (VERSION, xxhash.xxh3_64_hexdigest(shapes.encode())) == (8, "ce3a9fc9cc40502e")
    assert (RENAMING, xxhash.xxh3_64_hexdigest(shape_of(RenameRecord).encode())) == (1, "6145878573879ba1")


def test_paths_without_dots_lead_where_they_led(tmp_path: Path) -> None:
    from boxkite.core.files.reading import without_dots

    (tmp_path / "a" / "b").mkdir(parents=True)
    (tmp_path / "link").symlink_to(tmp_path / "a" / "b")
    (tmp_path / "a" / "x").write_text("x")
    for text in ("link/../x", "a/b/../x", "a/../link/../x"):
        assert without_dots(tmp_path / text) == tmp_path / "a" / "x"
    assert without_dots(tmp_path / "link" / "new") == tmp_path / "link" / "new"
    assert without_dots(tmp_path / "a" / ".." / "link") == tmp_path / "link"


def test_a_copy_that_is_there_already_has_its_name_on_the_disk(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Whoever gave it may have been stopped right after."""
    card, kept, synced = tmp_path / "card", tmp_path / "kept", list[Path]()
    for folder in (card, kept):
        folder.mkdir()
        (folder / "a.mov").write_bytes(b"footage")
    monkeypatch.setattr(moving, "_sync", synced.append)
    (found,) = _copy(CardFile(card, card / "a.mov", kept / "a.mov", 7), 0)
    assert isinstance(found, Copied) and found.was_there and synced == [kept]
