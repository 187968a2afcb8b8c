"""The main figures against their targets, as ratios to the bare codec library or to the system, in one run.

Usage: targets.py [PART…], parts as the functions below are called. Tool and floor run in turn, floor first and last;
the noise is how far two floors in a row are apart, in the middle. Ends with status 1 where a target is missed by more
than the noise. Beside what is aimed at in seconds it tells how long plain Python takes just then. What takes longer,
and has no target, is in the other files here (make bench-all).
"""

from __future__ import annotations

import os
import shutil
import statistics
import sys
import tempfile
import time
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from itertools import pairwise
from pathlib import Path
from typing import Literal, NamedTuple

import av

from looking import looked_at
from material import write_cube, write_grainy, write_large, write_marks
from planning import planned, write_long
from speed import BOXKITE, FLOOR, LINES, fresh, several_at_once

Commands = Sequence[Sequence[str]]
ROUNDS = 2
COPY_ROUNDS = 3
FILES = 1000
COUNTED, USUAL_SECONDS = 20_000_000, 1.0
"""What Python counts to, and how long that takes on the machine that targets in seconds are for."""


@dataclass(frozen=True)
class Line:
    """One figure of the table."""

    name: str
    value: float
    target: float
    way: Literal["at most", "at least"]
    noise: float = 0.0
    """How far apart two measurements of the same are, as a share."""

    @property
    def is_met(self) -> bool:
        if self.way == "at most":
            return self.value <= self.target * (1 + self.noise)
        return self.value >= self.target * (1 - self.noise)


class Took(NamedTuple):
    """Seconds of the clock and of all cores; or ratios of both."""

    wall: float
    cpu: float


class Compared(NamedTuple):
    """Ratios to a floor, and how far apart two floors in a row are, as a share, in the middle."""

    ratio: Took
    noise: Took


def tell_pace() -> None:
    """Print how many times its usual time Python takes here and now."""
    started, total = time.perf_counter(), 0
    for number in range(COUNTED):  # long enough that a moment of full speed does not decide
        total += number
    taken = (time.perf_counter() - started) / USUAL_SECONDS
    print(f"Python takes {taken:.2f} × its usual time", file=sys.stderr, flush=True)


def in_turn(ours: Callable[[], Took], floor: Callable[[], Took], rounds: int) -> Compared:
    """Measure ours between two floors, so many times."""
    floors, own = [floor()], []
    for _ in range(rounds):
        own.append(ours())
        floors.append(floor())
    pairs = list(pairwise(floors))

    def ratio(kind: int) -> float:
        around = [(before[kind] + after[kind]) / 2 for before, after in pairs]
        return statistics.median(mine[kind] / bare for mine, bare in zip(own, around, strict=True))

    def noise(kind: int) -> float:
        return statistics.median(abs(one[kind] / other[kind] - 1) for one, other in pairs)

    return Compared(Took(ratio(0), ratio(1)), Took(noise(0), noise(1)))


def timed(out: Path, commands: Commands) -> Callable[[], Took]:
    """Commands side by side, into an empty folder, on a disk that is quiet."""

    def run() -> Took:
        fresh(out)
        os.sync()
        return Took(*several_at_once(*map(list, commands)))

    return run


def one_shot(folder: Path, out: Path) -> list[Line]:
    film, preset = folder / "one.mov", folder / "dressed.toml"
    write_grainy(film, 30, 1920, 1080)
    lines = "".join(f'[[burn_in]]\ntext = "{text}"\nposition = "{place}"\n' for text, place in LINES)
    preset.write_text(f'based_on = "review"\n{lines}[look]\nfile = "{write_cube(folder / "show.cube")}"\n')

    def to(name: str | Path, bare: str) -> Compared:
        ours = [BOXKITE, "run", str(film), "--to", f"{name}:{out}", "--workers", "1"]
        timed(out, [ours])()  # from then on the film is remembered, and what is compiled once is there
        return in_turn(timed(out, [ours]), timed(out, [[*FLOOR, bare, str(film), f"{out}/bare.mp4"]]), ROUNDS)

    web, dressed = to("web", "web"), to(preset, "review")
    name = "review with LUT, burn-ins, watermark: CPU of bare scaling and encoding"
    return [
        Line("30 s of 1080p to web: CPU of the bare loop's", web.ratio.cpu, 1.05, "at most", web.noise.cpu),
        Line("the same: time", web.ratio.wall, 1.05, "at most", web.noise.wall),
        Line(name, dressed.ratio.cpu, 1.2, "at most", dressed.noise.cpu),
    ]


def short_shots(folder: Path, out: Path) -> list[Line]:
    return [
        _short_shots(folder, out, shots=60, seconds=90, width=1280, target=0.98),
        _short_shots(folder, out, shots=250, seconds=120, width=320, target=0.9),
    ]


def _short_shots(folder: Path, out: Path, *, shots: int, seconds: int, width: int, target: float) -> Line:
    film, marks = folder / f"{shots}.mov", folder / f"{shots}.edl"
    write_grainy(film, seconds, width, width * 9 // 16)
    write_marks(marks, seconds, shots)
    spans = [f"{25 * seconds * n // shots}-{25 * seconds * (n + 1) // shots}" for n in range(shots)]
    halves = [(out / "a", spans[: shots // 2]), (out / "b", spans[shots // 2 :])]

    def bare() -> Took:
        fresh(out)
        for into, _ in halves:
            into.mkdir()
        commands = [[*FLOOR, "web", str(film), str(into), "1", *some] for into, some in halves]
        return Took(*several_at_once(*commands))

    ours = timed(out, [[BOXKITE, "run", str(film), "--marks", str(marks), "--to", f"web:{out}"]])
    found = in_turn(ours, bare, 2)
    name = f"{shots} shots of {25 * seconds // shots} frames: speed of two bare processes'"
    return Line(name, 1 / found.ratio.wall, target, "at least", found.noise.wall)


def far_keyframes(folder: Path, out: Path) -> list[Line]:
    film, marks = folder / "far.mov", folder / "far.edl"
    write_grainy(film, 60, 1280, 720, 250)
    write_marks(marks, 60, 30)
    ours = [BOXKITE, "run", str(film), "--marks", str(marks), "--to", f"web:{out}"]
    whole = [*FLOOR, "web", str(film), f"{out}/bare.mp4"]
    found = in_turn(timed(out, [ours]), timed(out, [whole]), 2)
    name = "30 shots of 2 s, a keyframe every 10 s: time of one continuous encode's"
    return [Line(name, found.ratio.wall, 1.15, "at most", found.noise.wall)]


def copies(folder: Path, _out: Path) -> list[Line]:
    lines = []
    for where, root, target in (("in memory", "/dev/shm", 0.9), ("on disk", str(folder), 0.7)):
        with tempfile.TemporaryDirectory(dir=root) as name:
            large, into = Path(name) / "large.mov", Path(name) / "out"
            write_large(large, 4_000_000_000)
            ours = timed(into, [[BOXKITE, "run", str(large), "--to", f"copy:{into}"]])
            floor = timed(into, [["cp", str(large), f"{into}/plain.mov"]])
            floor()  # the system has to find so much memory first, which takes as long as three copies
            found = in_turn(ours, floor, COPY_ROUNDS)
        name = f"copying 4 GB {where}: speed of cp's"
        lines.append(Line(name, 1 / found.ratio.wall, target, "at least", found.noise.wall))
    return lines


def starting(folder: Path, out: Path) -> list[Line]:
    film, first = folder / "second.mov", folder / "first.csv"
    write_grainy(film, 1, 320, 180)
    first.write_text("name,in,out\nfirst,0,1\n")
    ours = timed(out, [[BOXKITE, "run", str(film), "--to", f"web:{out}"]])
    one_frame = timed(out, [[BOXKITE, "run", str(film), "--marks", str(first), "--to", f"web:{out}"]])
    ours()  # from then on it is remembered
    tell_pace()
    taken = [one_frame().cpu for _ in range(9)]
    tell_pace()
    run = in_turn(ours, timed(out, [[*FLOOR, "web", str(film), f"{out}/bare.mp4"]]), 7)
    helped = in_turn(timed(out, [[BOXKITE, "--help"]]), timed(out, [[sys.executable, "-c", "pass"]]), 11)
    name = "one frame of 320x180, remembered, from the shell to its end: seconds of CPU"
    print(f"a second of it: CPU {run.ratio.cpu:.2f} × the bare loop's", file=sys.stderr, flush=True)
    return [
        Line(name, statistics.median(taken), 0.5, "at most", run.noise.cpu),
        Line("--help: time of python -c pass", helped.ratio.wall, 2.0, "at most", helped.noise.wall),
    ]


def plans(folder: Path, _out: Path) -> list[Line]:
    write_long(folder / "reel0.mov")
    for number in range(1, 10):
        os.link(folder / "reel0.mov", folder / f"reel{number}.mov")
    names = ("--names", "@keyword/@clip_@(marker:slug)_@(count:000001)")
    planned(folder, 1, *names)
    tell_pace()
    taken, memory = zip(*(planned(folder, 1, *names) for _ in range(4)), strict=True)
    tell_pace()
    short = statistics.median(taken)
    noise = (max(taken) - min(taken)) / short
    long, _ = min(planned(folder, 10, *names) for _ in range(2))  # the first has nine sources to read anew
    return [
        Line("a plan of 10,000 shots × 3 presets: seconds", short, 1.2, "at most", noise),
        Line("the same: MB", max(memory), 100, "at most"),
        Line("ten times as many: time of those", long / short, 12, "at most", noise),
    ]


def looking(folder: Path, _out: Path) -> list[Line]:
    from boxkite.core.footage.find import find_sources
    from boxkite.core.machine import usable_cores

    movie, card = folder / "clip.mov", folder / "card"
    write_grainy(movie, 10, 1280, 720)
    card.mkdir()
    for number in range(FILES):
        os.link(movie, card / f"clip{number:04d}.mov")

    def clock(act: Callable[[], object]) -> Callable[[], Took]:
        def run() -> Took:
            started, used = time.perf_counter(), time.process_time()
            act()
            return Took(time.perf_counter() - started, time.process_time() - used)

        return run

    def open_all() -> None:
        with ThreadPoolExecutor(usable_cores()) as pool:
            list(pool.map(lambda path: av.open(str(path)).close(), sorted(card.iterdir())))

    found = in_turn(clock(lambda: looked_at(card)), clock(open_all), ROUNDS)
    looked_at(card)
    tell_pace()
    second = min(clock(lambda: find_sources([card]))().wall for _ in range(3))
    name = f"inspecting {FILES} files: speed of the library's opening them on all cores"
    return [
        Line(name, 1 / found.ratio.wall, 1.0, "at least", found.noise.wall),
        Line("a second look at them: seconds", second, 0.2, "at most", found.noise.wall),
    ]


PARTS = {
    one.__name__: one for one in (one_shot, short_shots, far_keyframes, copies, starting, plans, looking)
}


def main() -> int:
    lines: list[Line] = []
    if unknown := set(sys.argv[1:]) - set(PARTS):
        raise SystemExit(f"there is no part {', '.join(sorted(unknown))}: {', '.join(PARTS)}")
    with tempfile.TemporaryDirectory() as name:
        os.environ["BOXKITE_STATE"], os.environ["BOXKITE_CACHE"] = f"{name}/state", f"{name}/memory"
        for part in sys.argv[1:] or PARTS:
            folder = Path(name) / part
            folder.mkdir()
            started = time.monotonic()
            lines += PARTS[part](folder, folder / "out")
            print(f"{part}: measured in {time.monotonic() - started:.0f} s", file=sys.stderr, flush=True)
            shutil.rmtree(folder)
    width = max(len(line.name) for line in lines)
    print(f"{'figure':{width}}  {'found':>7}  {'target':>14}  {'noise':>6}")
    for line in lines:
        target = f"{line.way} {line.target:g}"
        state = "" if line.is_met else "  missed"
        print(f"{line.name:{width}}  {line.value:7.2f}  {target:>14}  {100 * line.noise:4.0f} %{state}")
    missed = sum(not line.is_met for line in lines)
    print(f"{len(lines)} figures, {missed} missed by more than the noise")
    return 1 if missed else 0


if __name__ == "__main__":
    raise SystemExit(main())
