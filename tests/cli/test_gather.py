"""Cards: every file copied and compared, nothing overwritten, the metadata of the day in the names of what is made."""

from __future__ import annotations

import shutil
import subprocess
from pathlib import Path

import pytest

from boxkite.core.files.checksum import file_checksum
from boxkite.core.timebase import FrameRate
from boxkite.demo.movies import Movie, write_movie
from boxkite.demo.pictures import LOFT, draw_picture
from tests import wording
from tests.verification import PROGRAM, boxkite, frames_of


@pytest.fixture
def cards(tmp_path: Path) -> list[Path]:
    """Two cards with a clip of the same name, one with a sequence too, and with what systems leave behind."""
    found = [tmp_path / name for name in ("A001", "B001")]
    for number, card in enumerate(found):
        (card / "clips").mkdir(parents=True)
        movie = Movie(
            card / "clips" / "C01.mov", 10, FrameRate.parse("25"), ((0, LOFT),), width=320, height=180
        )
        write_movie(movie)
        (card / "clips" / "C01.xmp").write_text(f"<x>{number}</x>")
        (card / ".DS_Store").write_text("junk")
    for number in range(1, 6):
        draw_picture(LOFT, 1, number, 320, 180).to_image().save(found[1] / f"loft.{number:04}.png")
    return found


def test_cards_are_copied_verified_and_made_with_the_values_asked_for_once(
    cards: list[Path], tmp_path: Path
) -> None:
    into, out = tmp_path / "originals", tmp_path / "out"
    job = tmp_path / "job.toml"
    job.write_text(f'to = ["web:{out}"]\nby = ["files"]\nnames = "@(Unit)_@(Card)_@clip"\n')
    done = subprocess.run(
        [PROGRAM, "gather", *cards, "--into", into, "--value", "Day=3", "--ask", "Unit", "--job", job],
        input="second\n", capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert done.returncode == 0, done.stdout + done.stderr
    assert done.stderr.count("Unit: ") == 1
    for card in cards:
        for path in card.rglob("*.*"):
            copy = into / path.relative_to(card.parent)
            assert copy.exists() == (path.name != ".DS_Store")
            assert not copy.exists() or file_checksum(copy) == file_checksum(path)
    listed = dict(reversed(line.split("  ")) for line in (into / "checksums.xxh128").read_text().splitlines())
    assert len(listed) == 9
    assert all(file_checksum(into / name) == checksum for name, checksum in listed.items())
    made = {path.name: len(frames_of(path)) for path in out.iterdir()}
    assert made == {"second_A001_C01.mp4": 10, "second_B001_C01.mp4": 10, "second_B001_loft.mp4": 5}


def test_what_is_there_stays_and_what_differs_fails_alone(cards: list[Path], tmp_path: Path) -> None:
    into = tmp_path / "originals"
    assert boxkite("gather", *cards, "--into", into).status == 0
    other = into / "A001" / "clips" / "C01.mov"
    other.write_bytes(b"another")
    (into / "B001" / "loft.0003.png").unlink()
    again = boxkite("gather", *cards, "--into", into, "--json")
    assert again.status == 1
    states = {Path(file["path"]): file for file in again.json["files"]}
    assert "another file is in its place" in states[other]["failure"] and other.read_bytes() == b"another"
    assert not states[into / "B001" / "loft.0003.png"]["was_there"]
    assert sum(file["was_there"] for file in states.values()) == len(states) - 2
    assert not list(into.rglob(".boxkite*"))


def test_cards_that_cannot_be_are_refused(cards: list[Path], tmp_path: Path) -> None:
    shutil.copytree(cards[0], tmp_path / "copy" / "A001")
    (tmp_path / "empty").mkdir()
    for words, message in (
        ([cards[0], tmp_path / "copy" / "A001"], "two cards are called A001"),
        ([tmp_path / "none"], "there is no such card"),
        ([tmp_path / "empty"], "there is nothing on this card"),
        ([cards[0], "--value", "Unit"], "give a name and a value"),
    ):
        done = boxkite("gather", *words, "--into", tmp_path / "originals")
        assert (done.status, message in done.err) == (2, True), done.err
    inside = boxkite("gather", cards[0], "--into", cards[0] / "copy")
    assert (inside.status, wording.TARGET_ON_CARD in inside.err) == (2, True)
