"""Making the folders of shots: what is new is added, what is there is left alone."""

from __future__ import annotations

import io
import os
import shutil
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import Literal

from msgspec import Struct, field

from boxkite.core.errors import PatternError, PlanError
from boxkite.core.files.moving import make_folders, place, sync, sync_folder
from boxkite.core.files.names import clash_key, safe_component
from boxkite.core.files.partials import Partial
from boxkite.core.files.sweeping import sweep
from boxkite.core.files.writing import create_file
from boxkite.core.handover.described import Described, Description, by_shot
from boxkite.core.handover.good_frames import frame_of_file
from boxkite.core.handover.review_file import draw_lines
from boxkite.core.handover.shot_folders.frame_notes import FrameNote, NotesFinder
from boxkite.core.handover.shot_folders.tree import Tree
from boxkite.core.looks.look import look_words
from boxkite.core.naming.pattern import Pattern, check_tokens, make_name, plain_text
from boxkite.core.naming.values import Number, Text, Value
from boxkite.core.notices.edit import HIDDEN_IN_EDIT, TITLES_NOT_MADE
from boxkite.core.notices.handover import STILL_NOT_MADE
from boxkite.core.notices.notice import Notice

ORDER_TOKENS = {
    "source": "path of the source",
    "firstframe": "first frame of the source that the file holds, counted from 0",
    "lastframe": "the last one",
    "handlein": "frames of the file before the shot itself",
    "handleout": "frames of the file after it",
    "look": "the look it has, by its files and decisions",
    "place": "where it is in the edit: timeline, track and timecode",
    "above": "titles and clips above it in the edit",
    "differences": "how the edit shows it otherwise",
    "files": "its files, a line each",
    "notes": "its notes, a line each with the timecode",
    "notecount": "how many notes; empty where there is none",
}
"""The tokens that only work orders and trees have."""
AGAIN = "again"
"""The token that is empty for the first of several shots of one name, and counts the others."""
_MOST_OF_ONE_NAME = 10_000
What = Literal["folder", "link", "copy", "still", "order"]


class Addition(Struct, frozen=True):
    """One thing in a shot's folder."""

    what: What
    path: Path
    source: Path | None = None
    """The file it leads to, or is a copy of."""
    text: str = ""
    note: FrameNote | None = None
    one: Described | None = None


class FoldersPlan(Struct):
    """What is to be added."""

    into: Path
    shots: int = 0
    additions: list[Addition] = field(default_factory=list)
    there: int = 0
    """Things that are there already, and stay as they are."""
    notices: list[Notice] = field(default_factory=list)

    @property
    def counts(self) -> Mapping[str, int]:
        """How many of each are added."""
        found: dict[str, int] = {}
        for one in self.additions:
            found[one.what] = found.get(one.what, 0) + 1
        return found


class _Values(Mapping[str, Value]):
    """The values of a shot's first file, and those of its work order."""

    def __init__(self, own: Mapping[str, Value], below: Mapping[str, Value]) -> None:
        self._own, self._below = own, below

    def __getitem__(self, name: str) -> Value:
        return self._own[name] if name in self._own else self._below[name]

    def __contains__(self, name: object) -> bool:
        return name in self._own or name in self._below

    def __iter__(self) -> Iterator[str]:
        yield from dict.fromkeys([*self._own, *self._below])

    def __len__(self) -> int:
        return sum(1 for _ in self)


def plan_folders(
    description: Description, tree: Tree, into: Path, reviews: Sequence[Path] = ()
) -> FoldersPlan:
    """Work out what the folders of all shots are going to hold; nothing is written.

    Raises PatternError, PlanError where two shots would share a folder or something else is in the way, MarksError.
    """
    for pattern in tree.patterns:
        check_tokens(pattern, description.tokens | ORDER_TOKENS.keys())
    notes = NotesFinder(reviews)
    plan = FoldersPlan(into.absolute())
    folders: dict[str, Described] = {}
    for files in by_shot([one for one in description.files if one.is_made]):
        found = notes.of(files)
        own = _order_values(files, found)
        name = ""
        for number in range(1, _MOST_OF_ONE_NAME):
            values = _Values({**own, AGAIN: Text("" if number == 1 else str(number))}, files[0].values)
            name = _folder_name(tree, files[0], values)
            if clash_key(name) not in folders or AGAIN not in {use.name for use in tree.folder.choices}:
                break
        other = folders.setdefault(clash_key(name), files[0])
        if other is not files[0]:
            raise PlanError(f"{other.file.name} and {files[0].file.name} would share the folder {name}",
                            path=tree.path, key="folder", hint="add [_@again], which tells them apart")  # fmt: skip
        plan.shots += 1
        for one in _additions(tree, plan.into / name, files, found, values):
            _add(plan, one)
    plan.notices += notes.notices
    return plan


def _folder_name(tree: Tree, one: Described, values: Mapping[str, Value]) -> str:
    try:
        return make_name(tree.folder, values)
    except PatternError as error:
        raise PlanError(f"{one.file.name}: {error.message}", hint=error.hint) from None


def _additions(
    tree: Tree,
    folder: Path,
    files: Sequence[Described],
    notes: Sequence[FrameNote],
    values: Mapping[str, Value],
) -> Iterator[Addition]:
    yield Addition("folder", folder)
    for pattern in tree.places:
        yield Addition("folder", folder / make_name(pattern, values))
    if tree.files != "none":
        names: dict[str, int] = {}
        for one in files:
            path = one.file.path
            name = path.name
            if names.setdefault(clash_key(name), 0):  # the same name from several outputs
                name = f"{path.stem}_{safe_component(one.file.root.name)}{path.suffix}"
            names[clash_key(path.name)] += 1
            yield Addition(tree.files, folder / tree.files_into / name, path)
    if tree.stills_into:
        for note in notes:
            if note.origin != "shot":
                frame = note.note.frame
                name = f"{safe_component(files[0].file.path.stem)}_{frame:06d}.png"
                yield Addition("still", folder / tree.stills_into / name, note=note, one=files[0])
    if tree.order:
        yield Addition("order", folder / tree.order_file, text=order_text(tree.order, values))


def order_text(lines: Sequence[Pattern], values: Mapping[str, Value]) -> str:
    """A work order: its lines but for those in which every token is empty."""
    written = []
    for line in lines:
        text = plain_text(line, values)
        if not line.choices or any(values[use.name].shown() for use in line.choices):
            written.append(text.rstrip())
    return "\n".join(written).rstrip() + "\n"


def _add(plan: FoldersPlan, one: Addition) -> None:
    """Take it in unless it is there. Raises PlanError where a file is in the way of a folder."""
    if any(one.path == other.path for other in plan.additions[-200:]):
        return
    if one.what == "folder" and one.path.exists() and not one.path.is_dir():
        raise PlanError("a file is in the way of this folder", path=one.path)
    if os.path.lexists(one.path):
        plan.there += 1
    else:
        plan.additions.append(one)


def _order_values(files: Sequence[Described], notes: Sequence[FrameNote]) -> dict[str, Value]:
    one = files[0]
    row, shot = one.row, one.shot
    span = row.span if row else shot.span
    before = shot.handle_in + (shot.span.start - span.start)
    after = shot.handle_out + (span.end - shot.span.end)
    edited = shot.edited
    where = f"{edited.timeline}, {edited.track} at {edited.record_in}" if edited else ""
    above = [
        text
        for notice in shot.warnings
        for text in (
            notice.values.get("names", [])
            if notice.is_a(TITLES_NOT_MADE)
            else [str(notice)]
            if notice.is_a(HIDDEN_IN_EDIT)
            else []
        )
    ]
    others = [str(notice) for notice in shot.warnings if not notice.is_a(TITLES_NOT_MADE, HIDDEN_IN_EDIT)]
    has_handles = before or after
    return {
        "source": Text(str(shot.footage.source.path)),
        "firstframe": Number(span.start),
        "lastframe": Number(span.end - 1),
        "handlein": Text(str(before) if has_handles else ""),
        "handleout": Text(str(after) if has_handles else ""),
        "look": Text(look_words(row.look) if row else ""),
        "place": Text(where),
        "above": Text("; ".join(above)),
        "differences": Text("; ".join(others)),
        "files": Text("\n".join(f"  {file.file.path}" for file in files)),
        "notecount": Text(str(len(notes) or "")),
        "notes": Text("\n".join(f"  {note.line(one)}" for note in notes)),
    }


def make_all(plan: FoldersPlan) -> int:
    """Add what the plan says; how many things were added. Raises PlanError where the disk refuses.

    Killed at any place it leaves whole files only; run again it adds the rest.
    """
    made = 0
    for one in plan.additions:
        try:
            made += _make(one, plan.notices)
        except FileExistsError:
            continue  # somebody was faster, and it stays as it is
        except OSError as error:
            raise PlanError(
                f"it cannot be made: {(error.strerror or str(error)).lower()}", path=one.path
            ) from None
    return made


def _make(one: Addition, notices: list[Notice]) -> bool:
    if one.what == "folder":
        make_folders(one.path)
        return True
    make_folders(one.path.parent)
    if one.what == "order":
        create_file(one.path, one.text.encode("utf-8", "replace"))
    elif one.what == "link":
        assert one.source
        one.path.symlink_to(os.path.relpath(one.source, one.path.parent.resolve()), one.source.is_dir())
        sync_folder(one.path.parent)
    elif one.what == "copy":
        assert one.source
        _copy(one.source, one.path)
    else:
        return _draw_still(one, notices)
    return True


def _copy(source: Path, target: Path) -> None:
    sweep(target.parent)
    partial = Partial(target, folder=source.is_dir())
    try:
        if source.is_dir():
            for image in sorted(source.iterdir()):
                shutil.copyfile(image, partial.path / image.name)
        else:
            shutil.copyfile(source, partial.path)
        sync(partial.path)
        place(partial.path, target)
    finally:
        partial.discard()


def _draw_still(one: Addition, notices: list[Notice]) -> bool:
    assert one.note and one.one
    described, frame = one.one, one.note.note.frame
    path = described.file.path
    parts = described.file.parts() if path.is_dir() else []
    path, frame_there = (parts[min(frame, len(parts) - 1)], 0) if parts else (path, frame)
    image = frame_of_file(path, frame_there, described.fps, is_copied=described.is_copied and not parts)
    if image is None:
        notices.append(STILL_NOT_MADE(frame=frame).of(path.name))
        return False
    draw_lines(image, one.note.note)
    content = io.BytesIO()
    image.save(content, "PNG")
    create_file(one.path, content.getvalue())
    return True
