"""Whatever happens in the middle: nothing half-written bears a final name, and the rest goes on."""

from __future__ import annotations

import os
import shutil
import signal
import subprocess
import sys
import time
from pathlib import Path

import av
import pytest

from boxkite.core.timebase import FrameRate, Span
from boxkite.demo.movies import Movie, write_movie
from boxkite.demo.pictures import LOFT, VAT
from tests import wording
from tests.verification import PROGRAM, assert_holds, boxkite, frames_of

RATE = FrameRate.parse("25")
AT_MARKS = ("--by", "markers", "--marks", "marks.csv")


def hidden(folder: Path) -> list[str]:
    return [path.name for path in folder.rglob(".*")]


def start_run(folder: Path, out: Path, *words: str) -> subprocess.Popen[str]:
    """Start a run of the film to `stock`, to do something to it midway."""
    command = [PROGRAM, "run", "film.mov", *words, "--to", f"stock:{out}"]
    return subprocess.Popen(command, cwd=folder, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)


@pytest.fixture(scope="module")
def long_film(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("safety")
    write_movie(Movie(folder / "film.mov", 500, RATE, ((0, VAT), (250, LOFT)), width=640, height=360))
    (folder / "marks.csv").write_text("name,in\n" + "".join(f"s{n},{n * 100}\n" for n in range(5)))
    return folder


@pytest.mark.parametrize(("how", "status"), [(signal.SIGINT, 130), (signal.SIGTERM, 143)])
def test_ended_by_hand_or_by_the_system_only_complete_files_are_left(
    long_film: Path, how: int, status: int, tmp_path: Path
) -> None:
    process = start_run(long_film, tmp_path / "out", *AT_MARKS)
    while not hidden(tmp_path / "out"):
        time.sleep(0.02)
    process.send_signal(how)
    _, message = process.communicate(timeout=20)
    assert process.returncode == status and ("stopped" in message) == (how == signal.SIGINT), message
    assert ("boxkite resume 20" in message) == (how == signal.SIGINT), message
    assert hidden(tmp_path / "out") == []
    for path in (tmp_path / "out").glob("*.mov"):
        number = int(path.stem[1:])
        assert_holds(path, Span(number * 100, number * 100 + 100), RATE)


CLEANED_UP = """
import os, signal, sys, threading, time, types
from boxkite.cli.dispatch import run_command

start = threading.Thread.start

def slow_start(thread):  # as on a busy machine
    start(thread)
    time.sleep({slow})

threading.Thread.start = slow_start

class Closing:
    def __del__(self):
        os.kill(os.getpid(), {number})
        time.sleep(0.2)

def run(parsed):
    Closing()
    time.sleep(20)
    return 0

command = types.SimpleNamespace(__doc__="", EXAMPLES="", add_arguments=lambda parser: None, run=run)
sys.modules["boxkite.cli.closing_command"] = command
sys.exit(run_command("closing", []))
"""


@pytest.mark.parametrize(
    ("number", "slow", "status"),
    [(signal.SIGINT, 0, 130), (signal.SIGTERM, 0, 143), (signal.SIGTERM, 0.3, 143)],
)
def test_an_end_that_is_asked_for_while_something_is_cleaned_up_is_not_dropped(
    number: int, slow: float, status: int
) -> None:
    done = subprocess.run([sys.executable, "-c", CLEANED_UP.format(number=int(number), slow=slow)],
                          capture_output=True, text=True, timeout=15, check=False)  # fmt: skip
    assert done.returncode == status and "Traceback" not in done.stderr, done.stderr


@pytest.mark.parametrize(("deaths", "status"), [(1, 0), (100, 1)])
def test_a_worker_that_dies_costs_its_own_shot_one_more_attempt(
    long_film: Path, tmp_path: Path, deaths: int, status: int
) -> None:
    process = start_run(long_film, tmp_path, *AT_MARKS, "--workers", "1", "--only", "number:1-2")
    children = Path(f"/proc/{process.pid}/task/{process.pid}/children")
    while process.poll() is None and deaths and not (tmp_path / "s0.mov").exists():
        if hidden(tmp_path) and (workers := children.read_text().split()):
            os.kill(int(workers[0]), signal.SIGKILL)
            deaths -= 1
            while hidden(tmp_path):
                time.sleep(0.01)
        time.sleep(0.02)
    out, _ = process.communicate(timeout=60)
    assert process.returncode == status, out
    assert "again     s0.mov" in out and "signal 9" in out
    made = sorted(path.name for path in tmp_path.iterdir())
    assert made == (["s0.mov", "s1.mov"] if status == 0 else [])
    assert all(len(frames_of(tmp_path / name)) == 100 for name in made)


def test_damage_in_the_middle_fails_that_file_alone(tmp_path: Path) -> None:
    path = tmp_path / "film.mov"
    write_movie(Movie(path, 300, RATE, ((0, VAT),), width=640, height=360,
                      options={"preset": "ultrafast", "g": "50", "crf": "10"}, audio_tracks=0))  # fmt: skip
    with av.open(str(path)) as container:
        packets = [
            (packet.pts, packet.pos, packet.size) for packet in container.demux(video=0) if packet.size
        ]
    data = bytearray(path.read_bytes())
    for _pts, position, size in packets[120:125]:
        data[position + 12 : position + size] = os.urandom(size - 12)
    path.write_bytes(data)
    (tmp_path / "m.csv").write_text("name,in\na,0\nb,100\nc,200\n")
    done = boxkite(
        "run", "film.mov", "--by", "markers", "--marks", "m.csv", "--to", "web:w", "--json", cwd=tmp_path
    )
    assert done.status == 1, done.out
    states = {file["name"]: (file["state"], file["failure"]) for file in done.json["files"]}
    assert states["a"] == states["c"] == ("verified", None)
    assert states["b"][0] == "failed"
    assert "damaged" in states["b"][1] or "cannot be decoded" in states["b"][1]
    assert sorted(path.name for path in (tmp_path / "w").iterdir()) == ["a.mp4", "c.mp4"]


@pytest.mark.skipif(sys.platform != "linux" or os.geteuid() != 0, reason="needs the right to mount")
def test_a_full_disk_fails_in_words_and_leaves_nothing_half_made(long_film: Path, tmp_path: Path) -> None:
    volume = tmp_path / "small"
    volume.mkdir()
    if subprocess.run(["mount", "-t", "tmpfs", "-o", "size=5m", "tmpfs", volume], check=False).returncode:
        pytest.skip("no mounting here")
    try:
        words = [
            "run",
            "film.mov",
            "--by",
            "markers",
            "--marks",
            "marks.csv",
            "--to",
            f"stock:{volume / 'out'}",
        ]
        done = boxkite(*words, "--workers", "1", cwd=long_film)
        assert done.status == 1
        assert wording.DISK_FULL in done.out
        assert hidden(volume) == []
        for path in (volume / "out").iterdir():
            assert len(frames_of(path)) == 100
    finally:
        subprocess.run(["umount", volume], check=True)


def test_a_file_that_takes_the_name_meanwhile_is_not_overwritten(long_film: Path, tmp_path: Path) -> None:
    process = start_run(long_film, tmp_path, "--by", "files")
    while not hidden(tmp_path):
        time.sleep(0.02)
    (tmp_path / "film.mov").write_text("precious")
    out, _ = process.communicate(timeout=60)
    assert (process.returncode, wording.MEANWHILE in out) == (1, True)
    assert (tmp_path / "film.mov").read_text() == "precious"
    assert hidden(tmp_path) == []


def test_a_link_inside_the_output_folder_does_not_lead_out_of_it(long_film: Path, tmp_path: Path) -> None:
    (tmp_path / "out").mkdir()
    (tmp_path / "out" / "film").symlink_to(tmp_path)
    done = boxkite(
        "run",
        "film.mov",
        "--by",
        "files",
        "--names",
        "@clip/x",
        "--to",
        f"web:{tmp_path / 'out'}",
        cwd=long_film,
    )
    assert (done.status, wording.OUTSIDE_OUTPUT_FOLDER in done.err) == (2, True)
    shutil.rmtree(tmp_path / "out")


@pytest.mark.parametrize(
    ("before", "words", "said", "status"),
    [
        ("atexit.register(print, 'at the end')", ["--version"], ["boxkite", "at the end"], 0),
        ("threading.Thread(target=lambda: (time.sleep(0.3), print('after it'))).start()", ["--version"],
         ["boxkite", "after it"], 0),
        ("", ["plan", "nowhere.mov", "--to", "web:out"], ["", "no such file"], 2),
        ("", ["--to"], ["", "no option"], 2),
    ],
)  # fmt: skip
def test_the_program_ends_at_once_and_leaves_nothing_undone(
    before: str, words: list[str], said: list[str], status: int
) -> None:
    code = f"import atexit, sys, threading, time\n{before}\nsys.argv[1:] = {words!r}\n"
    code += "from boxkite.cli.main import program\nprogram()\nprint('never')\n"
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=False)
    assert done.returncode == status and "never" not in done.stdout
    output = done.stdout + done.stderr
    assert all(word in output for word in said) and "Traceback" not in output
