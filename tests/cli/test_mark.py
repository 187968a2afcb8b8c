"""Marks beside the footage: made, changed in bulk, kept safe, and carried to and from other lists."""

from __future__ import annotations

import shutil
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest

from boxkite.core.edit.otio.writing import write_otio_edit
from boxkite.core.edit.timeline import Clip, ClipKind, MediaName, Timeline, Track, TrackKind
from boxkite.core.timebase import FrameRate, Span, Timecode
from boxkite.demo.movies import Movie, write_movie
from boxkite.demo.pictures import VAT
from tests import wording
from tests.verification import boxkite, kinds

RATE = FrameRate.parse("25")


@pytest.fixture(scope="module")
def footage(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("footage")
    for name, timecode in (("A-vat2", "10:12:05:00"), ("B-loft7", "")):
        write_movie(Movie(folder / f"{name}.mov", 100, RATE, ((0, VAT),), width=160, height=90, timecode=timecode,
                          audio_tracks=0, chapters=((0, "dip"), (50, "lift"))))  # fmt: skip
    return folder


@pytest.fixture
def card(footage: Path, tmp_path: Path) -> Path:
    for path in footage.iterdir():
        shutil.copy(path, tmp_path)
    return tmp_path


def listed(folder: Path, *words: str) -> list[dict]:
    return boxkite("mark", "list", ".", *words, "--json", cwd=folder).json["marks"]


def test_marks_are_made_found_changed_and_removed(card: Path) -> None:
    for words in (
        [
            "A-vat2.mov",
            "--in",
            "10:12:05:12",
            "--length",
            "2s",
            "--name",
            "slow dip",
            "--keyword",
            "vat",
            "--circled",
        ],
        ["A-vat2.mov", "--in", "60", "--out", "3.5s", "--name", "dip two", "--note", "wet"],
        ["B-loft7.mov", "--in", "10", "--name", "light"],
        ["B-loft7.mov"],
    ):
        assert boxkite("mark", "add", *words, cwd=card).status == 0
    assert [(mark["source"], mark["name"], mark["in"], mark["out"]) for mark in listed(card)] == [
        ("A-vat2.mov", "slow dip", "10:12:05:12", "10:12:07:12"),
        ("A-vat2.mov", "dip two", "10:12:07:10", "10:12:08:13"),
        ("B-loft7.mov", "light", "00:00:00:10", ""),
        ("B-loft7.mov", "", "00:00:00:00", "00:00:04:00"),
    ]
    assert "2 of 4 marks fit “dip”" in boxkite("mark", "list", ".", "--search", "dip", cwd=card).out
    words = ["--search", "dip", "--keyword", "hands", "--name", "@source_@(count:01)"]
    assert "2 marks changed" in boxkite("mark", "change", ".", *words, cwd=card).out
    assert [(mark["name"], mark["keywords"]) for mark in listed(card)[:2]] == [
        ("A-vat2_01", ["vat", "hands"]),
        ("A-vat2_02", ["hands"]),
    ]
    boxkite("mark", "change", "A-vat2.mov", "--number", "2", "--out", "10:12:08:20", "--circled", cwd=card)
    boxkite("mark", "change", ".", "--all", "--drop-keyword", "VAT", "--note", "seen", cwd=card)
    second = listed(card, "--search", "*_02")[0]
    assert (second["out"], second["circled"], second["note"]) == ("10:12:08:20", True, "seen")
    assert "1 mark removed" in boxkite("mark", "remove", ".", "--number", "3", cwd=card).out
    rows = boxkite(
        "plan", ".", "--by", "ranges", "--only", "circled", "--to", "web:out", "--json", cwd=card
    ).json
    assert [(row["marker"], row["in_frame"], row["out_frame"]) for row in rows["rows"]] == [
        ("A-vat2_01", 12, 62),
        ("A-vat2_02", 60, 95),
    ]
    assert "marks-beside" in kinds(rows["notices"])


def test_a_spreadsheet_may_edit_the_table_and_keeps_its_own_columns(card: Path) -> None:
    text = "Paper weight;clip;Name;start;end;good\r\nheavy;A-vat2;séchage;0;25;x\r\n"
    (card / "marks.csv").write_bytes(text.encode("cp1252"))
    assert (
        boxkite("mark", "add", "A-vat2.mov", "--in", "30", "--out", "40", "--name", "two", cwd=card).status
        == 0
    )
    kept = (card / "marks.csv").read_text(encoding="utf-8-sig").splitlines()
    assert kept[0] == "source;name;in;out;keywords;circled;note;colour;Paper weight"
    assert kept[1:] == ["A-vat2;séchage;0;25;;yes;;;heavy", "A-vat2.mov;two;10:12:06:05;10:12:06:15;;;;;"]


def test_many_writers_at_once_lose_nothing(card: Path) -> None:
    def add(number: int) -> int:
        return boxkite(
            "mark", "add", "A-vat2.mov", "--in", str(number), "--name", f"m{number}", cwd=card
        ).status

    with ThreadPoolExecutor(6) as pool:
        assert set(pool.map(add, range(18))) == {0}
    assert sorted(mark["name"] for mark in listed(card)) == sorted(f"m{number}" for number in range(18))
    assert [
        path.name for path in card.iterdir() if path.name.startswith(".marks.csv.") and path.suffix != ".lock"
    ] == []


@pytest.mark.parametrize("suffix", [".csv", ".tsv", ".edl", ".otio"])
def test_marks_survive_every_format_that_is_written_as_far_as_it_says(card: Path, suffix: str) -> None:
    for words in (
        ["--in", "10:12:05:10", "--name", "a point"],
        [
            "--in",
            "20",
            "--length",
            "30",
            "--name",
            "a range",
            "--keyword",
            "wet",
            "--note",
            "good",
            "--circled",
        ],
    ):
        boxkite("mark", "add", "A-vat2.mov", *words, "--colour", "red", cwd=card)
    before = listed(card)
    exported = boxkite("mark", "export", "A-vat2.mov", f"out{suffix}", cwd=card)
    assert exported.status == 0
    lost = "out (1 mark), keywords (1 mark), circled (1 mark), note (1 mark)"
    assert (lost in " ".join(exported.out.split())) == (suffix == ".edl"), exported.out
    again = boxkite("mark", "export", "A-vat2.mov", f"out{suffix}", cwd=card)
    assert again.status == 2 and wording.NEVER_OVERWRITTEN in again.err
    (card / "marks.csv").unlink()
    assert boxkite("mark", "import", "A-vat2.mov", f"out{suffix}", cwd=card).status == 0
    words = (
        ("name", "in", "colour")
        if suffix == ".edl"
        else ("name", "in", "out", "colour", "keywords", "note", "circled")
    )
    assert sorted([mark[word] for word in words] for mark in listed(card)) == sorted(
        [mark[word] for word in words] for mark in before
    )


def test_chapters_and_timelines_give_marks_and_take_them(card: Path) -> None:
    assert "2 marks added" in boxkite("mark", "import", "B-loft7.mov", cwd=card).out
    assert [(mark["name"], mark["in"]) for mark in listed(card)] == [
        ("dip", "00:00:00:00"),
        ("lift", "00:00:02:00"),
    ]
    clip = Clip("A-vat2", ClipKind.MEDIA, Span(0, 80), MediaName("A-vat2.mov", "A-vat2.mov"), 0, RATE, True)
    film = Timeline(
        "film", RATE, Timecode.parse("10:12:05:00", RATE), (Track(TrackKind.PICTURE, "V1", (clip,)),)
    )
    write_otio_edit(card / "film.otio", film)
    boxkite("mark", "add", "film.otio", "--keyword", "web", cwd=card)
    boxkite(
        "mark",
        "add",
        "film.otio",
        "--in",
        "10:12:06:00",
        "--out",
        "10:12:07:00",
        "--name",
        "middle",
        cwd=card,
    )
    whole = boxkite("plan", "film.otio", "A-vat2.mov", "--by", "timelines", "--only", "keyword:web", "--to", "web:out", "--json", cwd=card)  # noqa: E501  # fmt: skip
    assert [row["name"] for row in whole.json["rows"]] == ["film"]
    boxkite(
        "mark", "add", "film.otio", "--in", "10:12:05:00", "--length", "1s", "--keyword", "opening", cwd=card
    )
    part = boxkite("plan", "film.otio", "A-vat2.mov", "--by", "timelines", "--only", "keyword:opening", "--to", "web:out", cwd=card)  # noqa: E501  # fmt: skip
    assert part.status == 2 and wording.LEFT_OUT in part.err
    boxkite("mark", "remove", "film.otio", "--number", "3", cwd=card)
    ranges = boxkite("plan", "film.otio", "A-vat2.mov", "--by", "ranges", "--names", "@(marker|clip)", "--to", "web:out", "--json", cwd=card)  # noqa: E501  # fmt: skip
    assert [(row["marker"], row["in_frame"], row["out_frame"]) for row in ranges.json["rows"]] == [
        ("", 0, 80),
        ("middle", 25, 50),
    ]


@pytest.mark.parametrize(
    ("words", "message"),
    [
        (["add", "A-vat2.mov", "--in", "20:00:00:00"], "A-vat2.mov runs from 10:12:05:00 to 10:12:09:00"),
        (["add", "A-vat2.mov", "--in", "50", "--out", "40"], "does not come after in"),
        (["add", "A-vat2.mov", "--in", "5", "--out", "9", "--length", "2"], "either an out or a length"),
        (["add", "none.mov", "--in", "5"], "no such file"),
        (["change", ".", "--keyword", "x"], "say which marks"),
        (["change", ".", "--all"], "say what to change"),
        (["remove", ".", "--search", "nothing"], "no mark fits that"),
        (["export", "A-vat2.mov", "x.doc"], "no mark on it"),
        (["import", "A-vat2.mov", "none.csv"], "no such file"),
    ],
)
def test_what_cannot_be_done_is_refused_in_one_line(card: Path, words: list[str], message: str) -> None:
    refused = boxkite("mark", *words, cwd=card)
    assert refused.status == 2 and message in refused.err, refused.err
