"""Commands stopped before a step on disk or journal: a sample; `make faults` tries every step of every command."""

from __future__ import annotations

import random
import shutil
from pathlib import Path

import pytest

from tests.faults.harness import FAULTS, Trial
from tests.faults.scenarios import SCENARIOS

pytestmark = pytest.mark.skipif(not shutil.which("gcc"), reason="what counts the steps is made by gcc")
SAMPLE = {"run": 2, "replace": 2, "images replaced without exchange": 1, "gather": 2, "watch": 2, "rename": 4,
          "undo": 3, "trim": 2, "marks": 3, "presets": 3, "manifest": 2, "review page": 1, "send": 2}  # fmt: skip
"""How many of the steps of a command are tried."""


@pytest.mark.parametrize("name", SAMPLE)
def test_stopped_anywhere_nothing_is_lost_and_the_next_command_brings_it_to_its_end(
    name: str, tmp_path: Path
) -> None:
    trial = Trial(next(one for one in SCENARIOS if one.name == name), tmp_path / "work")
    chance = random.Random(name)
    wrong = []
    for at in sorted(chance.sample(range(trial.steps), SAMPLE[name])):
        wrong += trial.disturbed(at, FAULTS["kill"])
    for fault in ("EIO", "ENOSPC", "EACCES"):
        wrong += trial.disturbed(chance.randrange(trial.steps), FAULTS[fault], onward=fault == "ENOSPC")
    assert wrong == []


@pytest.mark.parametrize("name", ["run", "send"])
def test_what_the_disk_did_not_take_is_made_or_sent_anew(name: str, tmp_path: Path) -> None:
    """The system tells it once, to the one that waits for the file first."""
    trial = Trial(next(one for one in SCENARIOS if one.name == name), tmp_path / "work")
    steps = [line.split(" ", 2)[1:] for line in trial.log]
    syncs = [
        at
        for at, (kind, path) in enumerate(steps)
        if kind == "sync" and path.endswith((".partial", ".sending"))
    ]
    assert len(syncs) == 2
    assert [line for at in syncs for line in trial.disturbed(at, FAULTS["EIO"])] == []


def test_small_files_reach_the_disk_before_their_name_does(tmp_path: Path) -> None:
    """As a recording of the calls to the system shows."""
    trial = Trial(next(one for one in SCENARIOS if one.name == "marks"), tmp_path / "work")
    steps = [line.split(" ", 2)[1:] for line in trial.log if "marks.csv.lock" not in line]
    kinds = [kind for kind, path in steps]
    assert kinds[-4:] == ["chmod", "rename", "sync", "unlink"] or kinds[-3:] == ["chmod", "rename", "sync"], (
        steps
    )
    assert "sync" in kinds[: kinds.index("rename")] and kinds.index("write") < kinds.index("sync")
    assert steps[kinds.index("rename")][1] == "/card/marks.csv" and steps[kinds.index("rename") + 1] == [
        "sync",
        "/card",
    ]


def test_media_reach_the_disk_before_their_name_and_the_name_before_the_journal_says_so(
    tmp_path: Path,
) -> None:
    trial = Trial(next(one for one in SCENARIOS if one.name == "run"), tmp_path / "work")
    steps = [tuple(line.split(" ", 2)[1:]) for line in trial.log]
    named = next(
        place
        for place, (kind, path) in enumerate(steps)
        if kind == "rename" and path.startswith("/out/film_")
    )
    synced = [path for kind, path in steps[:named] if kind == "sync" and path.endswith(".partial")]
    assert synced and steps[named + 1] == ("sync", "/out")
    assert any(path.endswith("-wal") for _, path in steps[named + 2 :])
