"""Batches that are killed, stopped, left alone or run short: what is verified stays, the rest is made, all alike."""

from __future__ import annotations

import http.server
import json
import os
import random
import shutil
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from boxkite.core.records.overview import overviews
from boxkite.core.records.store import Records
from boxkite.core.timebase import FrameRate
from boxkite.demo.movies import Movie, write_movie
from boxkite.demo.pictures import LOFT, VAT
from tests import wording
from tests.verification import PROGRAM, Run, boxkite, decoded_hash, frames_of

RATE = FrameRate.parse("25")
SHOTS = 6
KILLS = int(os.environ.get("BOXKITE_KILLS", "4"))
OUTPUTS = ("--to", "web:{out}/web", "--to", "stock:{out}/stock", "--set", "web.fit=320x180",
           "--set", "stock.fit=320x180")  # fmt: skip


@pytest.fixture(scope="module")
def film(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("batches")
    write_movie(Movie(folder / "film.mov", 300, RATE, ((0, VAT), (150, LOFT)), width=640, height=360))
    lengths = (70, 60, 60, 50, 40, 20)
    starts = [sum(lengths[:number]) for number in range(SHOTS)]
    lines = [f"s{number},{start}\n" for number, start in enumerate(starts)]
    (folder / "marks.csv").write_text("name,in\n" + "".join(lines))
    return folder


@pytest.fixture
def state(tmp_path: Path) -> dict[str, str]:
    """An environment with records of its own."""
    return {**os.environ, "BOXKITE_STATE": str(tmp_path / "state")}


def words(film: Path, out: Path) -> list[str]:
    return [
        *("run", str(film / "film.mov"), "--by", "markers", "--marks", str(film / "marks.csv")),
        *(word.format(out=out) for word in OUTPUTS),
    ]


def files_in(out: Path) -> dict[str, str]:
    """Every file below a folder, with the hash of all its pictures."""
    return {str(path.relative_to(out)): decoded_hash(path) for path in out.rglob("*") if path.is_file()}


@pytest.fixture(scope="module")
def undisturbed(film: Path, tmp_path_factory: pytest.TempPathFactory) -> dict[str, str]:
    out = tmp_path_factory.mktemp("undisturbed")
    done = boxkite(*words(film, out))
    assert done.status == 0, done.err
    made = files_in(out)
    assert len(made) == 2 * SHOTS
    return made


@pytest.mark.skipif("BOXKITE_EVERY_CODEC" not in os.environ, reason="in make codecs")
def test_frames_do_not_depend_on_memory_contents(
    film: Path, undisturbed: dict[str, str], tmp_path: Path
) -> None:
    """Of 320 pixels, which are 20 macroblocks: an encoder's code for blocks of 8 or 16 must not read on."""
    environment = {**os.environ, "MALLOC_PERTURB_": "170"}
    done = subprocess.run(
        [PROGRAM, *words(film, tmp_path)], env=environment, capture_output=True, check=False
    )
    assert done.returncode == 0, done.stderr
    assert files_in(tmp_path) == undisturbed


def status(state: dict[str, str], *more: str) -> dict:
    return boxkite("status", *(more or ("last", "--files")), "--json", env=state).json


def test_killed_at_random_instants_every_resume_ends_with_the_same_frames(
    film: Path, undisturbed: dict[str, str], tmp_path: Path, state: dict[str, str]
) -> None:
    """The kills are spread over several batches, so that they meet every part of one."""
    chance, kills, batches = random.Random(6), 0, 0
    while kills < KILLS:
        out = tmp_path / f"out{batches}"
        command = words(film, out)
        batches += 1
        verified_before: dict[Path, int] = {}
        while kills < KILLS:
            process = subprocess.Popen(
                [PROGRAM, *command], env=state, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE
            )
            try:
                process.wait(timeout=chance.uniform(0.3, 2.6))
            except subprocess.TimeoutExpired:
                process.send_signal(signal.SIGKILL)
                kills += 1
            _, message = process.communicate()
            assert b"Traceback" not in message, message
            named = {path: path.stat().st_ino for path in out.rglob("s*.m*")}
            assert verified_before.items() <= named.items(), "a verified file was made again"
            verified_before = named
            if process.returncode == 0:
                break
            assert process.returncode == -signal.SIGKILL, message
            with Records(tmp_path / "state") as records:
                newest = overviews(records, latest=1)
            if newest and out / "web" in newest[0].folders:
                command = ["resume", newest[0].name]
        else:
            last = boxkite(*command, env=state)
            assert last.status == 0, last.err
        assert files_in(out) == undisturbed
    assert all(one["state"] == "all verified" for one in status(state, "--all")["batches"])


def start(state: dict[str, str], *more: str | Path) -> subprocess.Popen[str]:
    return subprocess.Popen(
        [PROGRAM, *map(str, more)], env=state, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True
    )


def wait_for(truth, seconds: float = 30.0) -> None:
    patience = time.monotonic() + seconds
    while not truth():
        assert time.monotonic() < patience
        time.sleep(0.02)


def test_stopped_after_the_current_files_and_gone_on_with_in_the_background(
    film: Path, undisturbed: dict[str, str], tmp_path: Path, state: dict[str, str]
) -> None:
    out = tmp_path / "out"
    process = start(state, *words(film, out))
    wait_for(lambda: any(out.rglob("s*.m*")))
    stopped = boxkite("stop", env=state)
    message = process.communicate(timeout=30)
    assert (stopped.status, process.returncode) == (0, 130), (stopped.err, message)
    assert "boxkite resume" in message[0]
    first = status(state)
    assert first["state"] == "stopped" and 2 <= first["verified"] < 2 * SHOTS and first["failed"] == 0
    assert {file["state"] for file in first["files"]} == {"verified", "planned"}
    refused = boxkite("stop", env=state)
    assert (refused.status, wording.NO_BATCH_RUNS in refused.err) == (2, True)
    gone_on = boxkite("resume", "--background", env=state)
    assert gone_on.status == 0, gone_on.err
    followed = boxkite("status", "last", "--follow", "--json", env=state)
    states = [json.loads(line) for line in followed.out.splitlines()]
    assert states[-1]["state"] == "all verified" and states[0]["running"]
    assert files_in(out) == undisturbed
    nothing = boxkite("resume", env=state)
    assert (nothing.status, wording.NONE_UNFINISHED in nothing.err) == (2, True)
    log = boxkite("log", "last", "s0.mp4", env=state).out
    assert log.count("verified") == 1 and "started" in log
    assert boxkite("forget", "last", env=state).status == 0
    assert status(state, "--all")["batches"] == [] and len(files_in(out)) == 2 * SHOTS


def test_stopped_at_once_leaves_nothing_half_made(film: Path, tmp_path: Path, state: dict[str, str]) -> None:
    out = tmp_path / "out"
    process = start(state, *words(film, out))
    wait_for(lambda: any(out.rglob(".boxkite-*")))
    assert boxkite("stop", "--now", env=state).status == 0
    process.communicate(timeout=10)
    assert process.returncode == 130
    assert not list(out.rglob(".*"))
    assert {file["state"] for file in status(state)["files"]} <= {"verified", "planned"}


def test_a_second_batch_waits_for_its_turn_or_shares(
    film: Path, tmp_path: Path, state: dict[str, str]
) -> None:
    some = ("--only", "number:1-3")
    first = start(state, *words(film, tmp_path / "a"), *some)
    wait_for(lambda: any((tmp_path / "a").rglob(".boxkite-*")))
    waiting = start(state, *words(film, tmp_path / "b"), *some)
    sharing = start(state, *words(film, tmp_path / "c"), *some, "--turn", "share")
    wait_for(lambda: any((tmp_path / "c").rglob(".boxkite-*")))
    assert first.poll() is None and not (tmp_path / "b").exists()
    for process in (first, waiting, sharing):
        out, err = process.communicate(timeout=90)
        assert process.returncode == 0, err
        assert (wording.WAITING_FOR_BATCH in out) == (process is waiting)
    ends = {one["batch"]: one for one in status(state, "--all")["batches"]}
    assert [ends[name]["state"] for name in sorted(ends)] == ["all verified"] * 3


@pytest.mark.skipif(sys.platform != "linux" or os.geteuid() != 0, reason="needs the right to mount")
def test_a_full_volume_holds_the_rest_and_room_lets_it_go_on(
    film: Path, undisturbed: dict[str, str], tmp_path: Path, state: dict[str, str]
) -> None:
    volume = tmp_path / "small"
    volume.mkdir()
    mount = ["mount", "-t", "tmpfs", "-o", "size=4m", "tmpfs", volume]
    if subprocess.run(mount, check=False).returncode:
        pytest.skip("no mounting here")
    try:
        out = volume / "out"
        done = boxkite(*words(film, out), env=state)
        assert done.status == 1 and "Traceback" not in done.err
        assert wording.MAKE_ROOM in done.out
        assert not list(out.rglob(".*"))
        full = status(state)
        assert 0 < full["verified"] < 2 * SHOTS
        again = boxkite("resume", env=state)
        assert again.status == 1 and not list(out.rglob(".*"))
        subprocess.run(["mount", "-o", "remount,size=200m", volume], check=True)
        done = boxkite("resume", env=state)
        assert done.status == 0, done.out
        assert files_in(out) == undisturbed
        made = {
            file["number"]: file["attempts"] for file in full["files"] if file["number"] in _verified(full)
        }
        assert made.items() <= {file["number"]: file["attempts"] for file in status(state)["files"]}.items()
    finally:
        subprocess.run(["umount", volume], check=True)


def _verified(message: dict) -> set[int]:
    return {file["number"] for file in message["files"] if file["state"] == "verified"}


def stopped_batch(film: Path, out: Path, state: dict[str, str]) -> Run:
    """A batch of which some files are made and some are not."""
    process = start(state, *words(film, out), "--workers", "1")
    wait_for(lambda: any(out.rglob("s*.m*")))
    process.kill()
    process.communicate()
    return boxkite("status", "last", "--json", env=state)


def test_what_has_changed_since_is_reported_and_not_mixed_in(
    film: Path, tmp_path: Path, state: dict[str, str]
) -> None:
    own = tmp_path / "own"
    shutil.copytree(film, own)
    out = tmp_path / "out"
    assert stopped_batch(own, out, state).json["state"] == "interrupted"
    (own / "film.mov").rename(own / "away.mov")
    gone = boxkite("resume", env=state)
    assert gone.status == 1 and wording.SOURCE_MISSING in gone.out
    (own / "away.mov").rename(own / "film.mov")
    os.utime(own / "film.mov", (1, 1))
    changed = boxkite("resume", env=state)
    assert changed.status == 1 and wording.SOURCE_CHANGED_SINCE in changed.out
    made = set(out.rglob("s*.m*"))
    lost = min(made)
    lost.unlink()
    accepted = boxkite("resume", "--accept-changes", env=state)
    assert accepted.status == 0, accepted.out
    assert f"1 file verified, and no longer there: {lost.name}" in accepted.out
    assert not lost.exists()
    assert boxkite("resume", "last", "--missing", "--accept-changes", env=state).status == 0
    assert len(files_in(out)) == 2 * SHOTS and frames_of(lost)
    out.rename(tmp_path / "unplugged")
    no_folder = boxkite("resume", "last", "--missing", env=state)
    assert (no_folder.status, wording.NO_LONGER_THERE in no_folder.err, out.exists()) == (2, True, False)


def test_a_failure_has_its_cause_in_one_line_and_its_detail_in_the_log(
    film: Path, tmp_path: Path, state: dict[str, str]
) -> None:
    own = tmp_path / "own"
    shutil.copytree(film, own)
    data = bytearray((own / "film.mov").read_bytes())
    data[len(data) // 2 : len(data) // 2 + 60_000] = random.Random(1).randbytes(60_000)
    (own / "film.mov").write_bytes(data)
    begun = boxkite(*words(own, tmp_path / "out"), "--background", "--json", env=state)
    assert begun.status == 0, begun.err
    boxkite("status", "last", "--follow", env=state)
    shown = boxkite("status", "last", env=state)
    assert shown.status == 1 and "failed" in shown.out
    failures = [file for file in status(state)["files"] if file["state"] == "failed"]
    assert failures and all(file["failure"] and "\n" not in file["failure"] for file in failures)
    detail = boxkite("log", "--errors", env=state).out
    assert "| at boxkite/core/render/" in detail and failures[0]["name"] in detail
    entries = [json.loads(line) for line in boxkite("log", "--json", env=state).out.splitlines()]
    assert {entry["kind"] for entry in entries} >= {"state", "detail"}


@pytest.fixture
def hook() -> Iterator[tuple[str, list[dict]]]:
    """A server that takes what is posted to it, and refuses the first time."""
    heard: list[dict] = []

    class Hook(http.server.BaseHTTPRequestHandler):
        def do_POST(self) -> None:
            heard.append(json.loads(self.rfile.read(int(self.headers["Content-Length"]))))
            self.send_response(503 if len(heard) == 1 else 204)
            self.end_headers()

        def log_message(self, *_: object) -> None:
            pass

    server = http.server.HTTPServer(("127.0.0.1", 0), Hook)
    thread = threading.Thread(target=server.serve_forever)
    thread.start()
    yield f"http://127.0.0.1:{server.server_port}/done", heard
    server.shutdown()
    thread.join()
    server.server_close()


def test_the_end_of_a_batch_is_told_to_a_command_and_to_a_web_hook(
    film: Path, tmp_path: Path, state: dict[str, str], hook: tuple[str, list[dict]]
) -> None:
    address, heard = hook
    note = tmp_path / "note"
    script = (
        f"import os, sys; open({str(note)!r}, 'w').write(os.environ['BOXKITE_STATE_NOW'] + sys.stdin.read())"
    )
    done = boxkite(
        *words(film, tmp_path / "out"), "--only", "number:5", "--web-hook", address,
        "--when-ended", f'{sys.executable} -c "{script}"', env=state,
    )  # fmt: skip
    assert done.status == 0, done.err
    assert [message["verified"] for message in heard] == [2, 2]
    assert note.read_text().startswith("all verified{")
    broken = boxkite(*words(film, tmp_path / "o2"), "--only", "number:5", "--when-ended", "false", env=state)
    assert broken.status == 0 and wording.NOTICE_FAILED in broken.out
    bad = boxkite(*words(film, tmp_path / "o3"), "--web-hook", "nowhere", env=state)
    assert (bad.status, wording.NO_WEB_ADDRESS in bad.err) == (2, True)
