"""Exact cuts at random over sources of many codings: python -m tests.splices.everything [NAME…] [--cuts N].

Every file is decoded by the codec library in three ways, and by other decoders where GStreamer has them and they decode
the source itself exactly. Exit status 1 where a frame is missing, late, or not what it should be. Ends with a table of
how many were copied, spliced, or encoded whole, and why.
"""

from __future__ import annotations

import argparse
import json
import random
import subprocess
import sys
import tempfile
from collections import Counter
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

import tests.conftest  # noqa: F401  what is remembered lies in folders of its own
from tests.splices.comparing import (
    OTHER_DECODERS,
    Decoded,
    decode_elsewhere,
    digest,
    is_encoded_whole,
    wrong_in,
)
from tests.splices.sources import SOURCES, write_source


def try_source(unit: tuple[str, int, int]) -> tuple[str, Counter[str], list[str]]:
    """Cut one source at random; how its files were made and by whom they were checked, and what was wrong."""
    name, cuts, seed = unit
    chance, outcome = random.Random(f"{name} {seed}"), Counter[str]()
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        source = write_source(name, folder)
        wanted = Decoded.of(source)
        pairs = (sorted(chance.sample(range(len(wanted.frames) + 1), 2)) for _ in range(100 * cuts))
        least = 60 if source.suffix == ".ts" else 1  # which is not encoded here: a keyframe lies in each
        spans = [pair for pair in pairs if pair[1] - pair[0] >= least][:cuts]
        (folder / "marks.csv").write_text(
            "name,in,out\n" + "".join(f"c{place},{a},{b}\n" for place, (a, b) in enumerate(spans))
        )
        words = ("run", source.name, "--by", "ranges", "--marks", "marks.csv", "--names", "@marker", "--exact-cuts",
                 "--to", "copy:out", "--json")  # fmt: skip
        done = subprocess.run(
            (sys.executable, "-m", "boxkite", *words), check=False, cwd=folder, capture_output=True, text=True
        )
        if not done.stdout:
            return name, Counter(refused=cuts), [] if "cannot make" in done.stderr else [done.stderr]
        wrong, files = [], json.loads(done.stdout)["files"]
        sound = [
            one for one in OTHER_DECODERS if decode_elsewhere(source, one, folder / "raw") == digest(wanted)
        ]
        for file in files:
            span = spans[int(file["name"][1:])]
            whole = is_encoded_whole(file)
            outcome["encode" if whole else file["how"]] += 1
            found = [file["failure"]] if file.get("failure") else wrong_in(file, wanted.part(*span))
            if file["how"] == "splice" and not whole and not found:
                own = digest(Decoded.of(Path(file["path"])))
                for one in sound:
                    outcome[one] += 1
                    if decode_elsewhere(Path(file["path"]), one, folder / "raw") != own:
                        found.append(f"{one} shows other frames")
            reasons = [w["values"]["reason"] for w in file["warnings"] if w["kind"] == "encoded-not-copied"]
            outcome.update(f"because {reason}" for reason in reasons)
            wrong += [f"{name} {span}: {what}" for what in found]
    return name, outcome, wrong


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("names", nargs="*")
    parser.add_argument("--cuts", type=int, default=40)
    parser.add_argument("--seed", type=int, default=1)
    asked = parser.parse_args()
    units = [(name, asked.cuts, asked.seed) for name in asked.names or SOURCES]
    total, bad = Counter[str](), 0
    with ProcessPoolExecutor(2) as pool:
        for name, outcome, wrong in pool.map(try_source, units):
            total.update(outcome)
            bad += len(wrong)
            print(*wrong, f"{name}: {dict(outcome)}", sep="\n", flush=True)
    print(f"{dict(total)}; {bad} wrong")
    return int(bool(bad))


if __name__ == "__main__":
    sys.exit(main())
