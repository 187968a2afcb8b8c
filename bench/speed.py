"""What the speed figures in the README come from: ratios to the codec library alone, measured in one run.

Usage: speed.py [PAIRS] [SECONDS] [PART…], parts as the functions below are called. Each pair runs the tool and the
floor one after the other; medians are of the pairs' ratios. Memory is the peak of the resident sizes of all processes
of a run added up.
"""

from __future__ import annotations

import os
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

import av

from material import write_cube, write_grainy, write_large, write_marks, write_repeated

HERE = Path(__file__).parent
BOXKITE = str(Path(sys.executable).with_name("boxkite"))
FLOOR = [sys.executable, str(HERE / "floor.py")]
_LOOPS = (6, 72, 720)
_LARGE_BYTES, _LARGE_SHOTS = 4_000_000_000, 8
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
        while not stop.wait(0.5):
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
    """Time, CPU and memory against the floor; a run of the floor before the first pair warms up."""
    wall, cpu, memory = [], [], []
    fresh(clean)
    measure(*floor)
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


def several_at_once(*commands: list[str]) -> tuple[float, float]:
    """Seconds until all of several commands that run side by side have ended: of the clock, of all cores."""
    before = resource.getrusage(resource.RUSAGE_CHILDREN)
    started = time.monotonic()
    processes = [subprocess.Popen(command, stdout=subprocess.DEVNULL) for command in commands]
    if sum(process.wait() for process in processes):
        raise SystemExit("one of them failed")
    wall = time.monotonic() - started
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    return wall, after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime


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
    """Twenty shots on all cores, against two bare processes with one thread each.

    These make ten of the shots each; or, which saves them the cutting, half of the film as one file.
    """
    film, seconds = folder / "program.mov", seconds_of(folder / "program.mov")
    spans = [f"{25 * seconds * n // 20}-{25 * seconds * (n + 1) // 20}" for n in range(20)]
    both = [(out / "bare1", spans[:10]), (out / "bare2", spans[10:])]
    compete(
        "20 shots side by side",
        [[BOXKITE, "run", str(film), "--marks", str(folder / "program.edl"), "--to", f"web:{out}"]],
        {
            "two bare processes that make ten each": [
                [*FLOOR, "web", str(film), str(into), "1", *some] for into, some in both
            ],
            "two that make one file of a half each": [
                [*FLOOR, "web", str(folder / "half.mov"), str(into / "half.mp4"), "1"] for into, _ in both
            ],
        },
        out,
        pairs,
    )


Commands = list[list[str]]


def compete(name: str, ours: Commands, floors: dict[str, Commands], out: Path, pairs: int) -> None:
    """Speed and CPU against several floors, each a few processes side by side; in another order each time.

    The first round only warms up: a file's first reading, and memory the machine gives out for the first time.
    """
    found: dict[str, list[tuple[float, float]]] = {}
    everyone = {name: ours, **floors}
    for turn in range(pairs + 1):
        for one, commands in list(everyone.items())[:: 1 if turn % 2 else -1]:
            taken = on_a_quiet_disk(commands, out)
            if turn:
                found.setdefault(one, []).append(taken)
        if turn:
            words = [f"{one} {of[-1][0]:.1f} s (CPU {of[-1][1]:.1f} s)" for one, of in found.items()]
            print(f"  {', '.join(words)}", flush=True)
    for one in floors:
        pairwise = list(zip(found[name], found[one], strict=True))
        speed = statistics.median(bare[0] / mine[0] for mine, bare in pairwise)
        cpu = statistics.median(mine[1] / bare[1] for mine, bare in pairwise)
        print(f"{name}: {speed:.2f} of the speed of {one}, CPU {cpu:.3f} × (median of {pairs})", flush=True)


def copies(folder: Path, out: Path, pairs: int) -> None:
    """Copying without coding, verification and checksum included, against a bare remux and a plain file copy."""
    large = folder / "large.mov"
    write_large(large, _LARGE_BYTES)
    write_marks(folder / "large.edl", seconds_of(large), _LARGE_SHOTS)
    whole = [BOXKITE, "run", str(large), "--to", f"copy:{out}"]
    shots = [*whole, "--marks", str(folder / "large.edl"), "--start-timecode", "01:00:00:00"]
    floors = {
        "a bare remux": [[*FLOOR, "remux", str(large), str(out / "bare.mov")]],
        "one brought to the disk": [[*FLOOR, "remux-to-disk", str(large), str(out / "bare.mov")]],
        "cp": [["cp", str(large), str(out / "plain.mov")]],
    }
    size = f"{large.stat().st_size / 1e9:.1f} GB"
    compete(f"copying {size} as one file", [whole], floors, out, pairs)
    compete(f"copying {size} as {_LARGE_SHOTS} shots", [shots], floors, out, pairs)
    large.unlink()


def seconds_of(film: Path) -> int:
    """How long a film lasts, in whole seconds."""
    with av.open(str(film)) as container:
        return (container.duration or 0) // av.time_base


def copies_in_memory(_: Path, __: Path, pairs: int) -> None:
    """The same where no disk decides: on Linux's file system in memory."""
    with tempfile.TemporaryDirectory(dir="/dev/shm") as name:
        copies(Path(name), Path(name) / "out", pairs)


def on_a_quiet_disk(commands: Commands, out: Path) -> tuple[float, float]:
    """Seconds, of the clock and of all cores, once all that others wrote has reached the disk."""
    fresh(out)
    for into in ("bare1", "bare2"):
        (out / into).mkdir()
    os.sync()
    return several_at_once(*commands)


def length(folder: Path, out: Path, _: int) -> None:
    """The peak of memory of films of a minute, of twelve and of two hours, once: only the number of pictures counts."""
    short, film = folder / "short.mov", folder / "long.mov"
    write_grainy(short, 10, 160, 96)
    for loops in _LOOPS:
        write_repeated(short, film, loops, 10)
        fresh(out)
        ours = measure(BOXKITE, "run", str(film), "--to", f"web:{out}", "--workers", "1").memory_mb
        bare = measure(*FLOOR, "web", str(film), str(out / "bare.mp4")).memory_mb
        print(f"{loops / 6:.0f} minutes: {ours:.0f} MB, the bare loop {bare:.0f} MB", flush=True)


def several(folder: Path, out: Path, pairs: int) -> None:
    words = [str(folder / "program.mov"), "--marks", str(folder / "program.edl"), "--to", f"web:{out}"]
    ours = [BOXKITE, "run", *words]
    compare("20 shots side by side, against one after the other", ours, [*ours, "--workers", "1"], pairs, out)


def helped(_: Path, out: Path, pairs: int) -> None:
    name = "boxkite --help, against python -c pass"
    compare(name, [BOXKITE, "--help"], [sys.executable, "-c", "pass"], 7 * pairs, out)


PARTS = {
    one.__name__: one
    for one in (plain, dressed, shared, batch, several, copies, copies_in_memory, length, helped)
}


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
            write_grainy(folder / "program.mov", 2 * seconds, 1920, 1080)
            write_marks(folder / "program.edl", 2 * seconds, 20)
            write_grainy(folder / "half.mov", seconds, 1920, 1080)
        for part in parts:
            PARTS[part](folder, folder / "out", pairs)


if __name__ == "__main__":
    main()
