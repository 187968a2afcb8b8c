"""Which file gets which name: sources by a pattern, their sidecars along with them."""

from __future__ import annotations

from collections import ChainMap
from collections.abc import Mapping, Sequence
from pathlib import Path

from msgspec import Struct

from boxkite.core.errors import PatternError, PlanError
from boxkite.core.files.names import clash_key
from boxkite.core.footage.kinds import MEDIA_SUFFIXES
from boxkite.core.footage.source import Source
from boxkite.core.metadata.value import KnownMetadata
from boxkite.core.naming.pattern import (
    FolderBreak,
    Pattern,
    check_length,
    check_tokens,
    make_name,
    read_pattern,
)
from boxkite.core.naming.values import Text
from boxkite.core.shots.shot import Shot
from boxkite.core.shots.token_listing import whole_source
from boxkite.core.shots.tokens import AGAIN, FILE_TOKENS, NamingContext, ShotValues, known_tokens

_SEPARATORS = "._- "


class Renamed(Struct, frozen=True):
    """One source with its new name."""

    source: Source
    new_label: str
    moves: tuple[tuple[Path, Path], ...]
    """Every file of it and beside it, old and new path, the source's first."""
    names: Mapping[str, str]
    """By each name the source goes by in tables, the new one."""

    @property
    def changes(self) -> bool:
        """Whether anything gets another name."""
        return any(old != new for old, new in self.moves)


def new_names(
    sources: Sequence[Source], names: str, known: Mapping[Path, KnownMetadata], user: str = ""
) -> list[Renamed]:
    """Every source with the name that a pattern makes of its tokens; it stays in its folder and keeps its extension.

    Raises PatternError for a pattern that cannot be, PlanError for names that clash or are taken.
    """
    pattern = read_pattern(names)
    shots = [whole_source(source, known[source.path].values) for source in sources]
    _check(pattern, known_tokens(shots))

    def unrepeated(shot: Shot, index: int) -> str:
        name = make_name(pattern, ChainMap({AGAIN: Text("")}, values.of(shot, index)))  # type: ignore[arg-type]
        path = sources[index].path
        return f"{path.parent}/{clash_key(name + path.suffix)}"

    values = ShotValues(shots, NamingContext(user=user), name_of=unrepeated)
    renamed = []
    for index, (source, shot) in enumerate(zip(sources, shots, strict=True)):
        try:
            name = make_name(pattern, values.of(shot, index))
        except PatternError as error:
            error.message = f"{error.message} ({source.label})"
            raise
        check_length(name, source.path.suffix, pattern)
        renamed.append(_images(source, name) if source.sequence else _file(source, name))
    _check_clashes(renamed)
    return renamed


def _check(pattern: Pattern, known: set[str]) -> None:
    check_tokens(pattern, known)
    for choice in pattern.choices:
        if choice.name.casefold() in FILE_TOKENS:
            raise PatternError(
                f"“{choice.name}” is of a file that is made, and renaming makes none",
                pattern=pattern.text,
                column=choice.column,
                hint="leave it out",
            )
    if "/" in pattern.text or any(isinstance(part, FolderBreak) for part in pattern.parts):
        raise PatternError(
            "renamed files stay in their folder", pattern=pattern.text, column=pattern.text.index("/") + 1,
            hint="leave out the /",
        )  # fmt: skip


def _file(source: Source, name: str) -> Renamed:
    path = source.path
    new = path.with_name(f"{name}{path.suffix}")
    moves = [(path, new)]
    for beside in sorted(path.parent.glob(f"{_escaped(path.stem)}.*")):
        if beside != path and beside.suffix.lower() not in MEDIA_SUFFIXES and beside.is_file():
            moves.append((beside, path.with_name(f"{name}{beside.name[len(path.stem) :]}")))
    return Renamed(source, new.name, tuple(moves), {path.name: new.name, path.stem: name})


def _escaped(text: str) -> str:
    return "".join(f"[{character}]" if character in "*?[" else character for character in text)


def _images(source: Source, name: str) -> Renamed:
    """All images of a sequence keep their numbers, and the character before them."""
    images = source.sequence
    assert images
    bare = images.prefix.rstrip(_SEPARATORS)
    prefix = f"{name}{images.prefix[len(bare) :] or '.'}"
    moves = []
    for number in range(images.first, images.last + 1):
        if number not in set(images.missing):
            old = images.folder / images.file_name(number)
            moves.append((old, images.folder / f"{prefix}{old.name[len(images.prefix) :]}"))
    label = f"{prefix}{images.label[len(images.prefix) :]}"
    names = {source.label: label, source.clip_name: name, images.file_name(images.first): moves[0][1].name}
    return Renamed(source, label, tuple(moves), names)


def _check_clashes(renamed: Sequence[Renamed]) -> None:
    moves = [(old, new) for one in renamed for old, new in one.moves]
    leaving = {clash_key(str(old)) for old, _ in moves}
    seen: dict[str, Path] = {}
    for old, new in moves:
        key = clash_key(str(new))
        other = seen.setdefault(key, old)
        if other is not old:
            if other == old:
                raise PlanError(f"“{old.name}” belongs to two sources that get different names", path=old.parent,
                                hint="rename these two separately")  # fmt: skip
            raise PlanError(
                f"“{other.name}” and “{old.name}” would both be called “{new.name}”",
                path=old.parent,
                hint='@again makes them different: "…[_@again]"',
            )
        if key not in leaving and (new.exists() or new.is_symlink()):
            raise PlanError(f"“{old.name}” cannot be called “{new.name}”: there is one already", path=old.parent,
                            hint="nothing is overwritten: move it away, or give another pattern")  # fmt: skip
