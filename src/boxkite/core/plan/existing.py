"""Existing files under the names of a plan: numbered, kept or replaced."""

from __future__ import annotations

import contextlib
import os
import re
from collections.abc import Callable, Collection, Sequence
from pathlib import Path

from msgspec.structs import replace

from boxkite.core.errors import PlanError, setting
from boxkite.core.files.checksum import file_checksum
from boxkite.core.files.identity import stamp_of
from boxkite.core.files.names import clash_key
from boxkite.core.job.job import Job
from boxkite.core.plan.clashes import numbered
from boxkite.core.plan.inputs import Inputs
from boxkite.core.plan.recipes import Recipes
from boxkite.core.plan.rows import Action, Replaced, Row
from boxkite.core.plan.since import same_stamp
from boxkite.core.presets.codecs import IMAGE_EXTENSIONS
from boxkite.core.records.record import FileRecord
from boxkite.core.records.store import Records

Progress = Callable[[str], None]


def settle_existing(
    rows: Sequence[Row], folders: Collection[Path], job: Job, progress: Progress
) -> list[Row]:
    """The rows as the policy has them: none is there yet, or each that is is numbered, kept or replaced.

    folders: that they are written to, as folders_of has them; others do no harm.

    "skip" keeps a file only if the records say that it was made from the same frames of the same source by the
    same recipe, and it is still byte for byte what was made. "replace" replaces only what the records say that a
    batch made and that is unchanged since; with replace_others other single files too; never anything that the plan
    reads. Raises PlanError for what the policy does not allow.
    """
    policy = job.existing
    there = _there(folders)
    if policy == "number":
        return numbered(rows, lambda path: clash_key(str(path)) in there or _is_there(path))
    if not there:
        return list(rows)
    if policy == "stop":
        _refuse(rows, there)
    if policy == "replace":
        return _replacing(rows, there, job, progress)
    return _kept(rows, there, progress)


def _there(folders: Collection[Path]) -> dict[str, Path]:
    """Everything in some folders, by what its path is compared by."""
    return {clash_key(str(path)): path for folder in folders if folder.is_dir() for path in folder.iterdir()}


def _is_there(path: Path) -> bool:
    return path.exists() or path.is_symlink()


def _refuse(rows: Sequence[Row], there: dict[str, Path]) -> None:
    found = [there[key] for row in rows if (key := clash_key(row.place)) in there]
    if found:
        listed = ", ".join(path.name for path in found[:3]) + (" …" if len(found) > 3 else "")
        raise PlanError(
            f"{len(found)} of {len(rows)} files are there already: {listed}",
            path=found[0].parent,
            hint=f"nothing is overwritten: choose another folder with {setting('to')}, @version in the names,"
            f" or {setting('existing')} number, skip or replace",
        )


def _replacing(rows: Sequence[Row], there: dict[str, Path], job: Job, progress: Progress) -> list[Row]:
    inputs = Inputs(job, rows)
    result, refused = [], []
    with contextlib.ExitStack() as stack:
        records = stack.enter_context(Records()) if Records.are_kept() else None
        for row in rows:
            found = there.get(clash_key(row.place))
            if found is None:
                result.append(row)
                continue
            progress(found.name)
            stamp = stamp_of(row.path) if os.path.lexists(row.path) else ""
            made = records.made_at(row.path) if records else None
            is_ours = bool(made and stamp and _is_unchanged(row.path, made))
            reason = _never_replaced(row, found, inputs)
            if not reason and not is_ours and (row.preset.is_sequence or not job.replace_others):
                reason = "it has been changed since a batch made it" if made else "no batch on record made it"
            if reason:
                refused.append(f"{found}: {reason}")
            else:
                result.append(replace(row, action=Action.REPLACE, replaces=Replaced(stamp, is_ours)))
    if refused:
        raise PlanError(
            f"{len(refused)} of {len(rows)} files are not replaced; nothing was written",
            details=refused[:40],
            hint="choose another output folder or other names; single files that no batch made are replaced"
            f" with {setting('replace-others')}, which the plan lists",
        )
    return result


def _is_unchanged(path: Path, made: FileRecord) -> bool:
    """Whether a file, or a folder of images, is byte for byte what a batch made."""
    try:
        return file_checksum(path) == made.checksum
    except OSError:
        return False


def _never_replaced(row: Row, found: Path, inputs: Inputs) -> str:
    """Why what bears the name of a row must stay, whoever made it; empty where nothing speaks against it."""
    if not os.path.lexists(row.path):
        return f"it differs from {row.path.name} only in case or composition, and is another file here"
    if row.path.is_symlink():
        return "this is a link"
    if known := inputs.among(row.path):
        return f"the plan reads it: {known}" if known != row.path else "the plan reads it"
    if row.path.is_dir() != row.preset.is_sequence:
        return (
            "this is a folder" if row.path.is_dir() else "this is a file, and a folder of images is planned"
        )
    if row.preset.is_sequence and (other := _no_image_of(row)):
        return f"it holds more than images of this output: {other}"
    return "" if row.path.is_dir() or row.path.is_file() else "this is not a regular file"


def _no_image_of(row: Row) -> str:
    """The name of something in a folder of images that is none of a row's; empty where there is nothing."""
    name = row.name.rpartition("/")[2]
    image = re.compile(rf"{re.escape(name)}\.\d+{re.escape(IMAGE_EXTENSIONS[str(row.preset.container)])}")
    for entry in os.scandir(row.path):
        if not image.fullmatch(entry.name) or not entry.is_file(follow_symlinks=False):
            return entry.name
    return ""


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
            if reason := _difference(row, found, recipes, made):
                others.append(f"{row.name}{row.extension}: {reason}")
            result.append(replace(row, action=Action.KEEP))
    if others:
        raise PlanError(
            f"{len(others)} of {len(rows)} files are there already and are not what this plan makes",
            details=others[:40],
            hint=f"{setting('existing')} replace or number, another folder with {setting('to')}, or"
            f" @version in the names",
        )
    return result


def _difference(row: Row, found: Path, recipes: Recipes, made: FileRecord | None) -> str:
    """Why a file is not what the row would make; empty where it is."""
    if made is None:
        return "no earlier batch on this machine made it"
    if made.source != row.shot.footage.source.path.absolute():
        return f"it was made from {made.source}"
    if (made.in_frame, made.out_frame) != (row.span.start, row.span.end):
        return f"it holds {made.in_timecode} to {made.out_timecode}"
    if not same_stamp(made.stamp, row.shot.footage.source):
        return "its source has changed since"
    if made.recipe != recipes.of(row):
        return "it was made by another preset, or this one has changed since"
    if file_checksum(found) != made.checksum:
        return "it has been changed since it was made"
    return ""
