"""Every step of every command, each kind of fault: python -m tests.faults.everything [SCENARIO …] [--every N]."""

from __future__ import annotations

import argparse
import multiprocessing
import sys
import tempfile
import time
from pathlib import Path

import tests.conftest  # noqa: F401  what is remembered lies in folders of its own
from tests.faults.harness import FAULTS, Trial
from tests.faults.scenarios import SCENARIOS


def one(unit: tuple[str, str, int]) -> tuple[str, int, list[str]]:
    """Stop one command at every so manyth of its steps by one kind of fault; what to say, how often, what was wrong."""
    name, fault, every = unit
    scenario = next(one for one in SCENARIOS if one.name == name)
    begun, wrong, count = time.monotonic(), [], 0
    with tempfile.TemporaryDirectory() as folder:
        trial = Trial(scenario, Path(folder).resolve() / "work")
        for at in trial.points(every):
            count += 1
            wrong += trial.disturbed(at, FAULTS[fault], onward=fault == "ENOSPC")
        steps = trial.steps
    took = time.monotonic() - begun
    return f"{name}, {fault}: {steps} steps, {count} tries, {len(wrong)} wrong, {took:.0f} s", count, wrong


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("scenarios", nargs="*")
    parser.add_argument("--every", type=int, default=1)
    parser.add_argument("--faults", default=",".join(FAULTS))
    asked = parser.parse_args()
    names = [one.name for one in SCENARIOS if not asked.scenarios or one.name in asked.scenarios]
    units = [(name, fault, asked.every) for fault in asked.faults.split(",") for name in names]
    tried = bad = 0
    with multiprocessing.Pool(2) as pool:
        for message, count, wrong in pool.imap_unordered(one, units):
            tried, bad = tried + count, bad + len(wrong)
            print(*wrong, message, sep="\n", flush=True)
    print(f"{tried} tries, {bad} wrong")
    return int(bool(bad))


if __name__ == "__main__":
    sys.exit(main())
