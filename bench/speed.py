"""What the speed figures in the README come from: ratios to the codec library alone, measured in one run.

Usage: speed.py [PAIRS] [SECONDS] [PART…], parts as the functions below are called. Each pair runs the tool and the
floor one after the other; medians are of the pairs' ratios. Memory is the peak of the resident sizes of all processes
of a run added up.
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

from material import write_cube, write_grainy, write_large, write_marks

HERE = Path(__file__).parent
BOXKITE = str(Path(sys.executable).with_name("boxkite"))
FLOOR = [sys.executable, str(HERE / "floor.py")]
LINES = (("@name", "bottom left"), ("@timecode", "bottom right"), ("@clip @frame", "top left"))


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


def several_at_once(*commands: list[str]) -> float:
    """Wall seconds until all of several commands that run side by side have ended."""
    started = time.monotonic()
    processes = [subprocess.Popen(command, stdout=subprocess.DEVNULL) for command in commands]
    if sum(process.wait() for process in processes):
        raise SystemExit("one of them failed")
    return time.monotonic() - started


def fresh(folder: Path) -> None:
    shutil.rmtree(folder, ignore_errors=True)
    folder.mkdir()


def plain(folder: Path, out: Path, pairs: int) -> None:
    one = [BOXKITE, "run", str(folder / "one.mov"), "--by", "files", "--to", f"web:{out}", "--workers", "1"]
    bare = [*FLOOR, "web", str(folder / "one.mov"), str(out / "bare.mp4")]
    compare("one 1080p shot to web, against the bare loop", one, bare, pairs, out)


def dressed(folder: Path, out: Path, pairs: int) -> None:
    preset = folder / "dressed.toml"
    lines = "".join(f'[[burn_in]]\ntext = "{text}"\nposition = "{place}"\n' for text, place in LINES)
    preset.write_text(f'based_on = "review"\n{lines}[look]\nfile = "{write_cube(folder / "show.cube")}"\n')
    ours = [BOXKITE, "run", str(folder / "one.mov"), "--to", f"{preset}:{out}", "--workers", "1"]
    bare = [*FLOOR, "review", str(folder / "one.mov"), str(out / "bare.mp4")]
    name = "review with LUT, three burn-ins, watermark, against bare scaling and encoding"
    compare(name, ours, bare, pairs, out)


def shared(folder: Path, out: Path, pairs: int) -> None:
    """How much of one decode two presets together save."""
    saved = []
    for _ in range(pairs):
        cpu = []
        for presets in (["web"], ["review"], ["web", "review"]):
            fresh(out)
            to = [word for name in presets for word in ("--to", f"{name}:{out / name}")]
            cpu.append(measure(BOXKITE, "run", str(folder / "one.mov"), "--workers", "1", *to).cpu)
        decoding = measure(*FLOOR, "decode", str(folder / "one.mov")).cpu
        start = measure(BOXKITE, "plan", str(folder / "one.mov"), "--to", f"web:{out}").cpu
        saved.append((cpu[0] + cpu[1] - cpu[2] - start) / decoding)
        words = ", ".join(f"{seconds:.1f}" for seconds in (*cpu, decoding, start))
        print(f"  web, review, both, bare decoding, a start: {words} s of CPU", flush=True)
    print(
        f"two presets together save {statistics.median(saved):.2f} of a decode, a start left out", flush=True
    )


def batch(folder: Path, out: Path, pairs: int) -> None:
    """Twenty shots on all cores, against two bare processes that each do one half with one thread."""
    ratios = []
    words = [str(folder / "program.mov"), "--marks", str(folder / "program.edl")]
    for _ in range(pairs):
        fresh(out)
        ours = several_at_once([BOXKITE, "run", *words, "--to", f"web:{out}"])
        halves = [
            [*FLOOR, "web", str(folder / f"half{n}.mov"), str(out / f"bare{n}.mp4"), "1"] for n in (1, 2)
        ]
        ceiling = several_at_once(*halves)
        ratios.append(ceiling / ours)
        print(f"  ours {ours:.1f} s, two bare processes {ceiling:.1f} s", flush=True)
    print(f"20 shots side by side: {statistics.median(ratios):.2f} of the ceiling's speed", flush=True)


def copies(folder: Path, out: Path, pairs: int) -> None:
    against_remux, against_copy = [], []
    large = folder / "large.mov"
    for _ in range(pairs):
        fresh(out)
        ours = several_at_once([BOXKITE, "run", str(large), "--to", f"copy:{out}"])
        bare = several_at_once([*FLOOR, "remux", str(large), str(out / "bare.mov")])
        plain_copy = several_at_once(["cp", str(large), str(out / "plain.mov")])
        against_remux.append(bare / ours)
        against_copy.append(plain_copy / ours)
        print(f"  copy {ours:.1f} s, bare remux {bare:.1f} s, cp {plain_copy:.1f} s", flush=True)
    size = large.stat().st_size / 1e9
    print(
        f"copying {size:.1f} GB, proof and checksum included: {statistics.median(against_remux):.2f} of a bare remux,"
        f" {statistics.median(against_copy):.2f} of cp",
        flush=True,
    )


def several(folder: Path, out: Path, pairs: int) -> None:
    words = [str(folder / "program.mov"), "--marks", str(folder / "program.edl"), "--to", f"web:{out}"]
    ours = [BOXKITE, "run", *words]
    compare("20 shots side by side, against one after the other", ours, [*ours, "--workers", "1"], pairs, out)


def helped(_: Path, out: Path, pairs: int) -> None:
    name = "boxkite --help, against python -c pass"
    compare(name, [BOXKITE, "--help"], [sys.executable, "-c", "pass"], 7 * pairs, out)


PARTS = {one.__name__: one for one in (plain, dressed, shared, batch, several, copies, helped)}


def main() -> None:
    pairs = int(sys.argv[1]) if len(sys.argv) > 1 else 5
    seconds = int(sys.argv[2]) if len(sys.argv) > 2 else 60
    parts = sys.argv[3:] or list(PARTS)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        print("drawing the footage", flush=True)
        if {"plain", "dressed", "shared"} & set(parts):
            write_grainy(folder / "one.mov", seconds, 1920, 1080)
        if {"batch", "several"} & set(parts):
            write_grainy(folder / "program.mov", 2 * seconds, 1280, 720)
            write_marks(folder / "program.edl", 2 * seconds, 20)
            for half in (1, 2):
                write_grainy(folder / f"half{half}.mov", seconds, 1280, 720)
        if "copies" in parts:
            write_large(folder / "large.mov", 2_000_000_000)
        for part in parts:
            PARTS[part](folder, folder / "out", pairs)


if __name__ == "__main__":
    main()
