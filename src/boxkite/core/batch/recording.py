"""Keeping the record of a batch while it runs."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from dataclasses import dataclass, replace

from boxkite.core.batch.events import Event, FileEnded
from boxkite.core.batch.pool import Crew, run_plan
from boxkite.core.errors import RecordsError
from boxkite.core.plan.recipes import Recipes
from boxkite.core.plan.rows import Plan, Row
from boxkite.core.records.checksum import file_stamp
from boxkite.core.records.record import FileRecord
from boxkite.core.records.store import Records
from boxkite.core.render.result import Result


@dataclass
class Batch:
    """A plan being run. name: that its record bears, empty while it has none; problem: why it cannot be kept."""

    name: str = ""
    problem: str = ""


def run_recorded(plan: Plan, crew: Crew, batch: Batch) -> Iterator[Event]:
    """Run a plan as run_plan does, and keep the record of it: the plan before, each file as it ends.

    Where the record cannot be kept the files are made all the same, and the batch says so.
    """
    if not plan.to_make:
        return
    with contextlib.ExitStack() as stack:
        recorder = None
        try:
            recorder = _Recorder(stack.enter_context(Records()), plan)
            batch.name = recorder.name
        except RecordsError as error:
            batch.problem = f"{error}; this batch is made without a record"
        for event in run_plan(plan, crew):
            if recorder and isinstance(event, FileEnded):
                try:
                    recorder.ended(event.row, event.result)
                except RecordsError as error:
                    batch.problem = f"{error}; the record of this batch has gaps"
            yield event


class _Recorder:
    """Notes a plan before its first file is made, and each file as it ends."""

    def __init__(self, records: Records, plan: Plan) -> None:
        """Raises RecordsError."""
        self._records = records
        recipes = Recipes()
        stamps: dict[str, str] = {}
        self._files = {row.number: _file_record(row, recipes, stamps) for row in plan.to_make}
        self.name = records.begin(plan.pattern, plan.version, list(self._files.values()))

    def ended(self, row: Row, result: Result) -> None:
        """Note what became of a row. Raises RecordsError."""
        proof = result.proof
        record = replace(
            self._files[row.number],
            state="proved" if proof else "failed",
            checksum=proof.checksum if proof else "",
            size_bytes=proof.size_bytes if proof else 0,
            seconds=result.seconds,
        )
        self._records.ended(self.name, record)


def _file_record(row: Row, recipes: Recipes, stamps: dict[str, str]) -> FileRecord:
    source = row.shot.reel.source.path.absolute()
    if str(source) not in stamps:
        stamps[str(source)] = file_stamp(source)
    return FileRecord(
        number=row.number,
        path=row.path,
        plain_name=row.plain_name,
        source=source,
        stamp=stamps[str(source)],
        in_frame=row.span.start,
        out_frame=row.span.end,
        preset=row.preset.name,
        recipe=recipes.of(row),
        marker=row.shot.marker,
        clip=row.shot.clip_name,
        in_timecode=str(row.in_timecode),
        out_timecode=str(row.out_timecode),
        pixels=row.geometry.width_px * row.geometry.height_px * row.span.length if row.geometry else 0,
    )
