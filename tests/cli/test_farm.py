"""Many machines: workers of a real scheduler make the same files as this machine, and some may be lost."""

from __future__ import annotations

import json
import os
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from boxkite.core.settings import PathRule, mapped
from boxkite.core.timebase import FrameRate, Span
from boxkite.demo.movies import Movie, write_movie
from boxkite.demo.pictures import LOFT, VAT
from tests import wording
from tests.verification import PROGRAM, assert_holds, boxkite, decoded_hash

SHOTS = 4


@pytest.fixture(scope="module")
def film(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("farm") / "here"
    folder.mkdir()
    rate = FrameRate.parse("25")
    write_movie(Movie(folder / "film.mov", 160, rate, ((0, VAT), (80, LOFT)), width=640, height=360))
    write_movie(Movie(folder / "slow.mov", 130, FrameRate.parse("6"), ((0, VAT),), width=640, height=360))
    marks = "".join(f"s{number},{number * 40}\n" for number in range(SHOTS))
    (folder / "marks.csv").write_text("name,in\n" + marks)
    (folder.parent / "there").symlink_to(folder)
    return folder


def start(*words: str, env: dict[str, str] | None = None) -> subprocess.Popen[bytes]:
    command = [sys.executable, "-m", *words]
    return subprocess.Popen(command, env=env, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)


@pytest.fixture(scope="module")
def farm(tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[str, list[subprocess.Popen[bytes]]]]:
    """(address of a scheduler, its three workers, each a process of one thread)."""
    folder = tmp_path_factory.mktemp("scheduler")
    file = folder / "scheduler.json"
    common = ("--scheduler-file", str(file), "--no-dashboard")
    scheduler = start("distributed.cli.dask_scheduler", "--host", "127.0.0.1", "--port", "0", *common)
    workers = [
        start("distributed.cli.dask_worker", *common, "--nthreads", "1", "--no-nanny", "--death-timeout", "60",
              "--local-directory", str(folder))
        for _ in range(3)
    ]  # fmt: skip
    patience = time.monotonic() + 60
    while not file.exists() and time.monotonic() < patience:
        time.sleep(0.1)
    yield json.loads(file.read_text())["address"], workers
    for process in (*workers, scheduler):
        process.kill()
        process.wait()


def words(film: Path, out: Path) -> list[str]:
    return [
        *("run", str(film / "film.mov"), "--by", "markers", "--marks", str(film / "marks.csv")),
        *("--to", f"web:{out}", "--to", f"stock:{out}"),
    ]


def wait_for_workers(address: str, count: int) -> None:
    from distributed import Client

    with Client(address, set_as_default=False) as client:
        client.wait_for_workers(count, timeout=60)


def test_a_farm_makes_the_same_files_and_lost_workers_cost_none(
    film: Path, farm: tuple[str, list[subprocess.Popen[bytes]]], tmp_path: Path
) -> None:
    address, workers = farm
    wait_for_workers(address, 3)
    settings = tmp_path / "settings.toml"
    rule = f'[[paths]]\nhere = "{film}"\nthere = "{film.parent / "there"}"\n'
    settings.write_text(rule)
    env = {**os.environ, "BOXKITE_STATE": str(tmp_path / "state"), "BOXKITE_SETTINGS": str(settings)}
    alone = boxkite(*words(film, tmp_path / "alone"), env=env)
    assert alone.status == 0, alone.err
    wanted = {path.name: decoded_hash(path) for path in (tmp_path / "alone").iterdir()}
    out = tmp_path / "out"
    workers[2].send_signal(signal.SIGSTOP)
    command = [PROGRAM, *words(film, out), "--cluster", address]
    process = subprocess.Popen(command, env=env, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
    while process.poll() is None and not out.exists():
        time.sleep(0.05)
    time.sleep(0.5)
    workers[2].kill()  # while it is asked what it can do
    while process.poll() is None and not any(one.stat().st_size for one in out.glob(".boxkite*")):
        time.sleep(0.05)
    workers[1].send_signal(signal.SIGKILL)
    message, err = process.communicate(timeout=110)
    assert process.returncode == 0, message + err
    assert "2 workers" in message and "Traceback" not in err
    assert {path.name: decoded_hash(path) for path in out.iterdir()} == wanted
    shown = boxkite("status", "last", "--files", "--json", env=env).json
    assert (shown["state"], shown["verified"]) == ("all verified", 2 * SHOTS)
    shared = boxkite("run", str(film / "slow.mov"), "--by", "files", "--to", f"web:{tmp_path}/one", "--in-chunks",
                     "--cluster", address, env=env)  # fmt: skip
    assert shared.status == 0, shared.err
    assert_holds(tmp_path / "one/slow.mp4", Span(0, 130), FrameRate.parse("6"))
    assert len(list((tmp_path / "one").iterdir())) == 1
    shutil.copy(film / "film.mov", tmp_path / "other.mov")
    settings.write_text(rule.replace(str(film.parent / "there"), str(tmp_path)))
    refused = boxkite(*words(film, tmp_path / "no"), "--cluster", address, env=env)
    assert (refused.status, wording.NOT_THE_SAME_FILE in refused.err) == (2, True), refused.err
    assert not (tmp_path / "no").exists()


def test_a_farm_that_is_not_there_is_reported_clearly(film: Path, tmp_path: Path) -> None:
    done = boxkite(*words(film, tmp_path), "--cluster", "tcp://127.0.0.1:9", timeout=60)
    assert (done.status, wording.NO_SCHEDULER in done.err) == (2, True), done.err


def test_paths_are_called_by_the_first_rule_that_is_about_them() -> None:
    rules = [
        PathRule("/mnt/media/fast", "Q:\\fast", "win-*"),
        PathRule("/mnt/media", "M:\\media", "win-*"),
        PathRule("/mnt/media", "/Volumes/media"),
    ]
    assert mapped("/mnt/media/a/b.mov", rules, "WIN-7") == "M:\\media\\a\\b.mov"
    assert mapped("/mnt/media/fast/b.mov", rules, "win-7") == "Q:\\fast\\b.mov"
    assert mapped("/mnt/media/a/b.mov", rules, "mac-1") == "/Volumes/media/a/b.mov"
    assert mapped("/mnt/mediation/b.mov", rules, "mac-1") == "/mnt/mediation/b.mov"
    back = [PathRule("M:\\media", "/mnt/media")]
    assert mapped("m:\\MEDIA\\a\\b.mov", back, "x") == "m:\\MEDIA\\a\\b.mov"
    assert mapped("M:\\media\\a\\b.mov", back, "x") == "/mnt/media/a/b.mov"
