"""The whole round as one job: steps after the files are made, each done once, whatever happens in between."""

from __future__ import annotations

import json
import os
import random
import shutil
import signal
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

import pytest

from boxkite.core.job.file import job_schema
from tests.builders import write_day
from tests.verification import boxkite

KILLS = int(os.environ.get("BOXKITE_KILLS", "1"))
JOB = """
paths = ["day.otio"]
by = ["cuts"]
picture = "originals"
media = ["card"]
names = "@clip_@(count:01)"
handles = "30"
only = ["track:V1", "number:1-5"]
to = ["web:out"]
manifest = "mhl"
[[after]]
step = "verify"
deep = true
[[after]]
step = "contact-sheet"
into = "sheets/@(batch).png"
page = "screen"
[[after]]
step = "review-page"
into = "page"
[[after]]
step = "catalogue"
into = "shots.csv"
existing = "number"
[[after]]
step = "relink"
edit = "day.otio"
into = "there.otio"
[[after]]
step = "shot-folders"
into = "work"
[[after]]
step = "send"
to = ["client"]
"""
STEPS = ["manifest", "verify", "contact-sheet", "review-page", "catalogue", "relink", "shot-folders", "send"]


@pytest.fixture(scope="module")
def day(tmp_path_factory: pytest.TempPathFactory) -> Path:
    day = write_day(tmp_path_factory.mktemp("day"), (160, 90))
    (day / "mill.toml").write_text(JOB)
    return day


@pytest.fixture
def place(day: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """A copy of the day with a state of its own; the job lies here, and is run from elsewhere."""
    monkeypatch.setenv("BOXKITE_STATE", str(tmp_path / "state"))
    monkeypatch.setenv("BOXKITE_SETTINGS", str(tmp_path / "settings.toml"))
    (tmp_path / "settings.toml").write_text('[destinations.client]\nurl = "sent"\n')
    shutil.copytree(day, tmp_path / "day")
    return tmp_path / "day"


def made(place: Path) -> set[str]:
    """Everything a round leaves, with the time of day in names left out."""
    roots = ("out", "sheets", "page", "work", "sent", "shots.csv", "there.otio")
    paths = (path for root in roots for path in [place / root, *(place / root).rglob("*")])
    names = {path.relative_to(place).as_posix() for path in paths if path.is_symlink() or path.is_file()}
    return {name.partition("_out_")[0] + "_out" if name.endswith(".mhl") else name for name in names}


def after(place: Path) -> list[Any]:
    return [
        (one["step"], one["state"]) for one in boxkite("status", "last", "--json", cwd=place).json["after"]
    ]


def test_the_plan_lists_the_steps_and_a_run_does_them_in_order(place: Path, tmp_path: Path) -> None:
    (tmp_path / "settings.toml").write_text(f'[destinations.client]\nurl = "{place}/sent"\n')
    planned = boxkite("plan", place / "mill.toml", "--json", cwd=tmp_path)
    assert planned.status == 0, planned.err
    writes = {one["step"]: one["writes"] for one in planned.json["after"]}
    assert list(writes) == STEPS[1:] and writes["catalogue"] == [str(place / "shots.csv")]
    assert writes["send"] == ["client"] and not (place / "out").exists()
    done = boxkite("run", place / "mill.toml", cwd=tmp_path)
    assert done.status == 0, done.out + done.err
    said = [line.split(":")[0].split(" (")[0] for line in done.out.splitlines()[-len(STEPS) :]]
    assert said == STEPS and after(place) == [(kind, "done") for kind in STEPS]
    names = made(place)
    assert {"sent/shots.csv", "sent/there.otio", "page/index.html", "work/A-vat2/work-order.txt"} <= names
    assert not any(name.startswith("sent/work") for name in names)
    assert boxkite("resume", "last", cwd=tmp_path).status == 0 and made(place) == names


def test_a_step_that_fails_undoes_nothing_and_is_done_again_by_resume(place: Path, tmp_path: Path) -> None:
    (tmp_path / "settings.toml").write_text(f'[destinations.client]\nurl = "{place}/sent"\n')
    (place / "sent").write_text("a file is in the way")
    done = boxkite("run", place / "mill.toml", cwd=tmp_path)
    assert done.status == 1 and "send failed" in done.out and "boxkite resume" in done.out, done.out
    assert after(place) == [*((kind, "done") for kind in STEPS[:-1]), ("send", "failed")]
    assert boxkite("status", "last", cwd=place).status == 1
    before = {name for name in made(place) if name != "sent"}
    (place / "sent").unlink()
    again = boxkite("resume", cwd=tmp_path)
    assert again.status == 0 and "send" in again.out, again.out + again.err
    assert after(place)[-1] == ("send", "done") and before <= made(place)
    assert len(list((place / "out" / "ascmhl").glob("*.mhl"))) == 1


def test_what_a_step_cannot_be_is_said_before_anything_is_made(place: Path, tmp_path: Path) -> None:
    for step, says in [
        ('step = "contact-shet"\ninto = "a.pdf"', "contact-sheet"), ('step = "catalogue"', "needs into"),
        ('step = "catalogue"\ninto = "a.doc"', "a.doc"),
        ('step = "catalogue"\ninto = "a.csv"\ncolums = "x"', "columns"),
        ('step = "catalogue"\ninto = "a.csv"\ncolumns = "nope.toml"', "nope.toml"), ('into = "x"', "step ="),
        ('step = "send"\nto = ["https://mia:secret-7@h/x"]', "password"), ('step = "relink"\ninto = "x.mov"', ".otio"),
        ('step = "verify"\ndeep = "yes"', "true or false"), ('step = "catalogue"\ninto = "card"', "card"),
        ('step = "review-page"\ninto = "card"', "no review page"),
        ('step = "shot-folders"\ninto = "w"\ntree = "x"', "shots"),
        ('step = "contact-sheet"\ninto = "@(clip).pdf"', "no token “clip”"),
    ]:  # fmt: skip
        head = JOB.partition("[[after]]")[0]
        (place / "bad.toml").write_text(f"{head}[[after]]\n{step}\n")
        for command in ("plan", "run"):
            refused = boxkite(command, place / "bad.toml", cwd=tmp_path)
            assert refused.status == 2 and says in refused.err and "secret-7" not in refused.err, (
                step,
                refused.err,
            )
        assert not (place / "out").exists()
    assert "after" in job_schema()["properties"]


def test_a_round_that_is_killed_anywhere_is_finished_by_resume_with_everything_there_once(
    day: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    chance = random.Random(KILLS)
    program = str(Path(sys.executable).with_name("boxkite"))
    whole: set[str] = set()
    took = 0.0
    for attempt in range(KILLS + 1):
        place = tmp_path / f"day{attempt}"
        shutil.copytree(day, place)
        settings = tmp_path / f"settings{attempt}.toml"
        settings.write_text(f'[destinations.client]\nurl = "{place}/sent"\n')
        monkeypatch.setenv("BOXKITE_SETTINGS", str(settings))
        monkeypatch.setenv("BOXKITE_STATE", str(tmp_path / f"state{attempt}"))
        begun = time.monotonic()
        process = subprocess.Popen([program, "run", "mill.toml"], cwd=place, stdout=subprocess.DEVNULL,
                                   stderr=subprocess.DEVNULL, start_new_session=True)  # fmt: skip
        if not attempt:
            assert process.wait(60) == 0
            took = time.monotonic() - begun
            whole = made(place)
            continue
        time.sleep(took * chance.uniform(0.1, 1))
        try:
            os.killpg(process.pid, signal.SIGKILL)
        except ProcessLookupError:
            pass
        process.wait()
        has_batch = boxkite("status", "--json", cwd=place).json["batches"]
        done = boxkite(*(["resume", "last"] if has_batch else ["run", "mill.toml"]), cwd=place)
        assert done.status == 0, done.out + done.err
        assert made(place) == whole
        rows = (place / "shots.csv").read_text().splitlines()
        assert len(rows) == 6 and (place / "sent" / "shots.csv").read_text().splitlines() == rows
        assert json.loads((place / "there.otio").read_text())["OTIO_SCHEMA"].startswith("Timeline")


SMALL = """
by = ["files"]
names = "@clip"
to = ["copy:made"]
[[after]]
step = "catalogue"
into = "lists/@(batch).csv"
[[after]]
step = "send"
to = ["sent"]
"""


def test_a_watch_and_a_run_in_the_background_do_the_steps_of_each_batch(
    day: Path, place: Path, tmp_path: Path
) -> None:
    (place / "small.toml").write_text(SMALL)
    landing = place / "landing"
    for name in ("A-vat2.mov", "B-loft7.mov"):
        landing.mkdir(exist_ok=True)
        shutil.copy(day / "card" / name, landing)
        words = ("--job", place / "small.toml", "--settle", "0.2", "--every", "0.1", "--once")
        done = boxkite("watch", landing, *words, cwd=tmp_path)
        assert done.status == 0 and "catalogue" in done.out and "send" in done.out, done.out + done.err
    assert {path.name for path in (place / "sent").glob("*.mov")} == {"A-vat2.mov", "B-loft7.mov"}
    assert len(list((place / "lists").iterdir())) == 2
    begun = boxkite(
        "run",
        landing / "A-vat2.mov",
        place / "small.toml",
        "--names",
        "b-@clip",
        "--background",
        cwd=tmp_path,
    )
    assert begun.status == 0, begun.err
    until = time.monotonic() + 30
    while time.monotonic() < until and {state for _, state in after(place)} != {"done"}:
        time.sleep(0.1)
    assert (place / "sent" / "b-A-vat2.mov").is_file() and len(list((place / "lists").iterdir())) == 3


def test_a_name_that_a_failed_step_had_settled_on_is_nobodys_meanwhile(place: Path, tmp_path: Path) -> None:
    step = 'step = "relink"\ninto = "shots.otio"\npreset = "nope"'
    (place / "job.toml").write_text(
        f'by = ["files"]\nnames = "@clip"\nto = ["copy:made"]\n[[after]]\n{step}\n'
    )
    failed = boxkite("run", place / "card" / "A-vat2.mov", place / "job.toml", cwd=tmp_path)
    assert failed.status == 1 and "relink failed" in failed.out, failed.out
    (place / "shots.otio").write_text("mine")
    again = boxkite("resume", cwd=tmp_path)
    assert again.status == 1 and "exists already" in again.out, again.out
    assert (place / "shots.otio").read_text() == "mine"
