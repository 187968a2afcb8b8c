"""Running a plan: shots handed out, failures tried again where that can help, finished files given their names."""

from __future__ import annotations

import time
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace

from boxkite.core.batch.crew import Heard, Makers
from boxkite.core.batch.events import (
    Event,
    FileEnded,
    FileReady,
    FramesDone,
    Moment,
    NoRoom,
    ShotStarted,
    TriedAgain,
)
from boxkite.core.batch.messages import ShotTask
from boxkite.core.batch.room import Room
from boxkite.core.batch.sharing import effort_of, settle_threads
from boxkite.core.errors import BoxkiteError
from boxkite.core.plan.rows import Action, Row, rows_by_stretch
from boxkite.core.records.checksum import file_checksum
from boxkite.core.records.record import Stop
from boxkite.core.render.explaining import failed
from boxkite.core.render.publishing import discard, prepare_folders, publish
from boxkite.core.render.result import Result

_LISTEN_SECONDS = 0.4
_MOST_ATTEMPTS = 3
_MOST_CRASHES = 2
_PAUSE_SECONDS = 2.0


@dataclass
class Orders:
    """What whoever listens wants while a plan is run. workers: most shots side by side; None for all there are."""

    stop: Stop = ""
    workers: int | None = None


@dataclass
class _Shot:
    """Rows that share one reading of their source, and what became of them so far."""

    rows: tuple[Row, ...]
    threads: int
    attempts: int = 0
    crashes: int = 0
    not_before: float = 0.0


@dataclass
class _Run:
    makers: Makers
    orders: Orders
    waiting: list[_Shot]
    at_work: dict[int, _Shot] = field(default_factory=dict)
    finished: list[tuple[Row, Result]] = field(default_factory=list)
    room: Room = field(default_factory=Room)
    lacking: NoRoom | None = None

    def events(self) -> Iterator[Event]:
        """Everything that happens until all shots are made, or as far as the orders and the disks let them."""
        while True:
            yield from self._hand_out()
            yield from self._name()
            if self.orders.stop == "now" or not (self.at_work or self._is_more_to_come()):
                break
            heard = self.makers.listen(_LISTEN_SECONDS)
            if heard is None:
                yield Moment()
            elif not heard.is_over and heard.told:
                yield FramesDone(heard.rows[0].number, heard.told.frames)
            else:
                yield from self._take(heard)
        if self.lacking and not self.orders.stop:
            yield replace(self.lacking, rows=tuple(row for shot in self.waiting for row in shot.rows))

    def _is_more_to_come(self) -> bool:
        return bool(self.waiting and not self.orders.stop and not self.lacking)

    def _hand_out(self) -> Iterator[Event]:
        """Give shots to those who are idle."""
        self.lacking = None
        while self.waiting and not self.orders.stop and self.makers.busy < self._side_by_side():
            shot = self._next()
            if shot is None:
                return
            self.waiting.remove(shot)
            shot.attempts += 1
            yield ShotStarted(shot.rows)
            self.at_work[shot.rows[0].number] = shot
            self.makers.give(ShotTask(shot.rows, shot.threads))

    def _side_by_side(self) -> int:
        return min(self.makers.size, self.orders.workers or self.makers.size)

    def _next(self) -> _Shot | None:
        """The first shot whose time has come and whose files fit on their disks."""
        now = time.monotonic()
        running = [row for shot in self.at_work.values() for row in shot.rows]
        for shot in self.waiting:
            if shot.not_before > now:
                continue
            lacking = self.room.lacking(shot.rows, running)
            if lacking is None:
                return shot
            self.lacking = NoRoom(shot.rows, *lacking)
        if any(shot.not_before > now for shot in self.waiting):
            self.lacking = None
        return None

    def _take(self, heard: Heard) -> Iterator[Event]:
        """What has become of a shot."""
        shot = self.at_work.pop(heard.rows[0].number)
        if heard.told is None:
            yield from self._lost(shot, heard)
            return
        by_number = {row.number: row for row in shot.rows}
        again = []
        for result in heard.told.results:
            row = by_number[result.row_number]
            if result.may_pass and shot.attempts < _MOST_ATTEMPTS and not self.orders.stop:
                again.append(row)
                yield TriedAgain((row,), result.failure, _detail(result.detail, heard.said))
                continue
            if result.no_room:
                self.room.was_full(row)
            detail = _detail(result.detail, heard.said) if result.failure else ""
            self.finished.append((row, replace(result, detail=detail)))
        if again:
            pause = time.monotonic() + _PAUSE_SECONDS * shot.attempts
            self._put_back(replace(shot, rows=tuple(again), not_before=pause))

    def _lost(self, shot: _Shot, heard: Heard) -> Iterator[Event]:
        """A worker has ended over a shot: its files are made once more, each by itself, so that one fails alone."""
        reason = f"the process that made it ended ({heard.lost}); the codec library may have crashed on it"
        if shot.crashes + 1 < _MOST_CRASHES and not self.orders.stop:
            yield TriedAgain(shot.rows, reason, heard.said)
            for row in shot.rows:
                self._put_back(replace(shot, rows=(row,), crashes=shot.crashes + 1))
            return
        for row in shot.rows:
            self.finished.append((row, Result(row.number, row.path, failure=reason, detail=heard.said)))

    def _put_back(self, shot: _Shot) -> None:
        self.waiting.insert(0, shot)

    def _name(self) -> Iterator[Event]:
        """Give finished files their names; what listens may note each before and after."""
        while self.finished:
            row, result = self.finished.pop(0)
            if result.partial:
                yield FileReady(row, result)
                result = give_name(row, result)
                if result.proof:
                    self.room.made(row, result.proof.size_bytes)
            yield FileEnded(row, result)


def run_plan(
    rows: Sequence[Row],
    makers: Makers,
    *,
    threads: Mapping[int, int] | None = None,
    orders: Orders | None = None,
) -> Iterator[Event]:
    """Make every file of some rows of a plan and yield what happens, in the order it does.

    A shot's files share one decode. threads: those settled for each row, by its number. A worker that dies costs
    its own files one more attempt. Raises PlanError, before anything is made, when a folder cannot be written to.
    """
    prepare_folders({row.path.parent for row in rows})
    settled = threads or settle_threads(rows, makers.cores, makers.size)
    shots = [
        _Shot(alike, count)
        for count in sorted(set(settled.values()))
        for alike in rows_by_stretch([row for row in rows if settled[row.number] == count])
    ]
    shots.sort(key=lambda shot: (-effort_of(shot.rows), shot.rows[0].number))
    yield from _Run(makers, orders or Orders(), shots).events()


def give_name(row: Row, result: Result) -> Result:
    """Give a proved file its name. Where that is taken by a file with the same bytes, it has got it before."""
    assert result.partial and result.proof
    try:
        publish(result.partial, row.path, replacing=row.action is Action.REPLACE)
    except (BoxkiteError, OSError) as error:
        try:
            is_ours = row.path.exists() and file_checksum(row.path) == result.proof.checksum
        except OSError:
            is_ours = False
        discard(result.partial)
        if not is_ours:
            return replace(failed(row, error), seconds=result.seconds)
    return replace(result, partial=None)


def _detail(traceback: str, said: str) -> str:
    return "\n".join(part for part in (traceback, said) if part)
