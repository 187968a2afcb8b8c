"""The library's door: what is taken, what is refused and how that is said, and what no message of the core names."""

from __future__ import annotations

import ast
import errno
import re
import subprocess
import sys
from pathlib import Path

import pytest

import boxkite
from boxkite.core.batch import running
from boxkite.core.errors import setting, spoken
from boxkite.core.files import moving
from boxkite.core.files.partials import Partial
from boxkite.core.plan.rows import Row
from boxkite.core.timebase import FrameRate
from boxkite.demo.movies import Movie, write_movie
from boxkite.demo.pictures import VAT

ROOT = Path(boxkite.__file__).parent


@pytest.fixture
def film(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    monkeypatch.setenv("BOXKITE_STATE", str(tmp_path / "state"))
    monkeypatch.chdir(tmp_path)
    write_movie(Movie(tmp_path / "film.mov", 20, FrameRate.parse("25"), ((0, VAT),), width=96, height=64))
    (tmp_path / "picks.csv").write_text("name,in,out\ndip,0,8\nlift,8,18\n")
    return tmp_path / "film.mov"


@pytest.mark.parametrize("paths", ["film.mov", Path("film.mov"), ["film.mov"], (Path("film.mov"),)])
def test_texts_and_single_things_are_taken_where_paths_and_lists_are_meant(film: Path, paths) -> None:
    output = boxkite.Output("web", "out")
    job = boxkite.Job(paths, output if paths == "film.mov" else [output], marks=Path("picks.csv"), by=("ranges",),
                      handles=2, except_="name:lift", names="@marker")  # fmt: skip
    found = boxkite.plan(job)
    assert [(row.name, row.frames) for row in found.rows] == [("dip", 10)]
    assert job.options["except"] == ("name:lift",)
    assert boxkite.inspect(paths).sources[0].path.name == "film.mov"


@pytest.mark.parametrize(
    ("words", "says"),
    [
        (
            {"existing": "overwrite"},
            "existing: there is no “overwrite”, choose from stop, number, skip, replace",
        ),
        ({"by": ("marker",)}, "by: there is no “marker”"),
        ({"mark": "picks.csv"}, "did you mean marks"),
        ({"join": "yes"}, "true or false"),
        ({"names": "@nosuch"}, "there is no token"),
        ({"in_": "01:00:00"}, "in"),
        ({"start_timecode": "x"}, "x"),
    ],
)
def test_what_does_not_hold_is_refused_with_what_is_allowed(film: Path, words: dict, says: str) -> None:
    with pytest.raises(boxkite.RequestError) as caught:
        boxkite.plan(boxkite.Job(film, boxkite.Output("web", "out"), **words))
    assert says in str(caught.value) and "--" not in str(caught.value)
    assert not caught.value.hint or caught.value.hint in str(caught.value) or "\ue010" in caught.value.hint


def test_a_batch_tells_of_each_file_and_what_failed_is_resumed(film: Path, tmp_path: Path) -> None:
    job = boxkite.Job(film, boxkite.Output("web", tmp_path / "out"), marks="picks.csv", names="@marker")
    found = boxkite.plan(job)
    (tmp_path / "out").mkdir()
    (tmp_path / "out/lift.mp4").write_text("came meanwhile")
    heard: list[object] = []
    batch = boxkite.run(found, workers=1, progress=heard.append)
    assert [file.frames for file in batch.files] == [8, 0] and heard and not batch.is_complete
    assert "another file took its name" in batch.files[1].failure
    (tmp_path / "out/lift.mp4").unlink()
    again = boxkite.resume(batch.name)
    assert again.is_complete and [file.path.name for file in again.files] == ["lift.mp4"]
    with pytest.raises(boxkite.RecordsError, match="no batch is unfinished"):
        boxkite.resume()


def test_a_name_that_does_not_reach_the_disk_is_not_called_verified(
    film: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    sync, out = moving._sync, tmp_path / "out"

    def broken(path: Path) -> None:
        if path == out and [*out.glob("[!.]*")]:
            raise OSError(errno.EIO, "input/output error")
        sync(path)

    job = boxkite.Job(film, boxkite.Output("web", out), marks="picks.csv", names="@marker")
    with monkeypatch.context() as patch:
        patch.setattr(moving, "_sync", broken)
        failed = boxkite.run(boxkite.plan(job), workers=1)
    assert not failed.is_complete and {file.failure for file in failed.files} == {"input/output error"}
    again = boxkite.resume(failed.name)
    assert again.is_complete and {file.path.name for file in again.files} == {"dip.mp4", "lift.mp4"}


def test_a_name_given_just_before_a_kill_is_brought_to_the_disk(
    film: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    def killed(row: Row, _: object, partial: Partial) -> None:
        partial.path.rename(row.path)
        raise KeyboardInterrupt

    out, synced, sync = tmp_path / "out", list[Path](), moving._sync
    job = boxkite.Job(film, boxkite.Output("web", out), marks="picks.csv", names="@marker", only="marker:dip")
    with monkeypatch.context() as patch, pytest.raises(KeyboardInterrupt):
        patch.setattr(running, "named", killed)
        boxkite.run(boxkite.plan(job), workers=1)
    monkeypatch.setattr(moving, "_sync", lambda path: (synced.append(path), sync(path)))
    assert boxkite.resume().is_complete and out in synced and (out / "dip.mp4").is_file()


def test_no_message_of_the_core_names_an_option_of_the_command_line() -> None:
    option = re.compile(r"(^|[^-\w])--[a-z]")
    found = []
    for path in sorted((ROOT / "core").rglob("*.py")):
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.Constant) and isinstance(node.value, str) and option.search(node.value):
                found.append((path.name, node.value))
    assert found == []
    text = f"{setting('by')} files cuts nothing"
    assert (spoken(text), spoken(text, lambda name: f"--{name}")) == (
        "by files cuts nothing",
        "--by files cuts nothing",
    )


def test_a_strict_reader_of_types_finds_nothing_to_complain_of_in_the_script_of_the_page(
    tmp_path: Path,
) -> None:
    project = ROOT.parent.parent
    page = (project / "docs/library.md").read_text()
    (tmp_path / "script.py").write_text(page.split("```python\n")[1].split("```")[0])
    command = [
        sys.executable,
        "-m",
        "mypy",
        "--strict",
        "--no-error-summary",
        "--config-file",
        str(project / "pyproject.toml"),
        "--cache-dir",
        str(project / ".mypy_cache"),  # as `make lint` leaves it, which spares most of the work
        str(tmp_path / "script.py"),
    ]
    done = subprocess.run(command, cwd=project, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stdout
    assert (ROOT / "py.typed").is_file()
