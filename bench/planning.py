"""What the figures for long plans in the README come from: 10,000 and 100,000 shots, three presets each, in one run.

Usage: planning.py. Prints seconds, memory and files a second of each, and how far from linear the longer one is.
"""

from __future__ import annotations

import contextlib
import os
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path

import av
import numpy as np

BOXKITE = str(Path(sys.executable).with_name("boxkite"))
SHOTS = 10_000
FRAMES_A_SHOT = 25
OUTPUTS = ("web", "review", "stock")


def write_long(path: Path) -> None:
    """Ten thousand seconds of a very small grey picture."""
    with av.open(str(path), "w") as container:
        stream = container.add_stream("libx264", rate=25, options={"preset": "ultrafast", "g": "250"})
        stream.width, stream.height, stream.pix_fmt = 64, 64, "yuv420p"
        planes = np.full((96, 64), 128, dtype=np.uint8)
        for number in range(SHOTS * FRAMES_A_SHOT):
            picture = av.VideoFrame.from_ndarray(planes, format="yuv420p")
            picture.pts = number
            container.mux(stream.encode(picture))
        container.mux(stream.encode(None))


def write_ranges(path: Path, sources: int) -> None:
    lines = ["source,name,in,out,keywords,note"]
    for source in range(sources):
        for number in range(SHOTS):
            start = number * FRAMES_A_SHOT
            lines.append(f"reel{source},shot {number},{start},{start + FRAMES_A_SHOT},vat;hands,a note")
    path.write_text("\n".join(lines))


def planned(folder: Path, sources: int, *more: str) -> tuple[float, float]:
    """Plan all shots of so many sources, print what it took, and return the seconds and the MB."""
    table = folder / f"ranges{sources}.csv"
    write_ranges(table, sources)
    paths = [str(folder / f"reel{number}.mov") for number in range(sources)]
    outputs = [word for preset in OUTPUTS for word in ("--to", f"{preset}:{folder / 'out' / preset}")]
    words = [BOXKITE, "plan", *paths, "--by", "ranges", "--marks", str(table), *outputs, *more]
    with (folder / "said").open("wb") as said:
        started = time.perf_counter()
        process = subprocess.Popen(words, stdout=said)
        peaks: list[float] = []
        watcher = threading.Thread(target=_watch, args=(process.pid, peaks))
        watcher.start()
        process.wait()
        took = time.perf_counter() - started
        watcher.join()
        peak_mb = max(peaks, default=0.0)
    assert process.returncode == 0 and (folder / "said").read_bytes().count(b"\n") > sources * SHOTS * len(
        OUTPUTS
    )
    shots = sources * SHOTS
    print(
        f"{shots} shots × {len(OUTPUTS)} presets {' '.join(more)}: {took:.2f} s, {peak_mb:.0f} MB",
        file=sys.stderr,
        flush=True,
    )
    return took, peak_mb


def _watch(process: int, peaks: list[float]) -> None:
    """Look at the memory of a process until it has ended; whoever waits for its end is not held up."""
    while peak := _peak_mb(process):
        peaks.append(peak)
        time.sleep(0.02)


def _peak_mb(process: int) -> float:
    """The most memory a process has had so far; what the system tells at its end counts that of its parent too."""
    with contextlib.suppress(OSError):
        for line in Path(f"/proc/{process}/status").read_text().splitlines():
            if line.startswith("VmHWM:"):
                return int(line.split()[1]) / 1000
    return 0.0


def main() -> None:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        os.environ["BOXKITE_CACHE"] = str(folder / "memory")
        os.environ["BOXKITE_STATE"] = str(folder / "state")
        write_long(folder / "reel0.mov")
        for number in range(1, 10):
            os.link(folder / "reel0.mov", folder / f"reel{number}.mov")
        names = ("--names", "@keyword/@clip_@(marker:slug)_@(count:000001)")
        planned(folder, 1, *names)
        short, _ = min(planned(folder, 1, *names) for _ in range(3))
        planned(folder, 1, *names, "--json")
        long, _ = planned(folder, 10, *names)
        print(f"ten times the shots take {long / short:.1f} times as long", flush=True)


if __name__ == "__main__":
    main()
