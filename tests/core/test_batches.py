"""The machine shared out, room on disks, plans packed and unpacked, and stores of earlier versions."""

from __future__ import annotations

import errno
import io
import os
import pickle
import signal
import sqlite3
import threading
import zlib
from pathlib import Path
from types import SimpleNamespace

import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from boxkite.core.batch import running
from boxkite.core.batch.disk_space import DiskSpace
from boxkite.core.batch.events import FileEnded, ShotStarted, TriedAgain
from boxkite.core.batch.executors import worker
from boxkite.core.batch.executors.local import LocalExecutor
from boxkite.core.batch.executors.messages import ShotTask, send
from boxkite.core.batch.packing import Packed, pack, pack_task, unpack
from boxkite.core.batch.running import BatchControl, run_plan
from boxkite.core.batch.sharing import in_order, settle_threads, workers_for
from boxkite.core.batch.turns import batches_ahead
from boxkite.core.errors import RecordsError
from boxkite.core.files.partials import Partial
from boxkite.core.footage.frame_index import measure_frames
from boxkite.core.footage.probe import read_source
from boxkite.core.job.job import Output
from boxkite.core.records.batch_lock import BatchLock
from boxkite.core.records.journal import Journal
from boxkite.core.records.overview import overviews, unfinished
from boxkite.core.records.store import Records
from boxkite.core.records.tables import _OF_FORM_1
from boxkite.core.render.failures import failed
from boxkite.core.shots.placing import index_source
from boxkite.core.timebase import FrameRate
from boxkite.demo.movies import Movie, write_movie
from boxkite.demo.pictures import VAT
from tests.builders import make_footage, make_shots, planned, record


@pytest.fixture(scope="module")
def plan(tmp_path_factory: pytest.TempPathFactory):
    folder = tmp_path_factory.mktemp("sharing")
    spans = [
        (start, start + length) for start, length in zip(range(0, 1000, 100), range(10, 110, 10), strict=True)
    ]
    return planned(folder, make_shots(make_footage(folder / "a.mov"), *spans), "@marker")


@given(cores=st.integers(1, 64), workers=st.integers(1, 64))
def test_threads_use_all_cores_and_the_longest_shot_goes_first(plan, cores: int, workers: int) -> None:
    threads = settle_threads(plan.rows, cores, workers)
    order = [shot[0] for shot in in_order(plan.rows)]
    assert [row.span.length for row in order] == sorted((row.span.length for row in plan.rows), reverse=True)
    given_out = [threads[row.number] for row in order]
    assert given_out[1:] == sorted(given_out[1:])  # fewer are left, more for each
    for place, count in enumerate(given_out):
        side_by_side = min(workers, len(order) - place)
        assert cores <= count * side_by_side < cores + max(cores, side_by_side)
    assert threads == settle_threads(plan.rows, cores, workers)


def test_memory_limits_how_many_shots_are_made_side_by_side(plan) -> None:
    threads = settle_threads(plan.rows, 8, 8)
    counts = [workers_for(plan.rows, 8, threads, size) for size in (1, 10**9, 10**12)]
    assert counts[0] == 1 and counts[2] == 8 and counts == sorted(counts)


def test_room_goes_by_what_files_took_so_far_and_by_nothing_before(
    plan, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    rows = [replace(row, folder=tmp_path, expected_bytes=10_000_000) for row in plan.rows]
    free = 12_000_000
    monkeypatch.setattr("shutil.disk_usage", lambda _: SimpleNamespace(free=free))
    room = DiskSpace()
    assert room.out_of_space(rows[:5], []) is None
    room.made(rows[0], 8_000_000)
    assert room.out_of_space(rows[1:2], []) is None
    folder, needed, left = room.out_of_space(rows[1:2], rows[2:3]) or pytest.fail(
        "it does not fit beside another"
    )
    assert (folder, left) == (tmp_path, free) and needed == 20_000_000


def test_a_plan_comes_back_as_it_was_and_nothing_else_is_unpacked(plan) -> None:
    back = unpack(pack(Packed(plan.rows, None)))
    assert back.rows == plan.rows and len({id(row.shot.footage) for row in back.rows}) == 1
    for bad in (print, Path.unlink, {"a": 1}, sqlite3.connect):
        with pytest.raises(RecordsError):
            unpack(zlib.compress(pickle.dumps(bad)))
    with pytest.raises(RecordsError):
        unpack(pack(Packed(plan.rows, None))[:-20])


def test_a_store_of_the_first_form_is_brought_up_to_date_with_what_it_holds(tmp_path: Path) -> None:
    store = sqlite3.connect(tmp_path / "batches.sqlite")
    store.executescript(_OF_FORM_1)
    store.execute("pragma user_version = 1")
    store.execute("insert into batch values (1, '2026-01-01.1', '2026-01-01T10:00:00', 'm', '@marker', 2)")
    store.execute(
        "insert into file values (1, 1, cast('/out/a.mp4' as blob), 'a', cast('/a.mov' as blob), '1-1', 0, 10,"
        " 'web', 'r', '', '', '', '', 'proved', 'c', 7, 100, 2.0)"
    )
    store.commit()
    store.close()
    with Records(tmp_path) as records:
        batch = records.batch("last")
        assert (batch.name, batch.state, batch.files[0].size_bytes) == ("2026-01-01.1", "ended", 7)
        assert records.made_at(Path("/out/a.mp4")) == batch.files[0]
        assert overviews(records)[0].shown_state == "all verified"
        assert records.packed_plan(batch.name) == b""
    later = sqlite3.connect(tmp_path / "batches.sqlite")
    later.execute("pragma user_version = 99")
    later.close()
    with pytest.raises(RecordsError, match="another version"):
        Records(tmp_path)


def test_the_journal_tells_who_runs_who_waits_and_what_is_left(tmp_path: Path) -> None:
    with Records(tmp_path) as records:
        names = [
            records.begin("@marker", None, [record(1, frames=10), record(2, frames=30)]) for _ in range(3)
        ]
        journals = [Journal(records, name) for name in names]
        with BatchLock(tmp_path, names[0]), BatchLock(tmp_path, names[1]):
            journals[1].batch_is("running")
            assert batches_ahead(records, names[0]) == (names[1],)
            assert batches_ahead(records, names[2]) == (names[0], names[1])
            with pytest.raises(RecordsError, match="another process"), BatchLock(tmp_path, names[1]):
                pass
            journals[1].started({1: "a.mov"})
            journals[1].frames_done({1: 4}, 2.0)
            journals[1].ask_to_stop("after")
            one = overviews(records, (names[1],))[0]
            assert (one.shown_state, one.frames, one.frames_done, one.seconds) == ("stopping", 40, 4, 2.0)
        journals[1].failed(1, "it broke", detail="where")
        assert overviews(records, (names[1],))[0].shown_state == "interrupted"
        journals[1].batch_is("ended")
        assert journals[1].stop_asked() == ""
        assert [entry.kind for _, entry in journals[1].entries(errors=True)] == ["failure", "detail"]
        journals[2].verified(1, checksum="c", size_bytes=1, seconds=1.0)
        journals[2].verified(2, checksum="c", size_bytes=1, seconds=1.0)
        assert [one.name for one in unfinished(records)] == [names[1], names[0]]
        journals[0].forget()
        assert records.ask("select count(*) from file")[0][0] == 4


class Broken:
    """An executor that loses every shot it is given."""

    size = cores = 1
    given: tuple = ()

    @property
    def busy(self) -> int:
        return bool(self.given)

    def prepare(self, rows):
        return []

    def submit(self, task, partials) -> None:
        assert all(partial.path.exists() for partial in partials)
        self.given, self.partials = task, tuple(partials)

    def next_event(self, seconds: float):
        from boxkite.core.batch.executors.executor import WorkerEvent

        task, self.given = self.given, ()
        return WorkerEvent(task, None, "signal 11", "its output", self.partials)


def test_what_is_lost_is_tried_once_more_each_file_by_itself_and_then_fails(plan, tmp_path: Path) -> None:
    rows = [
        replace(row, folder=tmp_path, number=number) for number, row in enumerate(plan.rows[:1] * 2, start=1)
    ]
    events = [type(event).__name__ for event in run_plan(rows, Broken())]
    assert events.count("FileEnded") == 2
    assert [path.name for path in tmp_path.iterdir()] == []
    assert events.count("TriedAgain") == 1 and events.count("ShotStarted") == 3
    stopped = BatchControl(stop="now")
    assert list(run_plan(rows, Broken(), control=stopped)) == []


class NeverBegun(Broken):
    """An executor that loses shots before they are begun, for a while."""

    times = 3

    def next_event(self, seconds: float):
        self.times -= 1
        return replace(super().next_event(seconds), has_begun=self.times < 0)


def test_what_was_not_begun_when_its_worker_was_lost_is_not_blamed_for_that(plan, tmp_path: Path) -> None:
    events = list(run_plan([replace(plan.rows[0], folder=tmp_path)], NeverBegun()))
    again = [event.reason for event in events if isinstance(event, TriedAgain)]
    assert [reason.endswith("before that") for reason in again] == [True] * 3 + [False]
    assert [type(event) for event in events].count(FileEnded) == 1
    assert list(tmp_path.iterdir()) == []


def test_a_worker_whose_sender_has_ended_removes_also_what_it_has_not_begun(
    plan, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    sent, left, never = io.BytesIO(), threading.Event(), threading.Event()
    for number, row in enumerate(plan.rows[:2]):
        partial = tmp_path / f"{number}.partial"
        partial.touch()
        send(sent, pack_task(ShotTask((row,), (partial,), 1)))
    sent.seek(0)

    def leave(status: int) -> None:
        left.set()
        never.wait()  # the thread does nothing after it

    monkeypatch.setattr(worker.os, "_exit", leave)
    worker._Tasks(sent)
    assert left.wait(20) and list(tmp_path.iterdir()) == []


@pytest.mark.parametrize("is_killed", [False, True])
def test_the_next_shot_is_handed_over_while_the_last_is_verified_and_outlives_its_worker(
    is_killed: bool, tmp_path: Path
) -> None:
    film = tmp_path / "film.mov"
    write_movie(Movie(film, 30, FrameRate.parse("25"), ((0, VAT),), width=160, height=90))
    source = read_source(film)
    shots = make_shots(index_source(source, measure_frames(source), None), (0, 10), (10, 20), (20, 30))
    rows = planned(tmp_path, shots, outputs=(Output("proxy", tmp_path / "out"),)).rows
    told: list[str] = []
    with LocalExecutor(1) as executor:
        executor.prepare(rows)
        for event in run_plan(rows, executor):
            if isinstance(event, ShotStarted):
                told.append("begun")
                at_work = [one for one in executor._workers if one.task]
                assert len(at_work) == (event.rows[0].number > 1) or "again" in told
                if is_killed and at_work and "again" not in told:
                    os.kill(at_work[0].process.pid, signal.SIGKILL)
            elif isinstance(event, FileEnded):
                assert event.result.verification, event.result.failure
                told.append("made")
            elif isinstance(event, TriedAgain):
                told.append("again")
    assert told.count("made") == 3 and ("again" in told) == is_killed
    assert sorted(path.name for path in (tmp_path / "out").iterdir()) == [
        f"film_m{place}.mov" for place in (0, 10, 20)
    ]


@pytest.mark.parametrize(
    ("error", "may_pass", "out_of_space", "text"),
    [
        (MemoryError(), True, False, "not enough memory"),
        (OSError(errno.ENOMEM, "no memory"), True, False, "not enough memory"),
        (OSError(errno.ESTALE, "Stale file handle"), True, False, "Stale file handle"),
        (OSError(errno.ENOSPC, "full"), False, True, "the disk is full"),
        (FileNotFoundError(errno.ENOENT, "gone", "file:a.mov"), False, False, "a.mov is no longer there"),
        (PermissionError(errno.EACCES, "Permission denied"), False, False, "Permission denied"),
        (ValueError("odd"), False, False, "ValueError: odd"),
    ],
)
def test_every_error_of_rendering_is_explained_and_only_what_may_pass_is_tried_again(
    plan, error: Exception, may_pass: bool, out_of_space: bool, text: str
) -> None:
    result = failed(plan.rows[0], error)
    assert (result.may_pass, result.out_of_space) == (may_pass, out_of_space)
    assert text in result.failure and type(error).__name__ in result.detail


class Interrupted(Partial):
    """A partial file whose maker is interrupted before anybody else has heard of it."""

    def __init__(self, *args, **options) -> None:
        super().__init__(*args, **options)
        raise KeyboardInterrupt


@pytest.mark.parametrize("where", ["making", "giving", "taking"])
def test_an_interruption_leaves_no_partial_file_wherever_it_falls(
    plan, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, where: str
) -> None:
    def interrupt(*_: object) -> None:
        raise KeyboardInterrupt

    executor = Broken()
    if where == "making":
        monkeypatch.setattr(running, "Partial", Interrupted)
    elif where == "giving":
        monkeypatch.setattr(executor, "submit", interrupt)
    else:
        monkeypatch.setattr(running._Run, "_take", interrupt)
    with pytest.raises(KeyboardInterrupt):
        list(run_plan([replace(plan.rows[0], folder=tmp_path)], executor))
    assert list(tmp_path.iterdir()) == []
