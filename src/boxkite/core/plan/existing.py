"""What is there already under the names of a plan, and what becomes of it."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path

from boxkite.core.errors import PlanError
from boxkite.core.job.words import Existing
from boxkite.core.naming.filename import clash_key
from boxkite.core.plan.clashes import folders_of, numbered
from boxkite.core.plan.recipes import Recipes
from boxkite.core.plan.rows import Action, Row
from boxkite.core.records.checksum import file_checksum, file_stamp
from boxkite.core.records.record import FileRecord
from boxkite.core.records.store import Records

Progress = Callable[[str], None]


def settle_existing(rows: Sequence[Row], policy: Existing, progress: Progress) -> list[Row]:
    """The rows as the policy has them: none is there yet, or each that is is numbered, kept or replaced.

    "skip" keeps a file only if the records say that it was made from the same frames of the same source by the
    same recipe, and it is still byte for byte what was made. Raises PlanError for what the policy does not allow.
    """
    there = _there(rows)
    if policy == "number":
        return numbered(rows, lambda path: clash_key(str(path)) in there or _is_there(path))
    if not there:
        return list(rows)
    if policy == "stop":
        _refuse(rows, there)
    if policy == "replace":
        return [_replacing(row, there) for row in rows]
    return _kept(rows, there, progress)


def _there(rows: Sequence[Row]) -> dict[str, Path]:
    """Everything in the folders of a plan, by what its path is compared by."""
    return {
        clash_key(str(path)): path
        for folder in folders_of(rows)
        if folder.is_dir()
        for path in folder.iterdir()
    }


def _is_there(path: Path) -> bool:
    return path.exists() or path.is_symlink()


def _refuse(rows: Sequence[Row], there: dict[str, Path]) -> None:
    found = [there[key] for row in rows if (key := clash_key(row.place)) in there]
    if found:
        listed = ", ".join(path.name for path in found[:3]) + (" …" if len(found) > 3 else "")
        raise PlanError(
            f"{len(found)} of {len(rows)} files are there already: {listed}",
            path=found[0].parent,
            hint="nothing is overwritten: choose another folder with --to, @version in the names,"
            " or --existing number, skip or replace",
        )


def _replacing(row: Row, there: dict[str, Path]) -> Row:
    found = there.get(clash_key(row.place))
    if found is None:
        return row
    source = row.shot.reel.source
    if source.path.exists() and found.samefile(source.path):
        raise PlanError(
            "this is the source itself, and is never replaced",
            path=found,
            hint="choose another folder with --to",
        )
    if found.is_dir() != row.preset.is_sequence or found.is_symlink():
        kind = "a folder" if found.is_dir() else "a link" if found.is_symlink() else "a file"
        raise PlanError(f"this is {kind}, and is not replaced by what the plan makes", path=found)
    return replace(row, action=Action.REPLACE)


def _kept(rows: Sequence[Row], there: dict[str, Path], progress: Progress) -> list[Row]:
    result = []
    others = []
    recipes = Recipes()
    with contextlib.ExitStack() as stack:
        records = stack.enter_context(Records()) if Records.are_kept() else None
        for row in rows:
            found = there.get(clash_key(row.place))
            if found is None:
                result.append(row)
                continue
            progress(found.name)
            made = records.made_at(found) if records else None
            if reason := _unlike(row, found, recipes, made):
                others.append(f"{row.name}{row.ending}: {reason}")
            result.append(replace(row, action=Action.KEEP))
    if others:
        raise PlanError(
            f"{len(others)} of {len(rows)} files are there already and are not what this plan makes",
            details=others[:40],
            hint="--existing replace or number, another folder with --to, or @version in the names",
        )
    return result


def _unlike(row: Row, found: Path, recipes: Recipes, made: FileRecord | None) -> str:
    """Why a file is not what the row would make; empty where it is."""
    if made is None:
        return "no earlier batch on this machine made it"
    if made.source != row.shot.reel.source.path.absolute():
        return f"it was made from {made.source}"
    if (made.in_frame, made.out_frame) != (row.span.start, row.span.end):
        return f"it holds {made.in_timecode} to {made.out_timecode}"
    if made.stamp != file_stamp(row.shot.reel.source.path):
        return "its source has changed since"
    if made.recipe != recipes.of(row):
        return "it was made by another preset, or this one has changed since"
    if file_checksum(found) != made.checksum:
        return "it has been changed since it was made"
    return ""
