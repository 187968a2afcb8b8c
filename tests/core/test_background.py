"""Doing things beside the thread that hands them over: in their order, at most a few behind, errors told."""

from __future__ import annotations

import os
import subprocess
import sys
import threading
import time
from pathlib import Path

import pytest

from boxkite.core import control_groups, machine
from boxkite.core.render.encode.background import Background


@pytest.mark.parametrize("started", [False, True])
def test_all_is_done_in_its_order_and_never_late(started: bool) -> None:
    background, done, furthest = Background(), [], 0
    if started:
        background.start()
    for number in range(50):

        def act(number: int = number) -> None:
            time.sleep(0.001)
            done.append(number)

        background.put(act)
        furthest = max(furthest, number + 1 - len(done))
    background.end()
    assert done == list(range(50))
    assert furthest <= (5 if started else 0)


def test_what_fails_is_raised_once_and_nothing_is_done_after_it() -> None:
    background, done, before = Background(), [], threading.active_count()
    background.start()

    def fail() -> None:
        raise OSError("the disk is full")

    background.put(fail)
    with pytest.raises(OSError, match="the disk is full"):
        for number in range(1000):
            background.put(lambda number=number: done.append(number))
            time.sleep(0.001)
    background.abandon()
    assert not done and threading.active_count() == before


def test_given_up_in_the_middle_it_ends_with_what_is_being_done() -> None:
    background, done, go_on = Background(), [], threading.Event()
    background.start()
    background.put(lambda: (go_on.wait(5), done.append(0)))
    for number in range(1, 4):
        background.put(lambda number=number: done.append(number))
    threading.Timer(0.2, go_on.set).start()
    background.abandon()
    assert done == [0]


def test_numpy_begins_no_threads_and_programs_of_the_user_do_not_hear_of_it(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    monkeypatch.delenv("OPENBLAS_NUM_THREADS", raising=False)
    monkeypatch.setattr(machine._Settings, "blas_is_ours", False)
    with machine.no_threads_for_matrices():
        assert os.environ["OPENBLAS_NUM_THREADS"] == "1"
    assert "OPENBLAS_NUM_THREADS" not in os.environ
    machine.begin_no_threads_for_matrices()
    assert os.environ["OPENBLAS_NUM_THREADS"] == "1"
    assert "OPENBLAS_NUM_THREADS" not in machine.users_environment()
    assert machine.users_environment()["PATH"] == os.environ["PATH"]
    monkeypatch.setattr(machine._Settings, "blas_is_ours", False)
    monkeypatch.setenv("OPENBLAS_NUM_THREADS", "3")
    with machine.no_threads_for_matrices():
        assert os.environ["OPENBLAS_NUM_THREADS"] == "3"
    machine.begin_no_threads_for_matrices()
    assert os.environ["OPENBLAS_NUM_THREADS"] == machine.users_environment()["OPENBLAS_NUM_THREADS"] == "3"


@pytest.mark.skipif(sys.platform != "linux", reason="where the system tells of threads")
def test_the_program_itself_begins_no_threads_for_matrices() -> None:
    code = """
import sys
sys.argv = ["boxkite", "schema", "--help"]
from boxkite.cli.main import main
try:
    main()
except SystemExit:
    pass
import numpy
print([line for line in open("/proc/self/status") if line.startswith("Threads")][0].split()[1])
"""
    env = {name: value for name, value in os.environ.items() if name != "OPENBLAS_NUM_THREADS"}
    done = subprocess.run([sys.executable, "-c", code], env=env, capture_output=True, text=True, check=True)
    assert done.stdout.split()[-1] == "1"


GROUPS = {
    "version 2": ("0::/jobs/encode", {
        "jobs/encode/cpu.max": "max 100000", "jobs/cpu.max": "150000 100000", "memory.max": "max",
        "jobs/memory.max": "900000000", "jobs/memory.current": "500000000", "jobs/memory.stat": "inactive_file 70",
    }, 1.5, 400_000_070),
    "version 1, whose folders a container sees from its own": (
        "5:cpu,cpuacct:/docker/1f\n4:memory:/docker/1f\n1:name=systemd:/", {
            "cpu/cpu.cfs_quota_us": "300000", "cpu/cpu.cfs_period_us": "100000", "memory/memory.limit_in_bytes": "1000",
            "memory/memory.usage_in_bytes": "4000", "memory/memory.stat": "inactive_file 9\ntotal_inactive_file 7",
        }, 3.0, 0),
    "nothing limits it": ("0::/", {"cpu.max": "max 100000", "memory.max": "max", "memory.current": "5"}, None, None),
    "version 1, no limit": ("5:cpu:/a", {"cpu/a/cpu.cfs_quota_us": "-1", "cpu/a/cpu.cfs_period_us": "9"}, None, None),
    "nothing that can be read": ("rubbish", {"cpu.max": "rubbish", "memory.max": "\n"}, None, None),
    "rubbish": ("0::/", {"cpu.max": "x y", "memory.max": "7", "memory.current": "z"}, None, None),
}  # fmt: skip


@pytest.mark.parametrize("name", GROUPS)
def test_a_container_tells_what_it_may_use(
    name: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    own, files, cores, free = GROUPS[name]
    (tmp_path / "own").write_text(own)
    for path, content in files.items():
        (tmp_path / "groups" / path).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / "groups" / path).write_text(content)
    where = tmp_path / "groups", tmp_path / "own"
    assert (control_groups.allowed_cores(*where), control_groups.allowed_bytes(*where)) == (cores, free)
    monkeypatch.setattr(os, "sched_getaffinity", lambda _: range(64), raising=False)
    monkeypatch.setattr(control_groups, "allowed_cores", lambda: cores)
    monkeypatch.setattr(control_groups, "allowed_bytes", lambda: free)
    assert machine.usable_cores() == {1.5: 2, 3.0: 3, None: 64}[cores]
    assert free is None or machine.free_memory_bytes() == free
