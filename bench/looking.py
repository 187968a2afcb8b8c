"""What the figures for looking and planning in the README come from: ratios to the bare library, in one run.

Usage: looking.py [PAIRS]. Each pair runs the tool's part and the floor one after the other; medians are of the ratios.
"""

from __future__ import annotations

import os
import resource
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import av

from material import write_grainy

FILES = 1000
EVENTS = 10_000
BOXKITE = str(Path(sys.executable).with_name("boxkite"))


def seconds(act: Callable[[], object]) -> float:
    started = time.perf_counter()
    act()
    return time.perf_counter() - started


def ratio(name: str, pairs: int, floor: Callable[[], object], tool: Callable[[], object]) -> None:
    ratios = sorted(seconds(floor) / seconds(tool) for _ in range(pairs))
    middle = statistics.median(ratios)
    print(
        f"{name}: {middle:.2f} × the speed of the floor (from {ratios[0]:.2f} to {ratios[-1]:.2f})",
        flush=True,
    )


def open_all(folder: Path) -> None:
    for path in sorted(folder.iterdir()):
        with av.open(str(path)):
            pass


def decode_all(path: Path) -> None:
    with av.open(str(path)) as container:
        stream = container.streams.video[0]
        stream.thread_type = "AUTO"
        for _ in container.decode(stream):
            pass


def looked_at(folder: Path) -> None:
    """The sources under a folder, by a memory that knows none of them."""
    from boxkite.core.footage.find import find_sources

    shutil.rmtree(os.environ["BOXKITE_CACHE"], ignore_errors=True)
    assert len(find_sources([folder]).sources) == FILES


def detected(path: Path) -> None:
    from boxkite.core.footage.frame_index import measure_frames
    from boxkite.core.footage.probe import read_source
    from boxkite.core.marks.detection import find_changes

    source = read_source(path)
    find_changes(source, measure_frames(source))


def write_long_edit(path: Path, source: Path) -> None:
    from boxkite.core.timebase import FrameRate, Timecode

    rate = FrameRate.parse("25")
    zero, start = Timecode(0, rate), Timecode.parse("01:00:00:00", rate)
    lines = ["TITLE: long", "FCM: NON-DROP FRAME"]
    for number in range(EVENTS):
        first, at = zero + number % 200, start + 10 * number
        lines.append(f"{number + 1:06d}  AX  V  C  {first} {first + 10} {at} {at + 10}")
        lines.append(f"* FROM CLIP NAME: {source.name}")
    path.write_text("\n".join(lines))


def main() -> None:
    pairs = int(sys.argv[1]) if len(sys.argv) > 1 else 5
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        os.environ["BOXKITE_CACHE"] = str(folder / "memory")
        movie = folder / "grainy.mov"
        write_grainy(movie, 20, 1280, 720)
        (folder / "card").mkdir()
        for number in range(FILES):
            os.link(movie, folder / "card" / f"clip{number:04d}.mov")
        card = folder / "card"
        ratio(
            f"inspecting {FILES} files, to opening them",
            pairs,
            lambda: open_all(card),
            lambda: looked_at(card),
        )
        first = seconds(lambda: looked_at(card))
        from boxkite.core.footage.find import find_sources

        second = seconds(lambda: find_sources([card]))
        print(f"the second look takes {second / first:.3f} of the first", flush=True)
        ratio("detecting cuts, to decoding", pairs, lambda: decode_all(movie), lambda: detected(movie))
        write_long_edit(folder / "long.edl", movie)
        words = [
            BOXKITE,
            "plan",
            str(folder / "long.edl"),
            "--media",
            str(movie),
            "--to",
            f"web:{folder / 'out'}",
        ]
        took = seconds(lambda: subprocess.run(words, stdout=subprocess.DEVNULL, check=True))
        memory_mb = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1000
        print(f"a plan of {EVENTS} events: {took:.1f} s, {memory_mb:.0f} MB", flush=True)


if __name__ == "__main__":
    main()
