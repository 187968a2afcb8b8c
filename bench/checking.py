"""What the figures for checking and showing finished files come from, in one run. Usage: checking.py [PAIRS]

The floor of `verify --deep` is two processes that decode the files and their sources once with the bare library.
"""

from __future__ import annotations

import os
import resource
import statistics
import subprocess
import sys
import tempfile
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

import av

from material import write_grainy

BOXKITE = str(Path(sys.executable).with_name("boxkite"))
OUTPUTS = (("web",), ("stock",), ("review",), ("copy",), ("web", "review", "stock"))
CLIPS, SECONDS, SHEET_FILES = 2, 12, 300


def decode(path: Path) -> int:
    with av.open(str(path)) as container:
        container.streams.video[0].thread_count = 1
        return sum(1 for _ in container.decode(*container.streams.video, *container.streams.audio))


def floor(paths: list[Path]) -> None:
    with ProcessPoolExecutor(2) as pool:
        list(pool.map(decode, paths))


def cpu_seconds(*words: str) -> float:
    """Of a command and all its processes."""
    before = resource.getrusage(resource.RUSAGE_CHILDREN)
    subprocess.run(words, check=True, stdout=subprocess.DEVNULL)
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    return after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime


def check(folder: Path, pairs: int) -> None:
    clips = [folder / f"clip{number}.mov" for number in range(CLIPS)]
    for clip in clips:
        write_grainy(clip, SECONDS, 1920, 1080)
    for presets in OUTPUTS:
        name = " and ".join(presets)
        to = [word for preset in presets for word in ("--to", f"{preset}:{folder / name / preset}")]
        words = [*map(str, clips), "--by", "files", *to]
        subprocess.run([BOXKITE, "run", *words], check=True, stdout=subprocess.DEVNULL)
        files = [path for path in sorted((folder / name).rglob("*")) if path.is_file()]
        ratios = []
        for _ in range(pairs):
            bare = cpu_seconds(sys.executable, __file__, "floor", *map(str, [*clips, *files]))
            ratios.append(cpu_seconds(BOXKITE, "verify", "last", "--deep") / bare)
        middle = statistics.median(ratios)
        print(f"verify --deep, {name}: CPU {middle:.2f} × decoding files and sources once", flush=True)


def sheet(folder: Path) -> None:
    many = folder / "many"
    many.mkdir()
    for number in range(SHEET_FILES):
        os.link(folder / f"clip{number % CLIPS}.mov", many / f"shot {number:03d}.mov")
    command = [BOXKITE, "contact-sheet", str(many), "--into", str(folder / "sheet.pdf")]
    process = subprocess.Popen(command, stdout=subprocess.DEVNULL)
    _, status, used = os.wait4(process.pid, 0)
    assert status == 0
    print(
        f"contact sheet of {SHEET_FILES} 1080p files: CPU {used.ru_utime:.0f} s, {used.ru_maxrss // 1000} MB"
    )


def main() -> None:
    if sys.argv[1:2] == ["floor"]:
        floor(list(map(Path, sys.argv[2:])))
        return
    with tempfile.TemporaryDirectory() as place:
        os.environ["BOXKITE_STATE"] = os.environ["BOXKITE_CACHE"] = place
        check(Path(place), int(sys.argv[1]) if len(sys.argv) > 1 else 3)
        sheet(Path(place))


if __name__ == "__main__":
    main()
