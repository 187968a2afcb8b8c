"""Clips that nobody here made, through the installed program: python -m tests.real.everything FOLDER [--large] [NAME…].

Fetches them where they are missing. Each is made with `web`, `copy` and `frames-jpeg`, and every frame is compared with
what the bare codec library decodes, told not to guess how far H.264 reorders; of some that move, frames are put out of
order, which `verify --deep` has to name. Exit status 1 where a frame differs, a fault is not named, or a clip that the
library reads is refused.
"""

from __future__ import annotations

import argparse
import json
import shutil
import subprocess
import sys
import tempfile
from collections import Counter
from concurrent.futures import ThreadPoolExecutor
from fractions import Fraction
from pathlib import Path

import tests.conftest  # noqa: F401  what is remembered lies in folders of its own
from tests.real.cuts import try_cuts
from tests.real.faults import try_faults
from tests.real.fetching import fetch
from tests.real.frames import Decoded, decode, differs

PRESETS = ("web", "copy", "frames-jpeg")
MIDDLE = "copy of the middle"
"""A third of it, from keyframe to keyframe."""
CUTS = "cuts"
"""Frames of spans at random."""
FAULTS = "faults"
"""Frames put out of order, and whether they are named."""
LEAST_CLIPS = 100
LEAST_FRAMES = 9
"""Of a clip of which the middle is copied."""
REFUSED = 2
"""Exit status where nothing was written."""
BOXKITE = (sys.executable, "-m", "boxkite")


def try_clip(clip: Path) -> tuple[Path, dict[str, str]]:
    """The outcome of each preset: same, or what is wrong, or why it is refused; empty where nothing is to be made."""
    wanted = decode(clip)
    if wanted is None:
        return clip, {}
    with tempfile.TemporaryDirectory() as folder:
        outcomes = {preset: _try(clip, preset, Path(folder), wanted) for preset in PRESETS}
        outcomes[MIDDLE] = _try_middle(clip, Path(folder), wanted)
    for name, wrong in ((CUTS, try_cuts(clip)), (FAULTS, try_faults(clip))):
        outcomes[name] = f"WRONG: {wrong}" if wrong else "same"
    return clip, outcomes


def _try(clip: Path, preset: str, folder: Path, wanted: Decoded) -> str:
    out = folder / preset
    command = [
        *BOXKITE,
        "run",
        str(clip),
        "--by",
        "files",
        "--to",
        f"{preset}:{out}",
        "--accept-gaps",
        "--json",
    ]
    try:
        done = subprocess.run(command, capture_output=True, text=True, timeout=900, check=False)
    except subprocess.TimeoutExpired:
        return "WRONG: not done after 15 minutes"
    if "Traceback" in done.stderr:
        return f"WRONG: {done.stderr[-300:]}"
    if done.returncode:
        reason = _reason(done.stdout, done.stderr)
        return f"{'refused' if wanted.is_clean else 'refused, damaged'}: {reason}"
    row = json.loads(done.stdout)["files"][0]
    rate = Fraction(row["rate"]) if "rate" in row else Fraction(25)
    made = _decode_images(Path(row["path"])) if preset == "frames-jpeg" else decode(Path(row["path"]))
    shutil.rmtree(out)
    if made is None:
        return "WRONG: the library does not read what was made"
    if preset == "copy":
        same = made.digests == wanted.digests
        return (
            "same"
            if same
            else f"WRONG: {len(made.digests)} frames, not the {len(wanted.digests)} of the source"
        )
    difference = differs(wanted, made, rate)
    return f"WRONG: {difference}" if difference else "same"


def _try_middle(clip: Path, folder: Path, wanted: Decoded) -> str:
    """What is wrong with a copy of its middle; a file that cannot be copied so is refused, and that is all right."""
    count = len(wanted.digests)
    if count < LEAST_FRAMES or not wanted.is_clean:
        return "same"
    marks = folder / "middle.csv"
    marks.write_text(f"name,in,out\nmiddle,{count // 3},{count * 2 // 3}\n")
    command = [*BOXKITE, "run", str(clip), "--by", "ranges", "--marks", str(marks), "--to", f"copy:{folder / 'middle'}",
               "--names", "middle", "--accept-gaps", "--json"]  # fmt: skip
    done = subprocess.run(command, capture_output=True, text=True, timeout=900, check=False)
    if "Traceback" in done.stderr:
        return f"WRONG: {done.stderr[-300:]}"
    if done.returncode:
        refused = "not copied" if done.returncode == REFUSED else "WRONG"
        return f"{refused}: {_reason(done.stdout, done.stderr)}"
    row = json.loads(done.stdout)["files"][0]
    made = decode(Path(row["path"]))
    if made is None:
        return "WRONG: the library does not read what was made"
    places = range(len(wanted.digests) - len(made.digests) + 1)
    if not any(wanted.digests[place : place + len(made.digests)] == made.digests for place in places):
        return f"WRONG: {len(made.digests)} frames that do not follow each other in the source"
    is_constant = len(made.digests) == row["out_frame"] - row["in_frame"]
    if is_constant and made.digests != wanted.digests[row["in_frame"] : row["out_frame"]]:
        return f"WRONG: not the frames from {row['in_frame']} to {row['out_frame']}"
    return "same"


def _reason(out: str, err: str) -> str:
    if out.startswith("{"):
        failed = [row.get("failure") or "" for row in json.loads(out).get("files", [])]
        if any(failed):
            return " ".join(str(one) for one in failed)
    return " ".join(line for line in err.splitlines() if line.strip())[:200]


def _decode_images(folder: Path) -> Decoded:
    made = Decoded()
    for image in sorted(folder.iterdir()):
        one = decode(image)
        if one:
            made.thumbnails += one.thumbnails
            made.digests += one.digests
            made.seconds += [None]
    return made


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("folder", type=Path)
    parser.add_argument("names", nargs="*", help="only clips with one of these in their path")
    parser.add_argument("--large", action="store_true", help="from packages of half a gigabyte, too")
    asked = parser.parse_intermixed_args()
    clips = fetch(asked.folder, large=asked.large)
    if asked.names:
        clips = [clip for clip in clips if any(name in str(clip) for name in asked.names)]
    counts: dict[str, Counter[str]] = {preset: Counter() for preset in (*PRESETS, MIDDLE, CUTS, FAULTS)}
    tried = bad = 0
    with ThreadPoolExecutor(2) as pool:
        for clip, outcomes in pool.map(try_clip, clips):
            tried += bool(outcomes)
            for preset, outcome in outcomes.items():
                counts[preset][outcome.partition(":")[0]] += 1
                if outcome != "same":
                    print(f"{tried} {clip.relative_to(asked.folder)} {preset} {outcome}", flush=True)
                bad += outcome.startswith(("WRONG", "refused:"))
    for preset, count in counts.items():
        print(preset, ", ".join(f"{outcome} {number}" for outcome, number in count.most_common()))
    print(
        f"{tried} clips tried of {len(clips)}; the library finds no picture in the others, or too many frames"
    )
    if not asked.names and tried < LEAST_CLIPS:
        print(f"fewer than {LEAST_CLIPS} clips")
        return 1
    return int(bool(bad))


if __name__ == "__main__":
    sys.exit(main())
