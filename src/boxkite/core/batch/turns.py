"""Several batches on one machine: one waits for its turn, or all share the cores."""

from __future__ import annotations

import time
from typing import Literal

from boxkite.core.records.overview import alive
from boxkite.core.records.store import Records

Turn = Literal["wait", "share"]
_LOOK_EVERY_SECONDS = 2.0


def batches_ahead(records: Records, name: str) -> tuple[str, ...]:
    """The batches a new one waits for: every one that runs, and those that began to wait before it."""
    others = alive(records)
    names = [one for one, _ in others]
    before = names[: names.index(name)] if name in names else names
    return tuple(one for one, state in others if one != name and (state == "running" or one in before))


class Share:
    """The share of the workers that a batch may use while others run."""

    def __init__(self, records: Records, name: str, size: int) -> None:
        self._records = records
        self._name = name
        self._size = size
        self._looked = 0.0
        self._workers = size

    def workers(self) -> int:
        """Its share: the same for each batch that runs, and at least one."""
        now = time.monotonic()
        if now - self._looked >= _LOOK_EVERY_SECONDS:
            self._looked = now
            others = [one for one, state in alive(self._records) if state == "running" and one != self._name]
            self._workers = max(1, self._size // (1 + len(others)))
        return self._workers
