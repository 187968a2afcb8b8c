"""The review page in a real browser, from a disk and from a web server, and its reviews brought back."""

from __future__ import annotations

import json
import os
import shutil
import threading
import time
from collections.abc import Iterator
from functools import partial
from http.server import ThreadingHTTPServer
from pathlib import Path

import pytest
from PIL import Image

from boxkite.core.timebase import FrameRate
from boxkite.demo.movies import Movie, write_movie
from boxkite.demo.pictures import LOFT, VAT
from tests.browser import CHROMIUM, Page, browser
from tests.cli.test_browser import Server
from tests.verification import boxkite, kinds

pytestmark = pytest.mark.xdist_group("page")
RATE = FrameRate.parse("25")
HOSTILE = "</script><img src=x onerror=alert(1)>&\"'"
needs_browser = pytest.mark.skipif(CHROMIUM is None, reason="there is no Chromium here")


@pytest.fixture(scope="module")
def place(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A batch of two shots as review and stock files, and its page."""
    folder = tmp_path_factory.mktemp("page")
    write_movie(Movie(folder / "dip.mov", 100, RATE, ((0, VAT), (50, LOFT)), width=320, height=180))
    (folder / "marks.csv").write_text(
        "source,name,in,out,keywords,circled,note\n"
        f'dip.mov,"{HOSTILE.replace(chr(34), chr(34) * 2)}",10,45,vat,,=1+1\ndip.mov,loft,55,95,,yes,\n'
    )
    done = boxkite("run", "dip.mov", "--by", "ranges", "--to", "web:out/web", "--to", "stock:out/stock",
                   "--names", "@count", cwd=folder)  # fmt: skip
    assert done.status == 0, done.err
    made = boxkite(
        "review-page", "last", "--into", "page", "--title", f"Day 1 {HOSTILE}", "--json", cwd=folder
    )
    assert made.status == 0 and len(made.json["shots"]) == 2, made.err
    return folder


@pytest.fixture(params=["file", "server"])
def address(request: pytest.FixtureRequest, place: Path) -> Iterator[str]:
    if request.param == "file":
        yield (place / "page" / "index.html").as_uri()
        return
    server = ThreadingHTTPServer(("127.0.0.1", 0), partial(Server, directory=str(place / "page")))
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield f"http://127.0.0.1:{server.server_port}/index.html"
    server.shutdown()
    server.server_close()


def frame_shown(page: Page) -> int:
    page.wait("!document.getElementById('video').seeking && document.getElementById('video').readyState >= 2")
    return page.run("window.reviewPage.player.frame")


def downloaded(folder: Path, page: Page, button: str) -> Path:
    before = set(folder.iterdir())
    page.run(f"document.getElementById('{button}').click()")
    until = time.monotonic() + 20
    while not (new := [one for one in set(folder.iterdir()) - before if one.suffix in (".json", ".csv")]):
        assert time.monotonic() < until
        time.sleep(0.05)
    return new[0]


@needs_browser
def test_a_review_is_made_in_the_browser_and_comes_back_as_marks(
    place: Path, address: str, tmp_path: Path
) -> None:
    with browser() as page:
        page.ask("Page.setDownloadBehavior", behavior="allow", downloadPath=str(tmp_path))
        page.open(address)
        page.wait("window.reviewPage")
        assert page.run("document.querySelectorAll('.card').length") == 2
        assert HOSTILE in page.run("document.querySelector('h1').textContent")
        page.key("n")
        page.wait("document.getElementById('video').readyState >= 2")
        for _ in range(7):
            page.key("ArrowRight")
        page.key("ArrowLeft")
        assert (
            frame_shown(page) == 6
            and page.run("document.getElementById('clock').textContent") == "00:00:00:16"
        )
        page.key("i")
        for _ in range(4):
            page.key("ArrowRight")
        page.key("o")
        page.run("document.getElementById('reviewer').value = 'Ada'")
        page.run("document.getElementById('reviewer').dispatchEvent(new Event('change'))")
        page.key("m")
        page.ask("Input.insertText", text="=too late\n<b>cut</b> it")
        page.key("Escape")
        page.key("d")
        page.run("new Promise((done) => setTimeout(done, 700))")  # the panel scrolls to the picture
        box = page.run("(({left, top, width, height}) => [left, top, width, height])"
                       "(document.getElementById('drawing').getBoundingClientRect())")  # fmt: skip
        left, top, width, height = box
        page.drag(*[(left + width * share, top + height * 0.5) for share in (0.25, 0.5, 0.75)])
        page.run("document.getElementById('note-form').requestSubmit()")
        page.key("1")
        page.key("n")
        page.wait("document.getElementById('video').readyState >= 2")
        page.key("2")
        page.key(" ")
        page.wait("window.reviewPage.player.frame > 3")
        page.run("document.getElementById('search').value = 'loft'")
        page.run("document.getElementById('search').dispatchEvent(new Event('input'))")
        assert page.run("document.querySelectorAll('[data-shot]:not([hidden])').length") == 1
        saved = downloaded(tmp_path, page, "export-json")
        table = downloaded(tmp_path, page, "export-csv")
        page.open(address)  # what was said is still there
        page.wait("window.reviewPage")
        assert "1 good, 1 not good, 0 open; 1 note" in page.run(
            "document.getElementById('summary').textContent"
        )
        root = address.rpartition("/")[0]
        assert [one for one in page.requests if not one.startswith((root, "data:", "blob:"))] == []
        assert page.problems == []
    review = json.loads(saved.read_text())
    assert (review["format"], review["version"], review["reviewer"]) == ("boxkite-review", 1, "Ada")
    (note,) = review["shots"][0]["notes"]
    assert (note["frame"], note["end"], review["shots"][0]["verdict"]) == (6, 10, "good")
    assert abs(note["lines"][0][0][0] - 0.25) < 0.02 and abs(note["lines"][0][-1][0] - 0.75) < 0.02
    assert "'=too late" in table.read_text(encoding="utf-8-sig")
    before = (place / "marks.csv").read_bytes()
    taken = boxkite("mark", "import", saved, "--json", cwd=place)
    assert taken.status == 0, taken.err
    marks = boxkite("mark", "list", "dip.mov", "--json", cwd=place).json["marks"]
    notes = [one for one in marks if "review" in one["keywords"]]
    assert [(one["in"], one["out"], one["note"]) for one in notes] == [
        ("00:00:00:16", "00:00:00:21", "Ada: =too late\n<b>cut</b> it")
    ]
    assert [one["circled"] for one in marks if one["name"] == HOSTILE] == [True]
    assert [one["circled"] for one in marks if one["name"] == "loft"] == [False]
    (still,) = (tmp_path / f"{saved.stem}-stills").iterdir()
    with Image.open(still) as image:
        assert image.size == (320, 180)
        around = [image.getpixel((160, y)) for y in range(84, 97)]
        assert any(red > 230 and 190 < green < 230 and blue < 90 for red, green, blue in around)
    again = boxkite("mark", "import", saved, cwd=place)
    assert "0 marks added" in again.out and again.status == 0
    (place / "marks.csv").write_bytes(before)


@needs_browser
@pytest.mark.parametrize(("size", "dark"), [((1280, 800), False), ((390, 844), True)])
def test_the_page_can_be_used_by_everybody(place: Path, size: tuple[int, int], dark: bool) -> None:
    import axe_core_python

    rules = (Path(axe_core_python.__file__).with_name("axe.min.js")).read_text(encoding="utf-8")
    with browser(*size, dark=dark) as page:
        page.open((place / "page" / "index.html").as_uri())
        page.wait("window.reviewPage")
        page.run("document.querySelector('.card').click()")
        page.run("document.getElementById('help-button').click()")
        page.run("window.reviewPage.store.note(window.reviewPage.data.shots[0], 1, null, 'x', [], '')")
        page.run(
            "document.querySelectorAll('.card')[1].click(); document.querySelectorAll('.card')[0].click()"
        )
        page.run(rules)
        found = json.loads(page.run("axe.run().then((one) => JSON.stringify(one.violations))"))
        serious = [
            (one["id"], one["nodes"][0]["html"]) for one in found if one["impact"] in ("serious", "critical")
        ]
        assert serious == []
        assert page.run("document.documentElement.scrollWidth") <= size[0]


SHOTS = int(os.environ.get("BOXKITE_SHOTS", "500"))


@needs_browser
@pytest.mark.skipif("BOXKITE_SHOTS" not in os.environ, reason="in make codecs")
def test_hundreds_of_shots_open_at_once_and_scroll_without_a_stop(place: Path, tmp_path: Path) -> None:
    folder = tmp_path / "many"
    folder.mkdir()
    (light,) = (place / "out" / "web").glob("1.mp4")
    for number in range(SHOTS):
        shutil.copyfile(light, folder / f"shot {number:03d}.mp4")
    assert boxkite("review-page", "many", "--into", "page", cwd=tmp_path, timeout=300).status == 0
    with browser() as page:
        started = time.monotonic()
        page.open((tmp_path / "page" / "index.html").as_uri())
        page.wait("window.reviewPage")
        assert time.monotonic() - started < 2
        page.run("window.long = []; new PerformanceObserver((list) => window.long.push(...list.getEntries()"
                 ".map((one) => one.duration))).observe({type: 'longtask', buffered: false})")  # fmt: skip
        for step in range(20):
            scrolled = f"window.scrollTo(0, document.body.scrollHeight * {step} / 20)"
            page.run(f"{scrolled}; new Promise(requestAnimationFrame)")
        assert max(page.run("window.long"), default=0) < 200
        assert page.problems == []


COUNTING = """(() => {
const ntsc = {num: 30000, den: 1001}, sixty = {num: 60000, den: 1001}, rate = {num: 25, den: 1};
const at = AT, kept = new Map();
const shot = {id: "b#1", number: 1, name: "=x", file: "a.mp4", frames: 9, start: 0, drop: false, rate};
const like = {getItem: (key) => kept.get(key) ?? null, setItem: (key, text) => kept.set(key, text)};
const store = new Store({id: "p", title: "t", batch: "b"}, [shot], like);
store.note(shot, 5, 3, 'a,"b"', [], "now");
store.note(shot, 2, 4, "first", [[[0, 1]]], "now");
store.judge(shot, "good");
const again = new Store({id: "p", title: "t", batch: "b"}, [shot], like);
const full = new Store({id: "q"}, [shot], {getItem: () => "{", setItem: () => { throw new Error("full"); }});
full.judge(shot, "good");
return JSON.stringify({
  at: at.map((frame) => Timecode.text(frame, ntsc, true)),
  sixty: at.map((frame) => Timecode.text(frame, sixty, true)),
  again: again.review("later"), table: again.table(Timecode.text), failed: full.failed});
})()"""


@needs_browser
def test_the_scripts_count_and_keep_as_the_program_does(place: Path) -> None:
    at = [0, 1799, 1800, 1801, 17981, 17982, 17983, 107891, 107892, 2589407, 2589408]
    with browser() as page:
        page.open((place / "page" / "index.html").as_uri())
        page.wait("window.reviewPage")
        found = json.loads(page.run(COUNTING.replace("AT", str(at))))
    from boxkite.core.timebase import Timecode

    for key, rate in (("at", "30000/1001"), ("sixty", "60000/1001")):
        day = 2589408 * (2 if key == "sixty" else 1)
        assert found[key] == [str(Timecode(frame % day, FrameRate.parse(rate), drop=True)) for frame in at]
    notes = found["again"]["shots"][0]["notes"]
    assert [(one["frame"], one["end"]) for one in notes] == [(2, 4), (5, None)] and found["failed"]
    assert found["table"].splitlines()[1].startswith("'=x,a.mp4,good,00:00:00:02,00:00:00:04")
    assert '"a,""b"""' in found["table"]


def test_a_page_is_replaced_only_when_asked_and_needs_files_that_browsers_play(
    place: Path, tmp_path: Path
) -> None:
    assert boxkite("review-page", "last", "--into", "page", cwd=place).status == 2
    listed = boxkite("inspect", ".", "--json", cwd=place).json["sources"]
    assert listed and not [one["path"] for one in listed if one["path"].startswith("page/")]  # no footage
    kept = json.loads((place / "page" / "review-page.json").read_text())["page"]
    assert boxkite("review-page", "last", "--into", "page", "--existing", "replace", cwd=place).status == 0
    assert (
        json.loads((place / "page" / "review-page.json").read_text())["page"] == kept
    )  # reviews stay in browsers
    (place / "page" / "review Ada.json").write_text("{}")
    lost = boxkite("review-page", "last", "--into", "page", "--existing", "replace", cwd=place)
    assert (
        lost.status == 2 and "review Ada.json" in lost.err and (place / "page" / "review Ada.json").exists()
    )
    (place / "page" / "review Ada.json").unlink()
    (tmp_path / "own").mkdir()
    (tmp_path / "own" / "thesis.txt").touch()
    refused = boxkite("review-page", "last", "--into", tmp_path / "own", "--existing", "replace", cwd=place)
    assert refused.status == 2 and (tmp_path / "own" / "thesis.txt").exists()
    heavy = boxkite("review-page", "out/stock", "--into", "other", cwd=place)
    assert heavy.status == 2 and "review" in heavy.err and not (place / "other").exists()
    text = (place / "page" / "index.html").read_text()
    assert str(place) not in text and HOSTILE not in text
    assert "default-src 'none'" in text and "unsafe" not in text
    assert boxkite("verify", "out", cwd=place).status == 0


def test_reviews_from_strangers_are_checked(place: Path, tmp_path: Path) -> None:
    path = tmp_path / "r.json"
    whole = {"format": "boxkite-review", "version": 1, "reviewer": "x", "shots": []}
    for change, words in (
        ({"version": 2}, "version 2"), ({"shots": 5}, "no list"),
        ({"shots": [{"verdict": "fine", "notes": []}]}, "verdict"),
        ({"shots": [{"verdict": "good", "notes": [{"frame": -1, "end": None}]}]}, "whole numbers"),
        ({"shots": [{"verdict": "good", "notes": [{"frame": 1, "end": None, "lines": [[["a", 1]]]}]}]}, "lists of"),
    ):  # fmt: skip
        path.write_text(json.dumps({**whole, **change}))
        wrong = boxkite("mark", "import", path, cwd=place)
        assert wrong.status == 2 and words in wrong.err, wrong.err
    path.write_text(
        json.dumps({**whole, "shots": [{"id": "../../x#1", "name": "x", "verdict": "good", "notes": []}]})
    )
    unknown = boxkite("mark", "import", path, "--json", cwd=place)
    assert unknown.status == 1 and kinds(unknown.json["notices"]) == ["review-unknown"]
