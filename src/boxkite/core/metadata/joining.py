"""Which row of a table is about which source: by file name, reel and timecode, or a column of one's choice."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import takewhile
from pathlib import Path, PureWindowsPath

from msgspec import Struct

from boxkite.core.errors import BoxkiteError, MarksError, setting
from boxkite.core.files.table import Table, TableRow, find_column, read_table
from boxkite.core.footage.source import Source
from boxkite.core.marks.ranges import COLUMN_NAMES
from boxkite.core.metadata.value import MetadataValue
from boxkite.core.notices.marks import (
    ROW_WITHOUT_SOURCE,
    ROWS_WITHOUT_SOURCE,
    SOURCES_WITHOUT_ROW,
    TITLE_SKIPPED,
    WITHOUT_HEAD,
)
from boxkite.core.notices.notice import Notice
from boxkite.core.suggest import did_you_mean
from boxkite.core.timebase import Timecode, is_timecode_like

SOURCE_COLUMNS = (*COLUMN_NAMES["source"], "source file", "source file name", "media", "name")
_REEL_COLUMNS = ("reel", "tape", "reel name", "tape name", "roll", "camera roll", "tape id")
_START_COLUMNS = ("start", "tc in", "timecode in", "start tc", "start timecode", "timecode", "in",
                  *(name for name in COLUMN_NAMES["in"] if "frame" not in name))  # fmt: skip
_MOST_NAMED = 8


class Joined(Struct, frozen=True):
    """A table laid on sources."""

    path: Path
    metadata: dict[Path, list[MetadataValue]]
    """By source path."""
    unmatched_rows: tuple[tuple[int, str], ...]
    """With what each says of its source."""
    unmatched_sources: tuple[Source, ...]
    titles: tuple[tuple[int, str], ...] = ()
    """Lines above its head, which were skipped."""
    unnamed: tuple[str, ...] = ()
    """Columns without a head."""

    def notices(self) -> list[Notice]:
        """Titles that were skipped, rows without a source, and sources without a row."""
        found = [TITLE_SKIPPED(text=text).of(f"{self.path.name}:{line}") for line, text in self.titles]
        found += [WITHOUT_HEAD(columns=list(self.unnamed)).of(self.path.name)] if self.unnamed else []
        found += [
            ROW_WITHOUT_SOURCE(names=names).of(f"{self.path.name}:{line}")
            for line, names in self.unmatched_rows[:_MOST_NAMED]
        ]
        if (more := len(self.unmatched_rows) - _MOST_NAMED) > 0:
            found.append(ROWS_WITHOUT_SOURCE(count=more).of(self.path.name))
        if self.unmatched_sources:
            sources = [source.label for source in self.unmatched_sources]
            found.append(SOURCES_WITHOUT_ROW(sources=sources).of(self.path.name))
        return found


def join_table(path: Path, sources: Sequence[Source], column: str | None) -> Joined:
    """Read a table of metadata and lay its rows on sources.

    column: the one that names the source, by file name, clip name or reel; None finds one by its usual names,
    or joins by reel and timecode. Raises MarksError, with the columns there are, when neither can be done.
    """
    table = read_table(path, may_have_titles=True)
    named = _chosen(table, column) if column else find_column(table, SOURCE_COLUMNS)
    reel, start = find_column(table, _REEL_COLUMNS), find_column(table, _START_COLUMNS)
    if named is None and (reel is None or start is None):
        raise MarksError(
            f"no column says which source a row is about; its columns are: {', '.join(table.columns)}",
            path=path,
            line=1,
            hint=f"call one of them source, file or clip, or reel and start, or name it with {setting('match-by')}",
        )
    by_name = _names(sources, with_reel=column is not None)
    metadata: dict[Path, list[MetadataValue]] = {}
    unmatched: list[tuple[int, str]] = []
    for row in table.rows:
        label = row.cells.get(named, "") if named else ""
        matching = _nearest(by_name.get(_file_name(label), []), label) if label else []
        if not matching and reel and start:
            matching = [source for source in sources if _same_tape(source, row, reel, start)]
            label = label or f"{row.cells.get(reel, '')} {row.cells.get(start, '')}".strip()
        if not matching:
            unmatched.append((row.line, label))
        for source in matching:
            metadata.setdefault(source.path, []).extend(
                MetadataValue(key, value, f"{path.name}:{row.line}")
                for key, value in row.cells.items()
                if key != named
            )
    without = tuple(source for source in sources if source.path not in metadata)
    return Joined(path, metadata, tuple(unmatched), without, table.titles, table.unnamed)


def _chosen(table: Table, column: str) -> str:
    found = find_column(table, (column.casefold(),))
    if found is None:
        raise MarksError(
            f"there is no column “{column}”; its columns are: {', '.join(table.columns)}",
            path=table.path,
            line=1,
            hint=did_you_mean(column, table.columns),
        )
    return found


def _names(sources: Sequence[Source], *, with_reel: bool) -> dict[str, list[Source]]:
    found: dict[str, list[Source]] = {}
    for source in sources:
        names = {source.path.name, source.clip_name, source.label, *([source.reel] if with_reel else [])}
        for name in {name.casefold() for name in names if name}:
            found.setdefault(name, []).append(source)
    return found


def _nearest(sources: list[Source], label: str) -> list[Source]:
    """Of several sources of one name those whose folders agree most with the ones that are named with it."""
    if len(sources) < 2:
        return sources
    named = [part.casefold() for part in reversed(PureWindowsPath(label).parts)]
    shared = {}
    for source in sources:
        own = [part.casefold() for part in reversed(source.path.parent.parts)]
        pairs = zip(named[1:], own, strict=False)
        shared[source.path] = len(list(takewhile(lambda pair: pair[0] == pair[1], pairs)))
    most = max(shared.values())
    return [source for source in sources if shared[source.path] == most]


def _file_name(label: str) -> str:
    """The last part of what may be a path, case ignored."""
    return (PureWindowsPath(label).name or label).casefold()


def _same_tape(source: Source, row: TableRow, reel: str, start: str) -> bool:
    """Whether a row's reel is the source's and its start lies in the source."""
    text = row.cells.get(start, "")
    if not source.start_timecode or not source.video or not is_timecode_like(text):
        return False
    if row.cells.get(reel, "").casefold() != source.reel.casefold() or not source.reel:
        return False
    try:
        frame = Timecode.parse(text, source.video.rate, drop=source.start_timecode.drop).frame
    except BoxkiteError:
        return False
    return 0 <= frame - source.start_timecode.frame < max(1, source.video.frame_count)
