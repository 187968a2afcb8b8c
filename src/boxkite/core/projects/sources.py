"""Renaming sources: found, named by a pattern, renamed with all that belongs to them."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from msgspec import Struct

from boxkite.core.errors import FootageError
from boxkite.core.files.walking import Unseen
from boxkite.core.footage.find import find_sources
from boxkite.core.footage.source import ImageSettings
from boxkite.core.marks.mark_table import table_beside
from boxkite.core.metadata.lookup import know
from boxkite.core.naming.saved import pattern_of
from boxkite.core.notices.notice import Notice
from boxkite.core.projects.new_names import Renamed, new_names
from boxkite.core.projects.renaming import RenameRecord, rename


class RenamePlan(Struct, frozen=True):
    """Sources with their new names, nothing renamed yet."""

    renamed: tuple[Renamed, ...]
    tables: tuple[Path, ...]
    """Tables that name the sources, and are changed along with them."""
    notices: tuple[Notice, ...]
    unseen: tuple[Unseen, ...]
    """Folders that could not be entered."""

    @property
    def changing(self) -> tuple[Renamed, ...]:
        """The sources that get another name."""
        return tuple(one for one in self.renamed if one.changes)


def plan_renaming(
    paths: Sequence[Path],
    names: str,
    *,
    metadata: Sequence[Path] = (),
    match_by: str | None = None,
    marks: Sequence[Path] = (),
    images: ImageSettings | None = None,
    user: str = "",
) -> RenamePlan:
    """Work out the new name of every source under some paths. names: the pattern, or saved:NAME.

    metadata: tables whose columns become tokens; marks: tables that only name the sources. Raises RequestError for
    a pattern that makes no usable names, names that clash, and paths without a source.
    """
    found = find_sources(paths, images)
    if not found.sources:
        raise FootageError("there is no source here", path=paths[0])
    known, notices = know(list(found.sources), tuple(metadata), match_by)
    renamed = tuple(new_names(found.sources, pattern_of(names) or "", known, user))
    beside = {table_beside(one.source.path) for one in renamed if one.changes}
    logs = (".ale",)
    tables = [*sorted(table for table in beside if table.is_file())]
    tables += [table for table in (*metadata, *marks) if table.suffix.lower() not in logs]
    return RenamePlan(renamed, tuple(tables), tuple(notices), tuple(found.unseen))


def rename_sources(plan: RenamePlan) -> tuple[RenameRecord | None, list[Notice]]:
    """Rename as planned, all files or none; the record, None where nothing changes, and notices.

    Raises as rename does.
    """
    if not plan.changing:
        return None, []
    moves = [move for one in plan.changing for move in one.moves]
    names = {old: new for one in plan.changing for old, new in one.names.items()}
    return rename(moves, names, plan.tables)
