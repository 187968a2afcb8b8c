"""How much sooner one long shot is done by two workers, in chunks, than by one. Usage: chunks.py [SECONDS [PAIRS]]

One worker is the same command held on one core. Beside it, how much two bare processes on two cores make more than one:
where cores share what they compute with, that is less than twice.
"""

from __future__ import annotations

import os
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Sequence
from pathlib import Path

from material import write_grainy

BOXKITE = str(Path(sys.executable).with_name("boxkite"))
FLOOR = str(Path(__file__).with_name("floor.py"))
SECONDS, PAIRS = 120, 3


def seconds_of(commands: Sequence[Sequence[str]], cores: Sequence[set[int]]) -> float:
    """Until all of some commands are done, begun together, each on its cores."""
    usual = os.sched_getaffinity(0)
    started = time.monotonic()
    begun = []
    for words, own in zip(commands, cores, strict=True):
        os.sched_setaffinity(0, own)  # what is begun now stays on these
        begun.append(subprocess.Popen(words, stdout=subprocess.DEVNULL))
    os.sched_setaffinity(0, usual)
    statuses = [process.wait() for process in begun]
    assert not any(statuses)
    return time.monotonic() - started


def main() -> None:
    seconds, pairs = (*map(int, sys.argv[1:]), *(SECONDS, PAIRS)[len(sys.argv) - 1 :])
    first, second = sorted(os.sched_getaffinity(0))[:2]
    with tempfile.TemporaryDirectory() as place:
        os.environ["BOXKITE_STATE"] = os.environ["BOXKITE_CACHE"] = place
        film = Path(place) / "film.mov"
        write_grainy(film, seconds, 1280, 720)
        ratios, bare = [], []
        for pair in range(pairs):
            words = [BOXKITE, "run", str(film), "--by", "files", "--in-chunks", "--to"]
            one = seconds_of([[*words, f"web:{place}/one{pair}"]], [{first}])
            ratios.append(one / seconds_of([[*words, f"web:{place}/two{pair}"]], [{first, second}]))
            loops = [
                [sys.executable, FLOOR, "web", str(film), f"{place}/bare{number}.mp4", "1"]
                for number in (1, 2)
            ]
            alone = seconds_of(loops[:1], [{first}])
            bare.append(2 * alone / seconds_of(loops, [{first}, {second}]))
        spread = f"{min(ratios):.2f} to {max(ratios):.2f}"
        print(
            f"one shot of {seconds} s in chunks: two workers {statistics.median(ratios):.2f} × one ({spread});"
            f" two bare processes {statistics.median(bare):.2f} × one"
        )


if __name__ == "__main__":
    main()
