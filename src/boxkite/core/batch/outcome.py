"""The outcome of a batch."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from msgspec import Struct

from boxkite.core.batch.events import FileEnded
from boxkite.core.batch.recording import Batch
from boxkite.core.files.walking import Unseen
from boxkite.core.notices.notice import Notice, notice_as_json
from boxkite.core.plan.plan_json import left_out_as_json, row_as_json
from boxkite.core.plan.rows import Action, Plan, Row
from boxkite.core.shots.shot import LeftOut


class Outcome(Struct, frozen=True):
    """A batch that has ended, was stopped, or found no room."""

    batch: Batch
    rows: tuple[Row, ...]
    """All its rows, those that were kept included."""
    ended: tuple[FileEnded, ...]
    """The files that were made or failed, in the order of their numbers."""
    seconds: float
    plan_notices: tuple[Notice, ...] = ()
    left_out: tuple[LeftOut, ...] = ()
    unseen: tuple[Unseen, ...] = ()
    """Paths that the plan could not read."""

    @classmethod
    def of_plan(cls, plan: Plan, batch: Batch, ended: Sequence[FileEnded], seconds: float) -> Outcome:
        """Of a plan that was run as a new batch."""
        return cls(batch, plan.rows, tuple(ended), seconds, plan.notices, plan.left_out, plan.unseen)

    @property
    def to_make(self) -> tuple[Row, ...]:
        """The rows that were to be made."""
        return tuple(row for row in self.rows if row.action is not Action.KEEP)

    @property
    def verified(self) -> tuple[FileEnded, ...]:
        """The files that are verified and named."""
        return tuple(event for event in self.ended if event.result.verification)

    @property
    def failed(self) -> tuple[FileEnded, ...]:
        """The files that failed."""
        return tuple(event for event in self.ended if event.result.failure)

    @property
    def not_begun(self) -> int:
        """How many files were not begun."""
        return len(self.to_make) - len(self.ended)

    @property
    def is_complete(self) -> bool:
        """Whether every file that was to be made is there, and everything could be looked into."""
        return not (self.not_begun or self.failed or self.unseen)

    @property
    def notices(self) -> tuple[Notice, ...]:
        """The notices of the batch itself."""
        return (*((self.batch.problem,) if self.batch.problem else ()), *self.batch.notices)


def outcome_as_json(outcome: Outcome) -> dict[str, Any]:
    """A batch that has ended as plain values."""
    files = []
    for event in outcome.ended:
        verification = event.result.verification
        warnings = (*event.row.warnings, *event.result.warnings)
        files.append(
            {
                **row_as_json(event.row),
                "state": "failed" if event.result.failure else "verified",
                "failure": event.result.failure or None,
                "size_bytes": verification.size_bytes if verification else None,
                "checksum": verification.checksum if verification else None,
                "warnings": list(map(notice_as_json, warnings)),
            }
        )
    kept = [{**row_as_json(row), "state": "kept"} for row in outcome.rows if row.action is Action.KEEP]
    done = {event.row.number for event in outcome.ended}
    left = [{**row_as_json(row), "state": "planned"} for row in outcome.to_make if row.number not in done]
    return {
        "batch": outcome.batch.name or None,
        "files": sorted([*files, *kept, *left], key=lambda file: file["number"]),
        "left_out": left_out_as_json(outcome.left_out),
        "notices": list(map(notice_as_json, (*outcome.plan_notices, *outcome.notices))),
        "stopped": outcome.batch.stopped,
        "seconds": round(outcome.seconds, 3),
    }
