"""The steps that follow once all files of a batch are made: what each is to do, how far it is, what came of it."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable, Mapping, Sequence
from typing import Any

from msgspec import Struct

from boxkite.core.records.journal import now_text
from boxkite.core.records.store import Records, storable


class StepRecord(Struct, frozen=True):
    """One step of a batch."""

    number: int
    kind: str
    options: Mapping[str, Any]
    state: str
    """waiting, begun, done or failed."""
    paths: tuple[str, ...]
    """What it writes, settled when it begins."""
    outcome: str
    """In a few words; of one that failed why."""
    at: str


def note_steps(store: sqlite3.Connection, batch: str, steps: Iterable[tuple[str, Mapping[str, Any]]]) -> None:
    """Note (kind, options) of the steps of a new batch, in the same change as the batch itself."""
    store.executemany(
        "insert into step (batch, number, kind, options) select id, ?, ?, ? from batch where name = ?",
        [(number, kind, json.dumps(options), batch) for number, (kind, options) in enumerate(steps, start=1)],
    )


def steps_of(records: Records, batch: str) -> list[StepRecord]:
    """The steps of a batch in their order. Raises RecordsError."""
    rows = records.ask(
        "select number, kind, options, state, paths, outcome, at from step"
        " where batch = (select id from batch where name = ?) order by number",
        batch,
    )
    return [
        StepRecord(number, kind, json.loads(options), state, tuple(json.loads(paths)), outcome, at)
        for number, kind, options, state, paths, outcome, at in rows
    ]


def has_steps_left(records: Records, batch: str) -> bool:
    """Whether a batch has steps that are not done. Raises RecordsError."""
    return bool(
        records.ask(
            "select 1 from step where batch = (select id from batch where name = ?) and state <> 'done' limit 1",
            batch,
        )
    )


def step_is(
    records: Records,
    batch: str,
    number: int,
    state: str,
    *,
    paths: Sequence[str] | None = None,
    outcome: str = "",
) -> None:
    """Note how far a step is. paths: what it writes, where that is settled now. Raises RecordsError."""
    with records.change() as store:
        store.execute(
            "update step set state = ?, paths = coalesce(?, paths), outcome = ?, at = ?"
            " where batch = (select id from batch where name = ?) and number = ?",
            (
                state,
                None if paths is None else json.dumps(list(paths)),
                storable(outcome),
                now_text(),
                batch,
                number,
            ),
        )
