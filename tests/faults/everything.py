"""Every step of every command, each kind of fault: python -m tests.faults.everything [SCENARIO …] [--every N]."""

from __future__ import annotations

import argparse
import sys
import tempfile
import time
from pathlib import Path

import tests.conftest  # noqa: F401  what is remembered lies in folders of its own
from tests.faults.harness import FAULTS, Trial
from tests.faults.scenarios import SCENARIOS


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("scenarios", nargs="*")
    parser.add_argument("--every", type=int, default=1)
    parser.add_argument("--faults", default=",".join(FAULTS))
    asked = parser.parse_args()
    tried = bad = 0
    for scenario in SCENARIOS:
        if asked.scenarios and scenario.name not in asked.scenarios:
            continue
        begun = time.monotonic()
        with tempfile.TemporaryDirectory() as folder:
            trial = Trial(scenario, Path(folder).resolve() / "work")
            count = wrong = 0
            for fault in asked.faults.split(","):
                for at in trial.points(asked.every):
                    count += 1
                    lines = trial.disturbed(at, FAULTS[fault], onward=fault == "ENOSPC")
                    wrong += bool(lines)
                    for line in lines:
                        print(line, flush=True)
        tried, bad = tried + count, bad + wrong
        took = time.monotonic() - begun
        print(f"{scenario.name}: {trial.steps} steps, {count} tries, {wrong} wrong, {took:.0f} s", flush=True)
    print(f"{tried} tries, {bad} wrong")
    return int(bool(bad))


if __name__ == "__main__":
    sys.exit(main())
