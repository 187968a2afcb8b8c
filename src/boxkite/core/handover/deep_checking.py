"""Finished files decoded to their end, several at once, against their sources where those are still there."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator, Sequence
from concurrent.futures import Future, as_completed

from msgspec.structs import replace

from boxkite.core.batch.packing import unpack
from boxkite.core.errors import RecordsError
from boxkite.core.handover.checking import Checked, is_media
from boxkite.core.handover.delivery import DeliveredFile
from boxkite.core.machine import keep_memory, usable_cores
from boxkite.core.notices.files import ENDS_EARLY
from boxkite.core.notices.handover import MISSING, NOT_COMPARED, NOT_READ
from boxkite.core.plan.rows import Row
from boxkite.core.processes import readers
from boxkite.core.records.store import Records
from boxkite.core.render.comparing import Comparison, ToCompare, compare


@contextlib.contextmanager
def decode_all(
    checked: Sequence[Checked], *, workers: int = 0
) -> Iterator[Iterator[tuple[Checked, Comparison]]]:
    """Decode the media among some files; each with what decoding adds to it, in the order they are done.

    A context, left only when all processes have ended: amid their files where it is left by an exception. Files that
    are not there are not decoded; those that were made from the same frames are decoded together. workers: processes
    side by side, 0 for one a core. They are begun at once, where the system allows it as copies of this one while it
    has one thread: they need not load what it has loaded.
    """
    wanted = [one for one in checked if _is_worth_decoding(one)]
    plans = Plans()
    groups: dict[object, _Group] = {}
    for one in wanted:
        row, reason = plans.row_of(one.file)
        file = ToCompare(one.file.path, row, _frames_short(one.file))
        groups.setdefault(file.made_from, []).append((one, file, reason))
    longest_first = sorted(groups.values(), key=lambda group: -sum(_frames(file) for _, file, _ in group))
    size = max(1, min(workers or usable_cores(), len(groups)))
    cores = max(1, usable_cores() // size)
    if size == 1:
        yield _decode_here(longest_first, cores)
        return
    waiting: dict[Future[list[Comparison]], _Group] = {}
    with readers(size) as pool:
        for group in longest_first:
            waiting[pool.submit(compare, [file for _, file, _ in group], cores)] = group
        yield (one for done in as_completed(waiting) for one in _with(waiting[done], done.result()))


_Group = list[tuple[Checked, ToCompare, str]]
"""Files that were made from the same frames of the same sources; with why no row of one is known."""


def _frames(file: ToCompare) -> int:
    return file.row.frames if file.row else 0


def _decode_here(groups: Sequence[_Group], cores: int) -> Iterator[tuple[Checked, Comparison]]:
    keep_memory()
    for group in groups:
        yield from _with(group, compare([file for _, file, _ in group], cores))


def _is_worth_decoding(checked: Checked) -> bool:
    """Whether a file is there, and media."""
    if any(fault.is_a(MISSING, NOT_READ) for fault in checked.faults):
        return False
    return is_media(checked.file.path) or checked.file.is_numbered_images


def _frames_short(file: DeliveredFile) -> int:
    """By how many frames a file ends before its plan, as its making reported."""
    warnings = file.record.warnings if file.record else ()
    return sum(int(one.values["frames"]) for one in warnings if one.is_a(ENDS_EARLY))


def _with(group: _Group, comparisons: Sequence[Comparison]) -> Iterator[tuple[Checked, Comparison]]:
    for (checked, _, reason), found in zip(group, comparisons, strict=True):
        notices = [*found.notices]
        if reason:
            notices.append(NOT_COMPARED(reason=reason))
        faults, notes = (*checked.faults, *found.faults), (*checked.notices, *dict.fromkeys(notices))
        yield replace(checked, faults=faults, notices=notes), found


class Plans:
    """The rows that files were made from, read from the records as they are asked for."""

    def __init__(self) -> None:
        self._rows: dict[str, dict[int, Row] | str] = {}

    def row_of(self, file: DeliveredFile) -> tuple[Row | None, str]:
        """The row of a file; else why it is not known, empty where no batch has made it."""
        if file.record is None:
            return None, ""
        if file.batch not in self._rows:
            self._rows[file.batch] = self._read(file.batch)
        rows = self._rows[file.batch]
        if isinstance(rows, str):
            return None, rows
        row = rows.get(file.record.number)
        return row, "" if row else "its plan is not on record"

    def _read(self, batch: str) -> dict[int, Row] | str:
        with Records() as records:
            content = records.packed_plan(batch)
        if not content:
            return "its plan is not on record"
        try:
            return {row.number: row for row in unpack(content).rows}
        except RecordsError as error:
            return error.message
