"""What the speed figures in the README come from: ratios to the codec library alone, measured in one run.

Usage: speed.py [PAIRS] [SECONDS]. Each pair runs the tool and the floor one after the other; medians are of
the pairs' ratios. Memory is the peak of the resident sizes of all processes of a run added up.
"""

from __future__ import annotations

import resource
import shutil
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from dataclasses import dataclass
from pathlib import Path

from material import write_grainy, write_marks

HERE = Path(__file__).parent
BOXKITE = str(Path(sys.executable).with_name("boxkite"))


@dataclass(frozen=True)
class Figures:
    wall: float
    cpu: float
    memory_mb: float


def measure(*command: str) -> Figures:
    before = resource.getrusage(resource.RUSAGE_CHILDREN)
    started = time.monotonic()
    process = subprocess.Popen(command, stdout=subprocess.DEVNULL)
    peak = 0.0
    stop = threading.Event()

    def watch() -> None:
        nonlocal peak
        while not stop.wait(0.05):
            peak = max(peak, tree_memory_mb(process.pid))

    watching = threading.Thread(target=watch)
    watching.start()
    status = process.wait()
    wall = time.monotonic() - started
    stop.set()
    watching.join()
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    if status:
        raise SystemExit(f"{' '.join(command)} ended with status {status}")
    cpu = after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime
    return Figures(wall, cpu, peak)


def tree_memory_mb(root: int) -> float:
    """Resident memory of a process and all below it, in MB."""
    total = 0.0
    waiting = [root]
    while waiting:
        process = waiting.pop()
        try:
            for line in Path(f"/proc/{process}/status").read_text().splitlines():
                if line.startswith("VmRSS:"):
                    total += int(line.split()[1]) / 1000
            for task in Path(f"/proc/{process}/task").iterdir():
                waiting += [int(child) for child in (task / "children").read_text().split()]
        except (OSError, ValueError):
            continue
    return total


def compare(name: str, ours: list[str], floor: list[str], pairs: int, clean: Path) -> None:
    wall, cpu, memory = [], [], []
    for index in range(pairs):
        order = [ours, floor] if index % 2 == 0 else [floor, ours]
        found = {}
        for command in order:
            shutil.rmtree(clean, ignore_errors=True)
            clean.mkdir()
            found[command is ours] = measure(*command)
        mine, theirs = found[True], found[False]
        wall.append(mine.wall / theirs.wall)
        cpu.append(mine.cpu / theirs.cpu)
        memory.append((mine.memory_mb, theirs.memory_mb))
        print(
            f"  pair {index + 1}: wall {mine.wall:.1f} / {theirs.wall:.1f} s, cpu {mine.cpu:.1f} / {theirs.cpu:.1f} s,"
            f" memory {mine.memory_mb:.0f} / {theirs.memory_mb:.0f} MB",
            flush=True,
        )
    ours_mb, floor_mb = (statistics.median(column) for column in zip(*memory, strict=True))
    print(
        f"{name}: wall {statistics.median(wall):.3f} ×, cpu {statistics.median(cpu):.3f} ×,"
        f" memory {ours_mb:.0f} MB against {floor_mb:.0f} MB (median of {pairs} pairs)",
        flush=True,
    )


def main() -> None:
    pairs = int(sys.argv[1]) if len(sys.argv) > 1 else 5
    seconds = int(sys.argv[2]) if len(sys.argv) > 2 else 60
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        out = folder / "out"
        print("drawing the footage", flush=True)
        write_grainy(folder / "one.mov", seconds, 1920, 1080)
        write_grainy(folder / "program.mov", 2 * seconds, 1280, 720)
        write_marks(folder / "program.edl", 2 * seconds, 12)
        one = [
            BOXKITE,
            "run",
            str(folder / "one.mov"),
            "--by",
            "files",
            "--to",
            f"web:{out}",
            "--workers",
            "1",
        ]
        bare = [sys.executable, str(HERE / "floor.py"), str(folder / "one.mov"), str(out / "bare.mp4")]
        compare("one 1080p shot to web, against the bare loop", one, bare, pairs, out)
        several = [
            BOXKITE,
            "run",
            str(folder / "program.mov"),
            "--marks",
            str(folder / "program.edl"),
            "--to",
            f"web:{out}",
        ]
        compare(
            "12 shots side by side, against one after the other",
            several,
            [*several, "--workers", "1"],
            pairs,
            out,
        )
        compare(
            "boxkite --help, against python -c pass",
            [BOXKITE, "--help"],
            [sys.executable, "-c", "pass"],
            21,
            out,
        )


if __name__ == "__main__":
    main()
