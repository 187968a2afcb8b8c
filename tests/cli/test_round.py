"""The demo's whole round, by the installed program: every shot, every preset, every frame."""

from __future__ import annotations

import subprocess
import sys
from itertools import pairwise
from pathlib import Path

import av
import pytest

from boxkite.core.timebase import Span
from boxkite.demo.world import MARKERS, RATE
from tests import wording
from tests.verification import Run, assert_holds, boxkite

pytestmark = pytest.mark.xdist_group("round")
SHOTS = [(name, Span(start, end)) for (start, _, name), (end, _, _) in pairwise(MARKERS)]


@pytest.fixture(scope="module")
def demo(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, Run]:
    folder = tmp_path_factory.mktemp("round")
    return folder / "demo", boxkite("demo", "demo", cwd=folder)


@pytest.mark.parametrize(
    ("preset", "extension", "slack"), [("stock", "mov", 1), ("review", "mp4", 1024), ("web", "mp4", 1024)]
)
def test_every_shot_of_the_demo_holds_its_frames_and_ticks(
    demo, preset: str, extension: str, slack: int
) -> None:
    folder, message = demo
    assert message.status == 0, message.out + message.err
    made = folder / "out" / preset
    names = sorted(path.name for path in made.iterdir() if path.name != "checksums.xxh128")
    assert names == sorted(f"{name}.{extension}" for name, _ in SHOTS)
    for name, span in SHOTS:
        assert_holds(made / f"{name}.{extension}", span, RATE, sample_slack=slack)


def test_the_demo_hands_its_shots_over(demo) -> None:
    folder, message = demo
    for name in ("shots.csv", "contact-sheet.pdf", "page/index.html", "out/web/checksums.xxh128"):
        assert (folder / name).is_file(), message.out
    assert "18 files, every one the same as recorded" in message.out and "6 shots" in message.out


def test_timecode_reel_size_and_codecs_are_what_the_presets_say(demo) -> None:
    folder, _ = demo
    found = {
        file["label"]: file for file in boxkite("inspect", folder / "out/stock", "--json").json["sources"]
    }
    dip = found["first dip.mov"]
    assert (dip["start_timecode"], dip["reel"], dip["video"]["codec"]) == ("01:00:05:08", "MILL", "prores")
    assert (dip["video"]["bit_depth"], dip["audio"][0]["codec"]) == (10, "pcm_s24le")
    review = boxkite("inspect", folder / "out/review/first dip.mp4", "--json").json["sources"][0]
    assert (review["video"]["width"], review["start_timecode"]) == (640, "01:00:05:08")
    data = (folder / "out/web/couching.mp4").read_bytes()
    assert 0 < data.index(b"moov") < data.index(b"mdat")


def test_review_carries_name_timecode_and_watermark_and_web_does_not(demo) -> None:
    folder, _ = demo

    def corner(preset: str) -> list[float]:
        with av.open(str(folder / f"out/{preset}/first dip.mp4")) as container:
            picture = (
                next(container.decode(video=0)).reformat(width=640, height=360, format="gray").to_ndarray()
            )
        areas = picture[325:350, 22:100], picture[325:350, 500:618], picture[125:240, 505:615]
        return [float(area.max()) - float(area.min()) for area in areas]

    assert min(corner("review")[:2]) > 120
    assert corner("review")[2] > corner("web")[2] + 40
    assert max(corner("web")[:2]) < 60


def test_plan_and_run_say_the_same_and_plan_writes_nothing(demo, tmp_path: Path) -> None:
    folder, _ = demo
    words = [folder / "card", "--by", "ranges", "--marks", folder / "picks.csv", "--metadata", folder / "slates.csv",
             "--names", "@(Paper weight:slug)/@camera@scene@shot.t@take_@(count:01)_@marker", "--to", "web:out", "--json"]  # fmt: skip  # noqa: E501
    planned = boxkite("plan", *words, cwd=tmp_path)
    assert planned.status == 0, planned.err
    assert list(tmp_path.iterdir()) == []
    done = boxkite("run", *words, cwd=tmp_path)
    assert done.status == 0, done.err
    keys = ("path", "frames", "in", "out", "source")
    rows = [[row[key] for key in keys] for row in planned.json["rows"]]
    assert rows == [[file[key] for key in keys] for file in done.json["files"]]
    written = sorted(str(path) for path in tmp_path.rglob("*") if path.is_file())
    assert written == sorted(row[0] for row in rows)
    first = tmp_path / "out/heavy-rag/A3b.t2_02_slow dip.mp4"
    assert_holds(first, Span(12, 56), RATE, source=2, sample_slack=1024)


def test_a_second_run_overwrites_nothing(demo) -> None:
    folder, _ = demo
    words = ["run", folder / "mill.mov", "--marks", folder / "mill.edl", "--to", f"web:{folder / 'out/web'}"]
    again = boxkite(*words)
    assert again.status == 2
    assert wording.ALREADY_THERE in again.err


def test_the_script_in_the_library_page_plans_and_runs_the_demo(demo) -> None:
    folder, _ = demo
    page = Path(__file__).parents[2] / "docs/library.md"
    script = page.read_text().split("```python\n")[1].split("```")[0]
    assert len(script.splitlines()) <= 15
    script = script.replace("names=", 'only="number:1", names=')
    done = subprocess.run(
        [sys.executable, "-c", script], cwd=folder.parent, capture_output=True, text=True, check=False
    )
    assert done.returncode == 0, done.stderr
    lines = done.stdout.splitlines()
    assert len(lines) == 4 and sum(line.endswith(" verified") for line in lines) == 2
    for number, (name, span) in enumerate(SHOTS[:1], start=1):
        assert_holds(folder.parent / f"out/web/{number:02d}_{name}.mp4", span, RATE, sample_slack=1024)
