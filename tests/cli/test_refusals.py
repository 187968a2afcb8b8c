"""Bad input: one clear line, exit status 2, nothing written."""

from __future__ import annotations

from pathlib import Path

import pytest

from boxkite.core.timebase import FrameRate
from boxkite.demo.movies import Movie, write_movie
from boxkite.demo.pictures import VAT
from tests.verification import boxkite

LIST = "* LOC: 01:00:01:00 RED dip\n* LOC: 01:00:02:00 RED dip\n* LOC: 01:00:03:00 RED END\n"
PRESET = 'container = "mp4"\n[video]\ncodec = "h264"\n'


@pytest.fixture(scope="module")
def stage(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("refusals")
    write_movie(Movie(folder / "mill.mov", 90, FrameRate.parse("25"), ((0, VAT),), width=160, height=90,
                      timecode="01:00:00:00"))  # fmt: skip
    files = {
        "clash.edl": LIST,
        "broken.edl": "TITLE: x\n\n* LOC: 01:00:0:00 RED dip\n",
        "drop.edl": "* LOC: 01:01:00;00 RED dip\n",
        "rate.edl": "* LOC: 01:00:01:28 RED dip\n",
        "far.edl": "* LOC: 02:00:00:00 RED dip\n",
        "long.edl": f"* LOC: 01:00:01:00 RED {'x' * 300}\n",
        "back.csv": "name,in,out\na,01:00:02:00,01:00:01:00\n",
        "key.toml": PRESET + 'qualty = 20\n',
        "value.toml": PRESET.replace("h264", "prores"),
        "text.toml": "this is no TOML",
        "burn.toml": PRESET + '[[burn_in]]\ntext = "@nmae"\n',
        "fake.mov": "not media at all",
        "notes.txt": "just text",
        "shot.braw": "raw",
        "out": "a file where a folder should be",
    }  # fmt: skip
    for name, text in files.items():
        (folder / name).write_text(text)
    (folder / "cut short.mov").write_bytes((folder / "mill.mov").read_bytes()[:20_000])
    (folder / "there").mkdir()
    (folder / "there" / "MILL.mp4").write_text("precious")
    return folder


GOOD = ["mill.mov", "--to", "web:new"]
CASES = {
    "missing file": (["nothing.mov", "--to", "web:new"], ["nothing.mov", "no such file"]),
    "not media": (["notes.txt", "--to", "web:new"], ["notes.txt", "a text file"]),
    "broken media": (["fake.mov", "--to", "web:new"], ["fake.mov", "broken"]),
    "cut off media": (["cut short.mov", "--to", "web:new"], ["cut short.mov", "incomplete"]),
    "camera raw": (["shot.braw", "--to", "web:new"], ["camera maker's raw", "convert it first"]),
    "broken timecode": ([*GOOD, "--marks", "broken.edl"], ["broken.edl:3:", "01:00:0:00"]),
    "timecode that does not exist": ([*GOOD, "--marks", "drop.edl", "--marks-rate", "29.97"], ["drop.edl:1:", "does not exist"]),  # noqa: E501
    "drop-frame not defined": ([*GOOD, "--marks", "drop.edl"], ["drop.edl:1:", "not defined at 25"]),
    "frame the rate has not": ([*GOOD, "--marks", "rate.edl"], ["rate.edl:1:", "no frame 28", "--marks-rate"]),
    "all outside": ([*GOOD, "--marks", "far.edl"], ["far.edl", "after the last frame", "--start-timecode"]),
    "token in a folder": (["mill.mov", "--to", "web:new/@marker"], ["@marker is not read in a folder", '--names "@marker/@clip"']),  # noqa: E501
    "unknown token": ([*GOOD, "--names", "@markr"], ["column 1", "@marker"]),
    "no token": ([*GOOD, "--marks", "clash.edl", "--names", "shot"], ["no token", "double quotes"]),
    "single quotes": ([*GOOD, "--names", "'@clip'"], ["single quotes", '"@clip"']),
    "clash": ([*GOOD, "--marks", "clash.edl"], ["clash.edl:1", "clash.edl:2", '"@(marker|in)[_@again]"']),
    "setting of a burn-in": (["mill.mov", "--to", "review:new", "--set", "review.burn_in.opacity=1"], ["review.burn_in", "[[burn_in]]", "--based-on"]),  # noqa: E501
    "clash of presets": ([*GOOD, "--to", "review:new"], ["web", "review", "@preset"]),
    "name too long": ([*GOOD, "--marks", "long.edl"], ["too long", "max80"]),
    "out before in": ([*GOOD, "--marks", "back.csv"], ["back.csv:2:", "does not come after"]),
    "unknown preset": (["mill.mov", "--to", "reveiw:new"], ["reveiw", "review"]),
    "unknown preset key": (["mill.mov", "--to", "key.toml:new"], ["key.toml", "video.qualty", "quality"]),
    "codec and container": (["mill.mov", "--to", "value.toml:new"], ["value.toml", "video.codec", "mp4 takes"]),
    "no TOML": (["mill.mov", "--to", "text.toml:new"], ["text.toml", "not TOML"]),
    "burn-in token": (["mill.mov", "--to", "burn.toml:new"], ["nmae", "name"]),
    "no preset": (["mill.mov", "--to", "new"], ["separated by a colon"]),
    "no output": (["mill.mov"], ["no output"]),
    "folder is a file": (["mill.mov", "--to", "web:out/deep"], ["out", "file, not a folder"]),
    "folder not writable": (["mill.mov", "--to", "web:/proc/new"], ["/proc", "cannot be"]),
    "there already, in other case": (["mill.mov", "--to", "web:there"], ["there already", "MILL.mp4"]),
    "start timecode": ([*GOOD, "--start-timecode", "01:00:00"], ["not a timecode", "double quotes"]),
    "rate": ([*GOOD, "--marks", "clash.edl", "--marks-rate", "fast"], ["fast", "not a frame rate"]),
    "unknown option": ([*GOOD, "--mark", "x"], ["--mark", "--marks"]),
    "workers": ([*GOOD, "--workers", "0"], ["--workers 0"]),
}  # fmt: skip


@pytest.mark.parametrize("case", CASES)
def test_bad_input_is_refused_in_words_and_nothing_is_written(case: str, stage: Path) -> None:
    words, says = CASES[case]
    before = sorted(stage.rglob("*"))
    done = boxkite("run", *words, cwd=stage)
    assert done.status == 2, done.out + done.err
    for piece in says:
        assert piece in done.err
    assert done.out == ""
    assert len(done.err.splitlines()) <= 4
    assert sorted(stage.rglob("*")) == before


def test_inspect_lists_what_it_cannot_read_with_the_reason(stage: Path) -> None:
    done = boxkite("inspect", ".", "--json", cwd=stage)
    assert done.status == 0
    assert [source["label"] for source in done.json["sources"]] == ["mill.mov"]
    reasons = {Path(item["path"]).name: item["reason"] for item in done.json["unreadable"]}
    assert set(reasons) == {path.name for path in stage.rglob("*") if path.is_file()} - {"mill.mov"}
    assert "cut short.mov" in boxkite("inspect", "cut short.mov", "mill.mov", cwd=stage).out


def test_help_has_examples_and_misspelt_commands_are_suggested(tmp_path: Path) -> None:
    for command in ("demo", "inspect", "plan", "run", "presets"):
        assert f"boxkite {command}" in boxkite(command, "--help").out
    assert "did you mean inspect?" in boxkite("inspct").err
    env = {"PATH": "/usr/bin", "BOXKITE_PRESETS": str(tmp_path)}
    (tmp_path / "mine.toml").write_text(PRESET)
    listed = {preset["name"] for preset in boxkite("presets", "--json", env=env).json["presets"]}
    assert listed > {"mine", "review", "stock", "web"}
    assert "video.codec" in boxkite("presets", "show", "web").out
