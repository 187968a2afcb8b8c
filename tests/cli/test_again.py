"""The second round: versions, what is there already, what changed since, counters that stay."""

from __future__ import annotations

import json
import os
import shutil
from pathlib import Path

import pytest

from boxkite.core.timebase import FrameRate, Span
from boxkite.demo.movies import Movie, write_movie
from boxkite.demo.pictures import VAT
from tests import wording
from tests.verification import Run, assert_holds, boxkite, kinds

RATE = FrameRate.parse("25")
RANGES = "name,in,out,scene\ndip,2,10,1\nlift,12,20,1\npress,20,28,2\n"


@pytest.fixture(scope="module")
def clip(tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = tmp_path_factory.mktemp("clip") / "vat.mov"
    write_movie(Movie(path, 40, RATE, ((0, VAT),), width=160, height=90, timecode="10:00:00:00"))
    return path


@pytest.fixture
def folder(clip: Path, tmp_path: Path) -> Path:
    (tmp_path / "vat.mov").write_bytes(clip.read_bytes())
    (tmp_path / "picks.csv").write_text(RANGES)
    return tmp_path


def ask(command: str, folder: Path, *words: str, names: str = "@marker", to: str = "web:out") -> Run:
    return boxkite(
        command, "vat.mov", "--marks", "picks.csv", "--names", names, "--to", to, *words, "--json", cwd=folder
    )


def names(run: Run) -> list[str]:
    assert run.status == 0, run.err
    return [Path(row["path"]).name for row in run.json.get("rows", run.json.get("files", []))]


def test_the_version_is_one_above_the_highest_in_any_of_the_folders(folder: Path) -> None:
    assert names(ask("run", folder, names="@marker_v@(version:00)"))[0] == "dip_v01.mp4"
    (folder / "other").mkdir()
    (folder / "other/lift_V07.mov").touch()
    again = ask("plan", folder, "--to", "review:other", names="@marker_v@(version:00)")
    assert set(names(again)) == {f"{name}_v08.mp4" for name in ("dip", "lift", "press")}
    assert again.json["version"] == 8
    assert names(ask("plan", folder, names="v@version/@marker"))[0] == "dip.mp4"
    given = ask("plan", folder, "--version-number", "30", names="@scene/v@version/@marker")
    assert given.json["rows"][0]["name"] == "1/v30/dip"


@pytest.mark.parametrize(
    ("pattern", "says"),
    [
        ("@marker@version", "put a character before"),
        ("@clip_v@version", "two"),
    ],
)
def test_a_name_bears_one_version_and_it_can_be_told(folder: Path, pattern: str, says: str) -> None:
    (folder / "vat.mov").rename(folder / "vat_v2.mov")
    words = ("vat_v2.mov", "--marks", "picks.csv", "--only", "number:1", "--to", "web:out")
    refused = boxkite("plan", *words, "--names", pattern, cwd=folder)
    assert refused.status == 2
    assert says in refused.err
    assert "column" in refused.err
    assert boxkite("plan", *words, "--names", "@(clip:unversioned)_v@version", cwd=folder).status == 0


def test_since_last_is_the_last_batch_of_the_same_sources_and_folders(folder: Path, tmp_path: Path) -> None:
    assert ask("run", folder).status == 0
    other = boxkite("run", folder / "vat.mov", "--by", "files", "--to", f"web:{tmp_path}/elsewhere")
    assert other.status == 0
    again = ask("plan", folder, "--since", "last").json
    assert again["rows"] == [] and len(again["left_out"]) == 3
    none = boxkite(
        "plan", folder / "vat.mov", "--by", "files", "--since", "last", "--to", f"web:{tmp_path}/new"
    )
    assert (none.status, "boxkite status" in none.err) == (2, True)


def test_counters_step_and_start_again_where_they_are_told_to(folder: Path) -> None:
    def numbered(form: str) -> list[str]:
        return [row["name"] for row in ask("plan", folder, names=form).json["rows"]]

    assert numbered("@marker_@(count:000:from10:step10)") == ["dip_010", "lift_020", "press_030"]
    assert numbered("@marker_@(count:01:per scene)") == ["dip_01", "lift_02", "press_01"]
    assert numbered("s@scene/@(count:1:per subfolder)") == ["s1/1", "s1/2", "s2/1"]
    assert numbered("x[_@again]") == ["x", "x_2", "x_3"]
    assert numbered("[s@scene/]X[-@(again:00)]")[:2] == ["s1/X", "s1/X-02"]
    assert numbered("f[_@again]/@scene@(count:0:per subfolder)") == ["f/11", "f/12", "f/23"]
    for digits, spellings in (("03", ("000 gives", "from3 begins")), ("10", ("00 gives", "from10 begins"))):
        refused = ask("plan", folder, names=f"@marker_@(count:{digits})")
        assert refused.status == 2 and all(spelling in refused.err for spelling in spellings), refused.err
    wrong = ask("plan", folder, names="@marker_@(count:per shott)")
    assert wrong.status == 2
    assert "^ column 11" in wrong.err


def test_what_is_there_stops_numbers_is_kept_or_is_replaced_as_asked(folder: Path) -> None:
    assert ask("run", folder).status == 0
    first = (folder / "out/dip.mp4").read_bytes()
    stopped = ask("run", folder)
    assert stopped.status == 2
    assert "--existing" in stopped.err
    assert names(ask("plan", folder, "--existing", "number")) == ["dip_2.mp4", "lift_2.mp4", "press_2.mp4"]
    (folder / "out/lift.mp4").unlink()
    kept = ask("run", folder, "--existing", "skip")
    assert [(file["name"], file["state"]) for file in kept.json["files"]] == [
        ("dip", "kept"), ("lift", "verified"), ("press", "kept")]  # fmt: skip
    assert (folder / "out/dip.mp4").read_bytes() == first
    (folder / "out/press.mp4").write_bytes(b"something else")
    changed = ask("plan", folder, "--existing", "skip", "--set", "video.quality=30")
    assert changed.status == 2
    assert "dip.mp4: it was made by another preset" in changed.err
    assert "press.mp4: it was made by another preset" in changed.err
    assert "has been changed since it was made" in ask("plan", folder, "--existing", "skip").err
    (folder / "out/DIP.mp4").write_bytes(b"of another case")
    refused = ask("run", folder, "--existing", "replace")
    assert refused.status == 2 and "press.mp4: it has been changed since a batch made it" in refused.err
    assert (folder / "out/dip.mp4").read_bytes() == first
    asked = ("--names", "@marker", "--to", "web:out", "--existing", "replace", "--replace-others")
    planned = boxkite("plan", "vat.mov", "--marks", "picks.csv", *asked, cwd=folder)
    assert f"replaces {folder / 'out/press.mp4'}, which no batch on record made" in planned.out
    assert f"replaces {folder / 'out/dip.mp4'}\n" in planned.out
    replaced = ask("run", folder, "--existing", "replace", "--replace-others")
    assert replaced.status == 0, replaced.err
    there = sorted(path.name for path in (folder / "out").iterdir())
    assert there == ["DIP.mp4", "dip.mp4", "lift.mp4", "press.mp4"]
    assert (folder / "out/DIP.mp4").read_bytes() == b"of another case"
    assert_holds(folder / "out/press.mp4", Span(20, 28), RATE, sample_slack=1024)


def test_nothing_that_the_plan_reads_is_ever_replaced(folder: Path) -> None:
    (folder / "two").mkdir()
    shutil.copy(folder / "vat.mov", folder / "two/loft.mov")
    (folder / "loft.mov").symlink_to("two/loft.mov")
    shutil.copytree(folder / "two", folder / "film/inner")
    before = {path: path.read_bytes() for path in folder.rglob("*.mov")}
    replacing = ("--existing", "replace", "--replace-others")
    tries = (
        ("vat.mov", "--names", "@clip", "--to", "stock:."),  # its own source
        ("vat.mov", "two", "--names", "@(source)x", "--to", "stock:two"),
        ("two/loft.mov", "vat.mov", "--names", "@clip", "--to", "stock:two"),  # the source of another row
        ("vat.mov", "--names", "loft", "--to", "stock:."),  # a link
        ("film/inner/loft.mov", "--names", "inner", "--to", "frames-jpeg:film"),  # a folder with originals
        ("vat.mov", "--names", "picks", "--to", "frames-jpeg:two/.."),
    )
    for words in tries:
        done = boxkite("run", *words, *replacing, cwd=folder)
        assert {path: path.read_bytes() for path in before} == before, words
        assert done.status == 2 or not any("replaces" in line for line in done.out.splitlines()), done
    assert "the plan reads it" in boxkite("run", *tries[0], *replacing, cwd=folder).err
    assert "two/loft.mov: the plan reads it" in boxkite("run", *tries[2], *replacing, cwd=folder).err


def test_two_shots_of_one_name_are_numbered_only_when_that_was_asked_for(folder: Path) -> None:
    (folder / "picks.csv").write_text("name,in,out\ndip,2,10\nDIP,12,20\n")
    assert "but for case" in ask("plan", folder).err
    assert names(ask("plan", folder, "--existing", "number")) == ["dip.mp4", "DIP_2.mp4"]


def test_since_a_batch_only_what_is_new_or_changed_is_made_and_what_is_gone_is_reported(folder: Path) -> None:
    batch = ask("run", folder, names="@marker_v@version").json["batch"]
    (folder / "picks.csv").write_text("name,in,out,scene\ndip,2,10,1\nlift,12,22,1\nhang,30,36,3\n")
    asked = ask("plan", folder, "--since", batch, names="@marker_v@version").json
    assert [(row["name"], row["change"]) for row in asked["rows"]] == [
        ("lift_v2", "changed: was 10:00:00:12 to 10:00:00:20"), ("hang_v2", "new")]  # fmt: skip
    assert [Path(one["path"]).name for one in asked["gone"]] == ["press_v1.mp4"]
    assert [(one["reason"]["kind"], one["reason"]["values"]) for one in asked["left_out"]] == [
        ("unchanged", {"batch": batch})
    ]
    made = ask("run", folder, "--since", batch, names="@marker_v@version")
    assert names(made) == ["lift_v2.mp4", "hang_v2.mp4"]
    again = ["--marks", "picks.csv", "--names", "@marker_v@version", "--to", "web:out", "--since", "last"]
    (folder / "picks.csv").write_text("name,in,out,scene\nlift,12,22,1\nhang,30,36,3\n")
    nothing = boxkite("run", "vat.mov", *again, cwd=folder)
    assert (nothing.status, wording.NOTHING_TO_DO in nothing.out) == (0, True)
    assert "there is no batch “nonsense”" in ask("plan", folder, "--since", "nonsense").err


def test_a_batch_is_made_even_where_its_record_cannot_be_kept(folder: Path) -> None:
    (folder / "state").write_text("a file where the folder should be")
    done = boxkite("run", "vat.mov", "--marks", "picks.csv", "--to", "web:out", "--json", cwd=folder,
                   env={**os.environ, "BOXKITE_STATE": str(folder / "state")})  # fmt: skip
    assert done.status == 0, done.err
    assert done.json["batch"] is None
    assert "not-recorded" in kinds(done.json["notices"])
    assert json.loads(done.out)["files"][0]["checksum"]
    refused = boxkite("run", "vat.mov", "--marks", "picks.csv", "--to", "web:sealed", "--manifest", "md5", cwd=folder,
                      env={**os.environ, "BOXKITE_STATE": str(folder / "state")})  # fmt: skip
    assert (refused.status, "need a record" in refused.err) == (2, True), refused.err
    assert not list((folder / "sealed").glob("*"))


def test_folders_of_images_are_kept_and_replaced_as_one(folder: Path) -> None:
    words = ("--only", "number:1", "--existing")
    assert ask("run", folder, *words, "stop", to="frames-jpeg:out").status == 0
    images = folder / "out/dip"
    first = sorted(path.name for path in images.iterdir())
    assert first == [f"dip.{number:04d}.jpg" for number in range(1, 9)]
    assert ask("run", folder, *words, "skip", to="frames-jpeg:out").json["files"][0]["state"] == "kept"
    assert ask("run", folder, *words, "replace", to="frames-jpeg:out").status == 0
    (images / "stray.txt").touch()
    stray = ask("run", folder, *words, "replace", "--replace-others", to="frames-jpeg:out")
    assert stray.status == 2 and "more than images of this output: stray.txt" in stray.err
    (images / "stray.txt").unlink()
    kept = (images / "dip.0003.jpg").read_bytes()
    (images / "dip.0003.jpg").write_bytes(b"damaged")
    assert "changed since" in ask("run", folder, *words, "skip", to="frames-jpeg:out").err
    changed = ask("run", folder, *words, "replace", "--replace-others", to="frames-jpeg:out")
    assert changed.status == 2 and wording.CHANGED_SINCE_MADE in changed.err
    (images / "dip.0003.jpg").write_bytes(kept)
    assert ask("run", folder, *words, "replace", to="frames-jpeg:out").status == 0
    assert sorted(path.name for path in images.iterdir()) == first
    assert [path.name for path in (folder / "out").iterdir()] == ["dip"]


def test_a_version_given_by_hand_goes_with_a_pattern_that_bears_one(folder: Path) -> None:
    assert "goes with @version" in ask("plan", folder, "--version-number", "3").err
    assert (
        "whole number from 0" in ask("plan", folder, "--version-number", "-3", names="@marker_v@version").err
    )
    (folder / "out").mkdir()
    (folder / "out/dip_v6.mp4").touch()
    none = ask("plan", folder, "--version-number", "0", names="@marker_v@version").json
    assert (none["version"], none["rows"][0]["name"]) == (0, "dip_v0")
    assert "“qualty”" in ask("plan", folder, "--set", "web.video.qualty=3").err
    assert "“wbe” is no option of a job" in ask("plan", folder, "--set", "wbe.fit=80x40").err
