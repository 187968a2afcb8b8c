"""A watched folder: each source that comes whole is made once, whatever happens; what never does is named."""

from __future__ import annotations

import json
import os
import random
import shutil
import signal
import subprocess
import threading
import time
from pathlib import Path

import pytest

from boxkite.core.arrival.arrivals import Settling, look_into
from boxkite.core.timebase import FrameRate
from boxkite.demo.movies import Movie, write_movie
from boxkite.demo.pictures import LOFT, draw_picture
from tests import wording
from tests.verification import PROGRAM, boxkite, frames_of

RATE = FrameRate.parse("25")
FILES = int(os.environ.get("BOXKITE_FILES", "13"))
TRUNCATED, RENAMED, RESTARTS = 3, 4, 3
SETTLE = ("--settle", "1.2", "--patience", "4", "--every", "0.2")


@pytest.fixture(scope="module")
def clip(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("clips")
    for name in ("clip.mov", "clip.mkv"):
        write_movie(Movie(folder / name, 20, RATE, ((0, LOFT),), width=320, height=180))
    return folder


@pytest.fixture
def place(tmp_path: Path) -> tuple[Path, Path, list[str], dict[str, str]]:
    """(watched folder, output folder, words of the command, environment)."""
    landing, out = tmp_path / "landing", tmp_path / "out"
    landing.mkdir()
    job = tmp_path / "job.toml"
    job.write_text(f'to = ["web:{out}"]\nby = ["files"]\nnames = "@clip"\n')
    env = {**os.environ, "BOXKITE_STATE": str(tmp_path / "state")}
    return landing, out, ["watch", str(landing), "--job", str(job), *SETTLE], env


def copy_slowly(source: Path, target: Path, seconds: float, share: float = 1.0) -> None:
    """Write a file in ten pieces; only a share of it where that is asked for."""
    data = source.read_bytes()
    data = data[: round(len(data) * share)]
    target.parent.mkdir(exist_ok=True)
    with target.open("wb", buffering=0) as file:
        for number in range(10):
            file.write(data[len(data) * number // 10 : len(data) * (number + 1) // 10])
            time.sleep(seconds / 10)


def test_files_of_all_fates_over_three_restarts_each_made_once(
    clip: Path, place: tuple[Path, Path, list[str], dict[str, str]]
) -> None:
    landing, out, words, env = place
    chance = random.Random(50)
    copies = []
    for number in range(FILES):
        kind = chance.choice(["mov", "mkv"])
        target = landing / ("card" if number % 3 else "") / f"f{number:02}.{kind}"
        seconds, share, hidden = chance.uniform(0.1, 6.0), 1.0, None
        if number < TRUNCATED:
            share = chance.uniform(0.3, 0.8)
        elif number < TRUNCATED + RENAMED:
            hidden = target.with_name(f"{target.name}.part")

        def bring(kind=kind, target=target, seconds=seconds, share=share, hidden=hidden) -> None:
            copy_slowly(clip / f"clip.{kind}", hidden or target, seconds, share)
            if hidden:
                hidden.rename(target)
            target.with_suffix(".xmp").write_text("<x/>")

        copies.append(threading.Thread(target=bring))
    for copy in copies:
        copy.start()
    for _ in range(RESTARTS):
        process = subprocess.Popen([PROGRAM, *words], env=env, stdout=subprocess.DEVNULL)
        time.sleep(chance.uniform(1.5, 3.0))
        process.send_signal(signal.SIGKILL)
        process.wait()
    for copy in copies:
        copy.join()
    last = boxkite(*words, "--once", env=env)
    assert last.status == 1, last.err
    whole = {f"f{number:02}.mp4" for number in range(TRUNCATED, FILES)}
    assert {path.name for path in out.iterdir()} == whole
    assert all(len(frames_of(path)) == 20 for path in sorted(out.iterdir())[::9])
    listed = json.loads(boxkite("watch", landing, "--list", "--json", env=env).out)["landed"]
    aside = {Path(one["path"]).stem: one["reason"] for one in listed if one["state"] == "set aside"}
    assert set(aside) == {f"f{number:02}" for number in range(TRUNCATED)}
    assert all("was never complete" in reason for reason in aside.values())
    batches = boxkite("status", "--all", "--json", env=env).json["batches"]
    assert sum(one["verified"] for one in batches) == sum(one["file_count"] for one in batches) == len(whole)
    again = boxkite(*words, "--once", env=env)
    assert (again.status, "begins" in again.out) == (0, False)
    truncated = next(landing.rglob("f00.*"))
    shutil.copy(clip / f"clip{truncated.suffix}", truncated)
    assert "verified  f00.mp4" in boxkite(*words, "--once", env=env).out


def test_a_sequence_is_taken_when_it_grows_no_more_and_one_that_changes_later_is_named(
    place: tuple[Path, Path, list[str], dict[str, str]],
) -> None:
    landing, out, words, env = place

    def grow(first: int, last: int) -> None:
        for number in range(first, last):
            picture = draw_picture(LOFT, 1, number, 320, 180)
            picture.to_image().save(landing / f"loft.{number:04}.png")
            time.sleep(0.15)

    growing = threading.Thread(target=grow, args=(1, 16))
    growing.start()
    made = boxkite(*words, "--once", env=env)
    growing.join()
    assert made.status == 0, made.out
    (film,) = out.iterdir()
    assert len(frames_of(film)) == 15
    grow(16, 18)
    late = boxkite(*words, "--once", env=env)
    assert late.status == 1 and wording.CHANGED_SINCE_TAKEN in late.out
    assert len(frames_of(film)) == 15


def test_what_a_job_cannot_be_made_of_is_refused_or_set_aside(
    clip: Path, place: tuple[Path, Path, list[str], dict[str, str]]
) -> None:
    landing, out, words, env = place
    inside = boxkite(*words, "--set", f"to=web:{landing}/out", env=env)
    assert (inside.status, wording.INSIDE_WATCHED_FOLDER in inside.err) == (2, True)
    no_job = boxkite("watch", landing, env=env)
    assert (no_job.status, wording.JOB_MISSING in no_job.err) == (2, True)
    out.mkdir()
    (out / "taken.mp4").write_text("precious")
    for name in ("taken.mov", "free.mov"):
        shutil.copy(clip / "clip.mov", landing / name)
    done = boxkite(*words, "--once", env=env)
    assert done.status == 1 and "set aside  taken.mov" in done.out and "verified  free.mp4" in done.out
    assert (out / "taken.mp4").read_text() == "precious"


def test_settling_counts_from_the_last_change_of_a_file_or_of_what_lies_beside_it(tmp_path: Path) -> None:
    now = [0.0]
    settling = Settling(lambda: now[0])
    (tmp_path / "a.mov").write_bytes(b"1")

    def still_for(seconds: float) -> float:
        now[0] += seconds
        (arrival,), _ = look_into(tmp_path)
        settling.seen([arrival])
        return settling.still_for(arrival)

    assert [still_for(1), still_for(5)] == [0, 5]
    (tmp_path / "a.mov").write_bytes(b"12")
    assert [still_for(1), still_for(2)] == [0, 2]
    (tmp_path / "a.xmp").write_bytes(b"1")
    assert [still_for(1), still_for(3)] == [0, 3]
    (tmp_path / "b.mov.part").write_bytes(b"1")
    (tmp_path / ".c.mov").write_bytes(b"1")
    assert still_for(1) == 4
