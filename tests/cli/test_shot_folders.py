"""Folders for later work: all that belongs to a shot, added once, nothing else touched."""

from __future__ import annotations

import json
import shutil
from pathlib import Path

import pytest
from PIL import Image

from tests.builders import write_day
from tests.verification import boxkite


@pytest.fixture(scope="module")
def made(tmp_path_factory: pytest.TempPathFactory) -> Path:
    mill = write_day(tmp_path_factory.mktemp("mill"), (320, 180))
    done = boxkite("run", "day.otio", "--by", "cuts", "--picture", "originals", "--media", "card", "--names",
                   "@clip_@(count:01)", "--handles", "6", "--to", "web:out/web", "--to", "frames-jpeg:out/frames",
                   "--only", "track:V1", "--only", "number:1-4", cwd=mill,
                   env={"BOXKITE_STATE": str(mill / "state")})  # fmt: skip
    assert done.status == 0, done.err
    return mill


@pytest.fixture
def mill(made: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    monkeypatch.setenv("BOXKITE_STATE", str(made / "state"))
    monkeypatch.chdir(tmp_path)
    return made


def tree_of(folder: Path) -> dict[str, int]:
    """Everything in a folder, with when it was last changed."""
    return {path.relative_to(folder).as_posix(): path.lstat().st_mtime_ns for path in folder.rglob("*")}


def review(batch: str, path: Path) -> None:
    note = {
        "frame": 3,
        "end": None,
        "text": "hands are soft",
        "by": "Ada",
        "lines": [[[0.1, 0.5], [0.9, 0.5]]],
    }
    shot = {"id": f"{batch}#1", "name": "A-vat2", "verdict": "good", "notes": [note]}
    path.write_text(
        json.dumps({"format": "boxkite-review", "version": 1, "reviewer": "Ada", "shots": [shot]})
    )


def test_a_folder_holds_all_that_belongs_to_a_shot(mill: Path, tmp_path: Path) -> None:
    status = boxkite("status", "last", "--json", "--files", cwd=tmp_path).json
    review(status["batch"], tmp_path / "review.json")
    words = ("shot-folders", "last", "--into", "work", "--review", "review.json", "--json")
    listed = boxkite(*words, "--dry-run", cwd=tmp_path)
    assert listed.status == 0 and listed.json["added"] and not (tmp_path / "work").exists()
    done = boxkite(*words, cwd=tmp_path)
    assert done.status == 0, done.err
    assert [one["path"] for one in done.json["added"]] == [one["path"] for one in listed.json["added"]]
    folder = tmp_path / "work" / "A-vat2"
    films = [folder / "plates" / "A-vat2_01.mp4", folder / "plates" / "A-vat2_01"]
    assert [film.resolve() for film in films] == [
        mill / "out/web/A-vat2_01.mp4",
        mill / "out/frames/A-vat2_01",
    ]
    order = (folder / "work-order.txt").read_text()
    for text in ("reel A003", "A Hundred Sheets", "10:12:05:03  Ada: hands are soft (drawn on)",
                 "5 before, 6 after", str(mill / "card/A-vat2.mov"),
                 str(mill / "out/web/A-vat2_01.mp4"), "day, V1 at 10:00:00:00"):  # fmt: skip
        assert text in order, order
    (still,) = (folder / "notes").iterdir()
    with Image.open(still) as image:
        assert image.size == (320, 180)
        assert any(sum(abs(a - b) for a, b in zip(image.getpixel((160, y)), (255, 211, 63), strict=True)) < 9
                   for y in range(86, 94))  # fmt: skip


def test_made_again_it_adds_what_is_new_and_touches_nothing_else(mill: Path, tmp_path: Path) -> None:
    words = ("shot-folders", "last", "--into", "work", "--json")
    assert boxkite(*words, cwd=tmp_path).status == 0
    work = tmp_path / "work"
    (work / "A-vat2" / "work-order.txt").write_text("mine")
    (work / "A-vat2" / "work" / "comp.txt").write_text("mine too")
    shutil.rmtree(work / "B-loft7")
    before = tree_of(work)
    again = boxkite(*words, cwd=tmp_path).json
    after = tree_of(work)
    assert (
        all(Path(one["path"]).is_relative_to(work / "B-loft7") for one in again["added"]) and again["added"]
    )
    kept = {name: at for name, at in after.items() if name in before}
    assert kept == before and set(after) - set(before) == {
        name for name in after if name.startswith("B-loft7")
    }
    assert boxkite(*words, cwd=tmp_path).json["added"] == []


def test_trees_of_ones_own(mill: Path, tmp_path: Path) -> None:
    tree = tmp_path / "tree.toml"
    tree.write_text(
        'folder = "@(count:001)_@clip"\nplaces = ["@clip/v001"]\nfiles = "copy"\nfiles-into = "in"\n'
        '[order]\nfile = "todo.md"\ntemplate = "todo.txt"\n'
    )
    (tmp_path / "todo.txt").write_text("# @clip\n[look @look]\n@handlein|@handleout")
    words = ("shot-folders", "last", "--tree", "tree.toml", "--into", "own")
    done = boxkite(*words, cwd=tmp_path)
    assert done.status == 0, done.err
    folder = tmp_path / "own" / "001_A-vat2"
    assert (folder / "A-vat2" / "v001").is_dir() and (folder / "todo.md").read_text() == "# A-vat2\n5|6\n"
    copied = folder / "in" / "A-vat2_01.mp4"
    assert not copied.is_symlink() and copied.read_bytes() == (mill / "out/web/A-vat2_01.mp4").read_bytes()
    images = [sorted(path.name for path in place.iterdir())
              for place in (folder / "in" / "A-vat2_01", mill / "out/frames/A-vat2_01")]  # fmt: skip
    assert images[0] == images[1] and images[0]
    for text, says in [
        ('folder = "same"', "same"), ('folder = "@nope"', "@nope"), ("places = []", "folder"),
        ('folder = "@clip"\nfiles-into = "../.."', "leads out"), ('folder = "@clip"\nfiles = "move"', "link, copy"),
        ('folder = "@clip"\nplaecs = []', "places"),
        ('folder = "@clip"\n[order]\nfile = "/etc/x"\ntext = "a"', "leads out"),
    ]:  # fmt: skip
        tree.write_text(text)
        refused = boxkite(*words[:-1], "other", cwd=tmp_path)
        assert refused.status == 2 and says in refused.err, (text, refused.err)
        assert not (tmp_path / "other").exists()
