"""What the figures for batches in the README come from: the journal, status, how busy the cores are, a farm's workers.

Usage: batches.py [PART…], of journal, status, busy, farm. Every figure is of one run on this machine.
"""

from __future__ import annotations

import json
import os
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import distributed
import psutil

from boxkite.core.records.journal import Journal
from boxkite.core.records.record import FileRecord
from boxkite.core.records.store import Records
from boxkite.core.timebase import FrameRate
from boxkite.demo.movies import Movie, write_movie
from boxkite.demo.pictures import LOFT, VAT

BOXKITE = str(Path(sys.executable).with_name("boxkite"))
ROWS = 10_000
SHOTS, SHOT_SECONDS = 20, 8
"""Of the batches: as many shots of 720p as keep two cores at work for a minute or two."""


def long_batch(records: Records) -> Journal:
    """A batch of ten thousand files, as a plan of that length notes it."""
    files = [
        FileRecord(number, Path(f"/out/review/shot {number:05}.mp4"), f"shot {number:05}", Path("/card/reel.mov"),
                   "1-1", number * 25, number * 25 + 25, "review", "0" * 32, frames=25, threads=1)
        for number in range(1, ROWS + 1)
    ]  # fmt: skip
    name = records.begin("@marker", None, files, packed_plan=b"x" * 4_000_000, folders=[Path("/out/review")])
    return Journal(records, name)


def journal(folder: Path) -> None:
    """Milliseconds of each change of state, one after the other as a batch makes them."""
    took: dict[str, list[float]] = {}
    with Records(folder / "journal") as records:
        batch = long_batch(records)
        steps: list[tuple[str, Callable[[int], None]]] = [
            ("started", lambda number: batch.started(dict.fromkeys([number], ""))),
            ("frames", lambda number: batch.frames_done({number: 12}, 1.0)),
            ("ready", lambda number: batch.ready(number, Path("/out/x.partial"), "0" * 32, 1000)),
            (
                "verified",
                lambda number: batch.verified(number, checksum="0" * 32, size_bytes=1000, seconds=1.0),
            ),
        ]
        for number in range(1, 2001):
            for name, step in steps:
                before = time.perf_counter()
                step(number)
                took.setdefault(name, []).append((time.perf_counter() - before) * 1000)
    for name, each in took.items():
        worst = statistics.quantiles(each, n=100)[-1]
        print(f"journal of {ROWS} rows, {name}: {statistics.median(each):.2f} ms, 99 % under {worst:.2f} ms")


def seconds_of(*words: str) -> float:
    """Seconds a command takes, the median of seven."""
    each = []
    for _ in range(7):
        before = time.perf_counter()
        subprocess.run([BOXKITE, *words], stdout=subprocess.DEVNULL, check=False)
        each.append(time.perf_counter() - before)
    return statistics.median(each)


def status(folder: Path) -> None:
    """Seconds of status over a batch of ten thousand rows, more than --help."""
    os.environ["BOXKITE_STATE"] = str(folder / "status")
    with Records() as records:
        batch = long_batch(records)
        for number in range(1, ROWS // 2):
            batch.verified(number, checksum="0" * 32, size_bytes=1000, seconds=1.0)
        batch.failed(ROWS // 2, "the picture is damaged near frame 150", detail="Traceback\n" * 30)
    least = seconds_of("--help")
    print(f"--help: {least:.2f} s")
    for words in (
        ("status",),
        ("status", "last"),
        ("status", "last", "--files", "--json"),
        ("log", "--errors"),
    ):
        print(f"{' '.join(words)}, {ROWS} rows: {seconds_of(*words) - least:.2f} s more")


def film_of(folder: Path) -> list[str]:
    """A film of 720p with its marks; the words that cut it."""
    film, marks, frames = folder / "film.mov", folder / "marks.csv", SHOTS * SHOT_SECONDS * 25
    scenes = ((0, VAT), (frames // 2, LOFT))
    write_movie(Movie(film, frames, FrameRate.parse("25"), scenes, width=1280, height=720))
    lines = [f"s{number},{number * SHOT_SECONDS * 25}" for number in range(SHOTS)]
    marks.write_text("\n".join(["name,in", *lines]))
    return ["run", str(film), "--by", "markers", "--marks", str(marks)]


def busy(folder: Path) -> None:
    """CPU time over (cores × seconds) of a batch, from its first shot's start until its last shot starts."""
    os.environ["BOXKITE_STATE"] = str(folder / "busy")
    words = [BOXKITE, *film_of(folder), "--to", f"web:{folder / 'busy-out'}"]
    process = subprocess.Popen(words, stdout=subprocess.DEVNULL)
    first = last = (0.0, 0.0)
    with Records() as records:
        while process.poll() is None:
            spent, now = _spent(process.pid), time.perf_counter()
            begun, all_rows = records.ask("select coalesce(sum(started != ''), 0), count(*) from file")[0]
            if begun and not first[0]:
                first = (now, spent)
            if begun and begun < all_rows:
                last = (now, spent)
            time.sleep(0.5)  # looking takes time of the cores too
    cores = psutil.cpu_count() or 1
    share = (last[1] - first[1]) / (cores * (last[0] - first[0]))
    wall = last[0] - first[0]
    print(f"{SHOTS} shots of {SHOT_SECONDS} s: CPU ÷ ({cores} × wall) {share:.3f} over {wall:.0f} s")


def _spent(process: int) -> float:
    """CPU seconds of a process and all below it; those that ended are lost, and none ends while shots are left."""
    total = 0.0
    try:
        own = psutil.Process(process)
        for one in (own, *own.children(recursive=True)):
            times = one.cpu_times()
            total += times.user + times.system
    except psutil.NoSuchProcess:
        return total
    return total


@contextmanager
def farm_of(folder: Path, workers: int) -> Iterator[str]:
    """The address of a scheduler with so many workers of one thread, each kept to one core of this machine."""
    file = Path(tempfile.mkdtemp(dir=folder)) / "scheduler.json"
    quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL}
    common = ["--scheduler-file", str(file), "--no-dashboard"]
    commands = [["distributed.cli.dask_scheduler", "--host", "127.0.0.1", "--port", "0", *common]]
    commands += [
        [
            "distributed.cli.dask_worker",
            *common,
            "--nthreads",
            "1",
            "--no-nanny",
            "--local-directory",
            str(folder),
        ]
        for _ in range(workers)
    ]
    processes = []
    for number, command in enumerate(commands):
        process = subprocess.Popen([sys.executable, "-m", *command], **quiet)  # type: ignore[call-overload]
        if number:
            os.sched_setaffinity(process.pid, {(number - 1) % (psutil.cpu_count() or 1)})
        processes.append(process)
    try:
        while not file.exists():
            time.sleep(0.1)
        address = json.loads(file.read_text())["address"]
        connect: Any = distributed.Client
        with connect(address, set_as_default=False) as client:
            client.wait_for_workers(workers, timeout=60)
        yield address
    finally:
        for process in processes:
            process.kill()
            process.wait()


def farm(folder: Path) -> None:
    """Seconds of one batch on a farm of one worker and of two, each with a core of its own."""
    os.environ["BOXKITE_STATE"] = str(folder / "farm")
    words = [BOXKITE, *film_of(folder)]
    took: list[float] = []
    for workers in (1, 2):
        with farm_of(folder, workers) as address:
            out = folder / f"farm-out{len(took)}"
            before = time.perf_counter()
            subprocess.run(
                [*words, "--to", f"web:{out}", "--cluster", address],
                stdout=subprocess.DEVNULL,
                check=True,
            )
            took.append(time.perf_counter() - before)
    one, two = min(took[0::2]), min(took[1::2])
    print(f"farm: one worker {one:.1f} s, two {two:.1f} s: {one / two:.2f} × the throughput")


PARTS = {"journal": journal, "status": status, "busy": busy, "farm": farm}


def main() -> None:
    for part in sys.argv[1:] or PARTS:
        with tempfile.TemporaryDirectory() as name:
            PARTS[part](Path(name))


if __name__ == "__main__":
    main()
