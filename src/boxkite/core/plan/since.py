"""A plan against an earlier batch: what is new, changed or gone, when an edit comes back."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec.structs import replace

from boxkite.core.footage.source import Source
from boxkite.core.plan.recipes import Recipes
from boxkite.core.plan.rows import Gone, Row
from boxkite.core.records.record import BatchRecord, FileRecord


def same_stamp(stamp: str, source: Source) -> bool:
    """Whether a source is what a record says it was; older records know its size and time of change only."""
    now = stamp_of_source(source)
    return stamp == now or (stamp.count("-") == 1 and now.startswith(f"{stamp}-"))


def stamp_of_source(source: Source) -> str:
    """The stamp of a source, as records keep it; empty for a source without a file."""
    return source.identity.stamp if source.identity else ""


def compare_with(rows: Sequence[Row], batch: BatchRecord) -> tuple[list[Row], list[Row], list[Gone]]:
    """(rows that are new or changed, rows that are the same, what is gone).

    A row is the same if the batch verified a file with the same frames of the same source, as it still is, by the
    same recipe and under the same name, its version left out. Otherwise it is compared with the file of its name,
    else of its marker or clip, and says what is different; what nothing was found for is new.
    """
    recipes = Recipes()
    waiting = [file for file in batch.files if file.state == "verified"]
    by_content: dict[object, list[FileRecord]] = {}
    for file in waiting:
        by_content.setdefault((*file.content, file.plain_name, file.preset), []).append(file)
    used: set[int] = set()
    same, others = [], []
    for row in rows:
        source = row.shot.footage.source.path.absolute()
        key = (str(source), row.span.start, row.span.end, recipes.of(row), row.plain_name, row.preset.name)
        found = next((file for file in by_content.get(key, ()) if file.number not in used), None)
        if found and same_stamp(found.stamp, row.shot.footage.source):
            used.add(found.number)
            same.append(row)
        else:
            others.append(row)
    left = [file for file in waiting if file.number not in used]
    changed = []
    for row in others:
        before = _counterpart(row, [file for file in left if file.number not in used])
        if before:
            used.add(before.number)
        changed.append(replace(row, change=_change(row, before, recipes)))
    planned = {file.number for file in batch.files if file.state != "verified"}
    gone = [
        Gone(file.path, file.plain_name or file.path.name)
        for file in left
        if file.number not in used and file.number not in planned
    ]
    return sorted(changed, key=lambda row: row.number), same, gone


def _counterpart(row: Row, files: Sequence[FileRecord]) -> FileRecord | None:
    """The earlier file that a row takes the place of: of its name, else of its marker or clip in its source."""
    of_preset = [file for file in files if file.preset == row.preset.name]
    by_name = next((file for file in of_preset if file.plain_name == row.plain_name), None)
    if by_name:
        return by_name
    shot = row.shot
    source = shot.footage.source.path.absolute()
    alike = [
        file
        for file in of_preset
        if file.source == source and (file.marker, file.clip) == (shot.marker, shot.clip_name)
    ]
    return min(alike, key=lambda file: abs(file.in_frame - row.span.start), default=None)


def _change(row: Row, before: FileRecord | None, recipes: Recipes) -> str:
    if before is None:
        return "new"
    source = row.shot.footage.source.path.absolute()
    changes = []
    if before.source != source:
        changes.append(f"was from {before.source.name}")
    elif not same_stamp(before.stamp, row.shot.footage.source):
        changes.append("its source has changed")
    if (before.in_frame, before.out_frame) != (row.span.start, row.span.end):
        changes.append(f"was {before.in_timecode} to {before.out_timecode}")
    if before.plain_name != row.plain_name:
        changes.append(f"was called {before.plain_name}")
    if before.recipe != recipes.of(row) and not changes:
        changes.append("its preset or burn-in has changed")
    return "changed: " + ", ".join(changes)
