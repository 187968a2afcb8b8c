"""Jobs on paper: job files, saved plans, saved patterns, presets of one's own, charts, sizes by probes."""

from __future__ import annotations

import csv
import re
import tomllib
from pathlib import Path

import pytest
from PIL import Image

from boxkite.core.job.options import job_from_options, options_from_tables
from boxkite.core.presets.library import PresetFile, Shelf
from boxkite.core.timebase import FrameRate, Span
from boxkite.demo.movies import Movie, write_movie
from boxkite.demo.pictures import LOFT, VAT
from tests import wording
from tests.verification import assert_holds, boxkite

RATE = FrameRate.parse("25")
JOB = """\
paths = ["footage"]
by = "ranges"
marks = "picks.csv"
names = "@clip_@marker"
to = ["small:out/small", "web:out/web"]

[presets.small]
based_on = "web"
fit = "80x46"
without = ["audio"]

[[otherwise]]
only = ["name:lift"]
to = ["proxy:out/proxy"]
names = "special/@marker"
handles = 2
"""


@pytest.fixture(scope="module")
def world(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("world")
    (folder / "footage").mkdir()
    for number, (name, place) in enumerate((("vat", VAT), ("loft", LOFT)), start=1):
        write_movie(Movie(folder / f"footage/{name}.mov", 40, RATE, ((0, place),), source=number, width=160, height=90,
                          timecode=f"10:0{number}:00:00"))  # fmt: skip
    (folder / "picks.csv").write_text("source,name,in,out\nvat,dip,2,10\nvat,lift,12,20\nloft,hang,20,28\n")
    (folder / "job.toml").write_text(JOB)
    return folder


def test_a_job_file_says_all_the_words_and_the_command_line_goes_before_it(
    world: Path, tmp_path: Path
) -> None:
    rows = boxkite("plan", world / "job.toml", "--json", cwd=tmp_path).json["rows"]
    found = [(row["name"], row["preset"], row["size"], row["frames"]) for row in rows]
    assert found == [
        ("loft_hang", "small", "80x44", 8), ("loft_hang", "web", "160x90", 8),
        ("vat_dip", "small", "80x44", 8), ("vat_dip", "web", "160x90", 8),
        ("special/lift", "proxy", "80x45", 12),
    ]  # fmt: skip
    assert rows[0]["path"] == str(world / "out/small/loft_hang.mp4")
    other = boxkite("plan", world / "job.toml", "--names", "@marker", "--set", "only=name:dip",
                    "--set", "small.fit=40x24", "--json", cwd=tmp_path).json  # fmt: skip
    assert [(row["name"], row["size"]) for row in other["rows"]] == [("dip", "40x22"), ("dip", "160x90")]


@pytest.mark.parametrize(
    ("message", "words"),
    [
        ('nmes = "@clip"', ("job.toml", "nmes", "did you mean names?")),
        ('depth = "two"', ("job.toml", "depth", "whole number")),
        ("to = [1]", ("job.toml", "to", "list of texts")),
        ("[[otherwise]]\nhandle = 3", ("otherwise", "handles")),
        ('[presets.small]\nbased_on = "wep"', ("presets.small.based_on", "did you mean web")),
        ('[presets.small]\nbased_on = "small"', ("based on each other",)),
        ('[presets.small]\nbased_on = "web"\nvideo.quality = 99', ("presets.small.video.quality", "51")),
        ("paths = [", ("job.toml", "TOML")),
    ],
)
def test_a_wrong_key_is_refused_with_file_and_key(
    world: Path, tmp_path: Path, message: str, words: tuple[str, ...]
) -> None:
    table = message.startswith("[")
    plain = 'paths = ["footage"]\n' + ("" if message.startswith("to") else 'to = ["small:out"]\n')
    (tmp_path / "footage").symlink_to(world / "footage")
    (tmp_path / "job.toml").write_text(
        f"{plain}{message}\n" if table else f"{message}\n{plain if 'paths' not in message else ''}"
    )
    refused = boxkite("plan", tmp_path / "job.toml")
    assert refused.status == 2
    assert all(word in refused.err for word in words), refused.err


def test_a_command_line_that_works_becomes_a_file_that_does_the_same(world: Path, tmp_path: Path) -> None:
    words = ["plan", world / "footage", "--by", "ranges", "--marks", world / "picks.csv", "--names", "@marker",
             "--handles", "3", "--except", "name:hang", "--to", f"review:{tmp_path}/out", "--set",
             "review.video.quality=40"]  # fmt: skip
    first = boxkite(*words, "--save-job", tmp_path / "saved.toml", "--json").json
    again = boxkite("plan", tmp_path / "saved.toml", "--json", cwd=world).json
    assert again["rows"] == first["rows"]
    assert "quality = 40" in (tmp_path / "saved.toml").read_text()
    refused = boxkite(*words, "--save-job", tmp_path / "saved.toml")
    assert wording.NOTHING_OVERWRITTEN in refused.err


def test_a_saved_plan_is_edited_like_any_table_and_runs_as_it_then_is(world: Path, tmp_path: Path) -> None:
    words = ["plan", world / "footage", "--by", "ranges", "--marks", world / "picks.csv", "--names", "@clip_@marker",
             "--to", f"stock:{tmp_path}/out", "--save-plan", tmp_path / "shots.csv", "--json"]  # fmt: skip
    planned = boxkite(*words).json
    same = boxkite("plan", tmp_path / "shots.csv", "--json").json
    for key in ("path", "in", "out", "source", "preset", "marker"):
        assert [row[key] for row in same["rows"]] == [row[key] for row in planned["rows"]]
    rows = list(csv.DictReader((tmp_path / "shots.csv").read_text(encoding="utf-8-sig").splitlines()))
    rows[0]["make"] = "no"
    rows[1]["out"] = "10:01:00:13"
    rows[2]["file"] = "kept/lifted.mov"
    write(tmp_path / "shots.csv", rows)
    done = boxkite("run", tmp_path / "shots.csv", "--json")
    assert done.status == 0, done.err
    assert sorted(path.name for path in (tmp_path / "out").rglob("*.mov")) == ["lifted.mov", "vat_dip.mov"]
    assert_holds(tmp_path / "out/vat_dip.mov", Span(2, 13), RATE, source=1)
    for column, cell, says in (
        ("in", "10:01:00:99", "10:01:00:99"), ("out", "10:05:00:00", "outside vat.mov"),
        ("preset", "wep", "did you mean web"),
        ("file", "../out", "no name"), ("file", "con.mov", "con_"), ("source", "gone.mov", "no file gone.mov"),
    ):  # fmt: skip
        write(tmp_path / "wrong.csv", [rows[0], {**rows[1], column: cell}])
        refused = boxkite("plan", tmp_path / "wrong.csv")
        assert refused.status == 2
        assert f"wrong.csv:3: {column}: " in refused.err, refused.err
        assert says in refused.err
    assert "says this itself" in boxkite("plan", tmp_path / "shots.csv", "--names", "@clip").err


def write(path: Path, rows: list[dict[str, str]]) -> None:
    with path.open("w", newline="") as file:
        writer = csv.DictWriter(file, rows[0].keys(), delimiter=";")
        writer.writeheader()
        writer.writerows(rows)


def test_patterns_and_presets_are_saved_and_found_by_name(world: Path, tmp_path: Path) -> None:
    env = {
        "PATH": "/usr/bin",
        "BOXKITE_PATTERNS": str(tmp_path / "p.toml"),
        "BOXKITE_PRESETS": str(tmp_path / "own"),
    }
    assert boxkite("patterns", "save", "delivery", "@clip-@marker", env=env).status == 0
    new = ("presets", "new")
    settings = ("--set", "video.quality=33", "--set", "fit=80x46")
    assert boxkite(*new, "mill-web", "--based-on", "web", *settings, env=env).status == 0
    named_like_a_setting = boxkite(*new, "audio", "--based-on", "web", env=env)
    assert (named_like_a_setting.status, wording.ANOTHER_NAME in named_like_a_setting.err) == (2, True)
    words = ("plan", world / "footage", "--by", "ranges", "--marks", world / "picks.csv", "--to", "mill-web:out",
             "--names")  # fmt: skip
    rows = boxkite(*words, "saved:delivery", "--json", env=env, cwd=tmp_path).json["rows"]
    assert (rows[0]["name"], rows[0]["size"]) == ("loft-hang", "80x44")
    assert "did you mean delivery?" in boxkite(*words, "saved:delivry", env=env, cwd=tmp_path).err
    assert "no token" not in boxkite("patterns", "save", "broken", "@(clip", env=env).out
    assert boxkite("presets", "check", env=env).status == 0
    (tmp_path / "own/mill-web.toml").write_text('based_on = "web"\n[video]\npixel_format = "yuv422p"\n')
    broken = boxkite("presets", "check", env=env)
    assert broken.status == 1
    assert "video.pixel_format" in broken.out
    schema = boxkite("presets", "schema").json
    assert "vp9" in schema["$defs"]["Video"]["properties"]["codec"]["enum"]
    assert "based_on" in schema["properties"]


def test_the_chart_shows_what_is_used_and_probes_tell_sizes(world: Path, tmp_path: Path) -> None:
    outputs = [
        word for preset in ("stock", "web", "audio-wav") for word in ("--to", f"{preset}:{tmp_path}/{preset}")
    ]
    words = [
        world / "footage",
        "--by",
        "ranges",
        "--marks",
        world / "picks.csv",
        "--names",
        "@clip_@marker",
        *outputs,
    ]
    planned = boxkite("plan", *words, "--sample", "--chart", tmp_path / "use.png", "--json")
    assert planned.status == 0, planned.err
    with Image.open(tmp_path / "use.png") as image:
        assert image.size == (1280, 800)
    assert sorted(path.name for path in tmp_path.iterdir()) == ["use.png"]
    refused = boxkite("plan", *words, "--chart", tmp_path / "use.png")
    assert (refused.status, wording.NOTHING_OVERWRITTEN in refused.err) == (2, True)
    two = tmp_path / "two.csv"
    two.write_text("name,in,out\nx,3,5\n")
    short = ("plan", world / "footage/vat.mov", "--marks", two, "--to", "web:out", "--sample", "--json")
    (row,) = boxkite(*short).json["rows"]  # two frames are fewer than the probes
    assert row["frames"] == 2 and not row["warnings"][1:]
    made = boxkite("run", *words, "--json").json["files"]
    for preset, slack in (("stock", 0.1), ("web", 0.35), ("audio-wav", 0.05)):
        expected = sum(row["expected_bytes"] for row in planned.json["rows"] if row["preset"] == preset)
        real = sum(file["size_bytes"] for file in made if file["preset"] == preset)
        assert abs(expected / real - 1) < slack, (preset, expected, real)
    totals = planned.json["totals"]
    assert (totals["files"], totals["shots"], totals["differences"]) == (9, 3, {"shorter than a second": 3})


def test_the_examples_of_the_guide_hold(tmp_path: Path) -> None:
    guide = (Path(__file__).parents[2] / "docs/guide.md").read_text(encoding="utf-8")
    job, preset = (tomllib.loads(block) for block in re.findall(r"```toml\n(.*?)```", guide, re.DOTALL))
    words = options_from_tables(job, "guide.md")
    assert job_from_options(words).exceptions[0].names == "press/@marker"
    (tmp_path / "mill-mark.png").touch()
    file = PresetFile("mill", tmp_path / "mill.toml", built_in=False, tables=preset)
    assert Shelf((file,)).load("mill").burn_in[0].text == "@name  @timecode"
