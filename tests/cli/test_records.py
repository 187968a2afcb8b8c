"""The record of a batch moves to another machine, without secrets, with folders as they are called there."""

from __future__ import annotations

import json
import shutil
from pathlib import Path

import pytest

from boxkite.demo.movies import Movie, write_movie
from boxkite.demo.pictures import VAT
from tests.builders import RATE
from tests.verification import boxkite


@pytest.fixture
def moved(tmp_path: Path) -> Path:
    """A batch whose last step failed, saved; its folder then lies elsewhere, as on another machine."""
    here = tmp_path / "here"
    here.mkdir()
    write_movie(Movie(here / "mill.mov", 40, RATE, ((0, VAT),), width=160, height=90, timecode="10:00:00:00"))
    (here / "picks.csv").write_text("name,in,out\ndip,0,20\npress,20,40\n")
    (here / "job.toml").write_text(
        'paths = ["mill.mov"]\nby = ["ranges"]\nmarks = "picks.csv"\nnames = "@marker"\nto = ["web:out"]\n'
        '[[after]]\nstep = "catalogue"\ninto = "shots.csv"\n[[after]]\nstep = "send"\nto = ["sent"]\n'
    )
    (here / "sent").write_text("in the way")
    state = {"BOXKITE_STATE": str(tmp_path / "state1")}
    done = boxkite("run", "job.toml", cwd=here, env=state)
    assert done.status == 1 and "send failed" in done.out
    assert boxkite("records", "save", "last", "--into", "batch.json", cwd=here, env=state).status == 0
    status = boxkite("status", "last", "--json", cwd=here, env=state)
    (here / "status.json").write_text(status.out)
    (here / "sent").unlink()
    here.rename(tmp_path / "there")
    return tmp_path / "there"


def rules(there: Path, tmp_path: Path) -> dict[str, str]:
    """The state and the settings of the other machine, where the folder has another name."""
    settings = tmp_path / "settings.toml"
    settings.write_text(f'[[paths]]\nhere = "{there}"\nthere = "{tmp_path}/here"\n')
    return {"BOXKITE_STATE": str(tmp_path / "state2"), "BOXKITE_SETTINGS": str(settings)}


def test_a_batch_that_moved_is_verified_sent_and_resumed_there(moved: Path, tmp_path: Path) -> None:
    env = rules(moved, tmp_path)
    loaded = boxkite("records", "load", "batch.json", "--json", cwd=moved, env=env)
    assert loaded.status == 0 and loaded.json["taken_in"], loaded.err
    name = loaded.json["batch"]
    checked = boxkite("verify", name, "--deep", "--json", cwd=moved, env=env)
    assert checked.status == 0 and len(checked.json["files"]) == 2, checked.out
    assert all(
        one["quality"] for one in checked.json["files"]
    )  # compared with the source, as it is called here
    again = boxkite("resume", name, cwd=moved, env=env)
    assert again.status == 0 and "send" in again.out, again.out + again.err
    assert {path.name for path in (moved / "sent").iterdir()} == {"dip.mp4", "press.mp4", "shots.csv"}
    second = boxkite("records", "load", "batch.json", "--json", cwd=moved, env=env)
    assert second.status == 0 and not second.json["taken_in"] and second.json["batch"] == name
    kept = boxkite("status", name, "--json", cwd=moved, env=env).json
    assert [one["state"] for one in kept["after"]] == ["done", "done"]
    assert all(Path(one["path"]).is_relative_to(moved) for one in kept["files"])


def test_what_status_prints_is_enough_to_verify_and_send(moved: Path, tmp_path: Path) -> None:
    env = rules(moved, tmp_path)
    name = boxkite("records", "load", "status.json", "--json", cwd=moved, env=env).json["batch"]
    assert boxkite("verify", name, cwd=moved, env=env).status == 0
    assert boxkite("send", name, "sent", cwd=moved, env=env).status == 0
    assert {path.name for path in (moved / "sent").iterdir()} == {"dip.mp4", "press.mp4"}
    flipped = bytearray((moved / "out/dip.mp4").read_bytes())
    flipped[2000] ^= 1
    (moved / "out/dip.mp4").write_bytes(flipped)
    assert boxkite("verify", name, cwd=moved, env=env).status == 1


def test_a_name_that_is_taken_and_files_that_are_no_record(moved: Path, tmp_path: Path) -> None:
    env = rules(moved, tmp_path)
    shutil.copy(moved / "mill.mov", moved / "other.mov")
    own = boxkite("run", "other.mov", "--to", "copy:own", "--names", "@clip", cwd=moved, env=env)
    assert own.status == 0
    own_name = boxkite("status", "last", "--json", cwd=moved, env=env).json["batch"]
    content = json.loads((moved / "batch.json").read_text())
    name = boxkite("records", "load", "batch.json", "--json", cwd=moved, env=env).json["batch"]
    assert name == f"{content['value']['batch']['machine']}-{own_name}"
    third = boxkite("run", "other.mov", "--to", "copy:own3", "--names", "@clip", cwd=moved, env=env)
    assert third.status == 0  # its number comes after the others of the day
    for text in (
        "",
        "{}",
        "[1]",
        '{"batch": 1, "files": [], "machine": 2}',
        "x" * 100,
        (moved / "batch.json").read_text()[:500],
    ):
        (moved / "bad.json").write_text(text)
        refused = boxkite("records", "load", "bad.json", cwd=moved, env=env)
        assert refused.status == 2 and "bad.json" in refused.err and len(refused.err.splitlines()) <= 2, text
    assert boxkite("records", "save", "last", "--into", "bad.json", cwd=moved, env=env).status == 2


def test_the_address_of_a_web_hook_is_kept_nowhere(tmp_path: Path) -> None:
    write_movie(Movie(tmp_path / "mill.mov", 10, RATE, ((0, VAT),), width=160, height=90))
    words = ("--names", "@clip", "--to", "copy:out", "--web-hook", "http://127.0.0.1:9/token-5151")
    done = boxkite("run", "mill.mov", *words, cwd=tmp_path, env={"BOXKITE_STATE": str(tmp_path / "state")})
    assert done.status == 0 and "127.0.0.1" in done.out and "token-5151" not in done.out + done.err
    kept = [path.read_bytes() for path in (tmp_path / "state").rglob("*") if path.is_file()]
    assert kept and not any(b"token-5151" in content for content in kept)
