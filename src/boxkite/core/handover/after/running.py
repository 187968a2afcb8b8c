"""Running the steps of a batch in their order, each noted before it begins and when it is done."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec import Struct

from boxkite.core.errors import BoxkiteError
from boxkite.core.handover.after.doing import Doing, Done, do_step
from boxkite.core.handover.delivery import delivery_of_batch
from boxkite.core.job.after import Step
from boxkite.core.records.handovers import Handover, note_handover
from boxkite.core.records.journal import now_text
from boxkite.core.records.steps import StepRecord, step_is, steps_of
from boxkite.core.records.store import Records


class StepEvent(Struct, frozen=True):
    """A step begins, is done or has failed."""

    kind: str
    state: str
    """begun, done or failed."""
    outcome: str = ""
    paths: tuple[str, ...] = ()


def run_steps(name: str, user: str) -> Iterator[StepEvent]:
    """Do the steps of a batch that are not done yet, once all its files are made.

    A step that fails ends it: the files stay, and resuming the batch does it again. Raises RecordsError.
    """
    with Records() as records:
        waiting = [one for one in steps_of(records, name) if one.state != "done"]
        if not waiting:
            return
        delivery = delivery_of_batch(name)
        if delivery.not_made:
            yield StepEvent(waiting[0].kind, "failed", "not all files are on record as made")
            return
        for one in waiting:
            yield StepEvent(one.kind, "begun")
            event = _do(records, name, one, user)
            yield event
            if event.state == "failed":
                return


def _do(records: Records, name: str, one: StepRecord, user: str) -> StepEvent:
    settled = list(one.paths) if one.state in ("begun", "failed") and one.at and one.paths else None
    step_is(records, name, one.number, "begun")

    def settle(paths: list[str]) -> None:
        step_is(records, name, one.number, "begun", paths=paths)

    doing = Doing(Step(one.kind, one.options), delivery_of_batch(name), user, settled, settle)
    try:
        done = do_step(doing)
    except (BoxkiteError, OSError) as error:
        reason = error.text if isinstance(error, BoxkiteError) else str(error).lower()
        hint = f"; {error.hint}" if isinstance(error, BoxkiteError) and error.hint else ""
        given_up: list[str] | None = (
            None if doing.has_written else []
        )  # whoever takes that name meanwhile keeps it
        step_is(records, name, one.number, "failed", paths=given_up, outcome=reason + hint)
        return StepEvent(one.kind, "failed", reason + hint)
    _note(records, name, done, user)
    step_is(records, name, one.number, "done", outcome=done.outcome)
    return StepEvent(one.kind, "done", done.outcome, tuple(map(str, done.paths)))


def _note(records: Records, name: str, done: Done, user: str) -> None:
    """The lines of the log."""
    if done.lines:
        for line in done.lines:
            note_handover(records, Handover(now_text(), user, done.kind, None, line), [name])
        return
    first, rest = (done.paths[0], done.paths[1:]) if done.paths else (None, ())
    note_handover(records, Handover(now_text(), user, done.kind, first, done.outcome), [name], rest)
