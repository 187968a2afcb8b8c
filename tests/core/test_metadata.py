"""Facts from tables, logs, sidecars and wave chunks: joined right, every value with its origin."""

from __future__ import annotations

import struct
from pathlib import Path

import pytest

from boxkite.core.errors import MarksError
from boxkite.core.footage.probe import read_source
from boxkite.core.metadata.joining import join_table
from boxkite.core.metadata.lookup import know
from boxkite.core.metadata.wave import read_wave
from boxkite.core.metadata.xmp import read_sidecar
from boxkite.core.timebase import FrameRate
from boxkite.demo.movies import Movie, write_movie
from boxkite.demo.pictures import LOFT, VAT
from boxkite.demo.world import SIDECAR
from tests.verification import boxkite, kinds

RATE = FrameRate.parse("25")
XMP = SIDECAR.replace('scene="60"', 'scene="6" xmpDM:tapeName="B009"').replace(
    "best light of the day", "best light"
)
LOG = "Heading\nFIELD_DELIM\tTABS\nFPS\t25\n\nColumn\nName\tTape\tStart\tScene\tTake\n\nData\n"


@pytest.fixture(scope="module")
def card(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("card")
    for name, number, place, at in (("A-vat2", 1, VAT, "10:00:00:00"), ("B-loft7", 2, LOFT, "14:00:00:00")):
        write_movie(
            Movie(folder / f"{name}.mov", 20, RATE, ((0, place),), number, 160, 90, timecode=at, reel=name[0] + "001",
                  audio_tracks=0)
        )  # fmt: skip
    (folder / "B-loft7.mov.xmp").write_text(XMP, encoding="utf-8")
    (folder / "slates.csv").write_text("Clip;Scene;Paper weight\nb-loft7.MOV;7;Light Rag\nC-press1;5;x\n")
    return folder


def sources(card: Path):
    return [read_source(card / f"{name}.mov") for name in ("A-vat2", "B-loft7")]


def test_the_heavier_origin_holds_and_the_others_are_kept_beside_it(card: Path) -> None:
    both = sources(card)
    known, notices = know(both, [card / "slates.csv"])
    loft = known[both[1].path]
    wanted = {"Paper weight": "Light Rag", "Scene": "7", "keywords": "loft, light", "reel": "B009"}
    assert {name: loft.values[name] for name in wanted} == wanted
    assert [(entry.value, entry.origin) for entry in loft.lost["Scene"]] == [("6", "B-loft7.mov.xmp")]
    assert [(entry.value, entry.origin) for entry in loft.lost["reel"]] == [("B001", "container")]
    assert loft.held["Scene"].origin == "slates.csv:2"
    assert [(one.kind, one.about) for one in notices] == [
        ("row-without-source", "slates.csv:3"), ("sources-without-row", "slates.csv"),
    ]  # fmt: skip


def test_inspect_shows_every_token_with_its_origin_and_what_lost(card: Path) -> None:
    done = boxkite("inspect", "B-loft7.mov", "--tokens", "--metadata", "slates.csv", "--json", cwd=card)
    lines = {line["token"]: line for line in done.json["sources"][0]["tokens"]}
    assert lines["scene"] == {
        "token": "scene", "value": "7", "origin": "slates.csv:2",
        "overrides": [{"value": "6", "origin": "B-loft7.mov.xmp"}],
    }  # fmt: skip
    assert (lines["keyword"]["value"], lines["keyword"]["origin"]) == ("loft", "B-loft7.mov.xmp")
    assert (lines["clip"]["value"], lines["clip"]["origin"]) == ("B-loft7", "file name")
    assert (lines["Paper weight"]["value"], lines["marker"]["value"]) == ("Light Rag", "")
    table = boxkite("inspect", ".", "--tokens", "--metadata", "slates.csv", cwd=card).out
    assert "6 (B-loft7.mov.xmp)" in table and "no row is about A-vat2.mov" in table


def test_good_takes_and_keywords_of_a_sidecar_can_be_chosen_by(card: Path) -> None:
    done = boxkite(
        "plan", ".", "--only", "circled", "--only", "keyword:light", "--to", "web:out", "--json", cwd=card
    )
    assert [row["name"] for row in done.json["rows"]] == ["B-loft7"]


@pytest.mark.parametrize(
    ("choice", "kept", "hint"),
    [
        ("circled", ["A-vat2"], ""),
        ("keyword:drips", ["A-vat2"], ""),
        ("keyword:fast dip", ["A-vat2"], ""),
        ("rating:4-5", ["A-vat2"], ""),
        ("rating:1-3", [], "--only rating:1-3: there are 4.5"),
        ("keyword:drops", [], "there are drips, fast dip"),
        ("name:C*", [], "there are A-vat2, B-loft7"),
    ],
)
def test_columns_of_a_table_are_chosen_by_whatever_their_case(
    card: Path, tmp_path: Path, choice: str, kept: list[str], hint: str
) -> None:
    table = tmp_path / "log.csv"
    table.write_text("Day 3\nClip;Good Take;Keywords;Rating\nA-vat2;YES;drips | fast dip;4.5\nB-loft7;no;;\n")
    (tmp_path / "B").mkdir()
    for name in ("A-vat2.mov", "B-loft7.mov"):  # without the sidecar, which circles it
        (tmp_path / "B" / name).symlink_to(card / name)
    done = boxkite("plan", tmp_path / "B", "--metadata", table, "--only", choice, "--to", "web:out", "--json")
    assert (done.status == 0) == bool(kept)
    assert [row["name"] for row in done.json["rows"]] == kept if kept else hint in done.err, done.err
    if kept:
        assert "title-skipped" in kinds(done.json["notices"])
    marks = tmp_path / "marks.csv"
    marks.write_text("source,name,in,out\nA-vat2,x,2,8\nB-loft7,y,2,8\n")
    by_marks = (
        "--marks",
        marks,
        "--metadata",
        table,
        "--only",
        choice,
        "--names",
        "@marker",
        "--to",
        "web:out",
        "--json",
    )
    if choice == "circled":  # the list of marks circles nothing, so the table counts
        assert [row["name"] for row in boxkite("plan", tmp_path / "B", *by_marks).json["rows"]] == ["x"]


@pytest.mark.parametrize(
    ("text", "match_by", "scene"),
    [
        (LOG + "B-loft7\t\t\t6\t2\n", None, "6"),
        (LOG + "other\tB001\t14:00:00:10\t8\t1\n", None, "8"),
        ("Roll,Scene\nB001,9\n", "roll", "9"),
        ("reel,start,scene\nB001,14:00:00:00,10\nB002,10:00:00:00,12\nA001,14:00:00:00,13\n", None, "10"),
        ("file,scene\n/mill/card/B-loft7.mov,11\n", None, "11"),
    ],
)
def test_rows_find_their_source_by_name_by_reel_and_timecode_or_by_a_chosen_column(
    card: Path, tmp_path: Path, text: str, match_by: str | None, scene: str
) -> None:
    path = tmp_path / ("log.ale" if text.startswith("Heading") else "log.csv")
    path.write_text(text)
    joined = join_table(path, sources(card), match_by)
    (metadata,) = joined.metadata.values()
    assert scene in [entry.value for entry in metadata if entry.name.lower() == "scene"]
    assert [source.clip_name for source in joined.unmatched_sources] == ["A-vat2"]


@pytest.mark.parametrize(
    ("text", "match_by", "message"),
    [
        ("Scene\n3\n", None, "no column says which source"),
        ("Rolle,Scene\nB001,9\n", "roll", "there is no column “roll”"),
    ],
)
def test_a_table_that_names_no_source_is_refused(
    card: Path, tmp_path: Path, text: str, match_by, message: str
) -> None:
    (tmp_path / "log.csv").write_text(text)
    with pytest.raises(MarksError, match=message):
        join_table(tmp_path / "log.csv", sources(card), match_by)


def test_entities_are_not_followed(tmp_path: Path) -> None:
    bomb = '<!DOCTYPE x [<!ENTITY a "aaaaaaaa"><!ENTITY b "&a;&a;&a;&a;">]><x>&b;</x>'
    (tmp_path / "a.xmp").write_text(bomb)
    with pytest.raises(MarksError, match="cannot be read"):
        read_sidecar(tmp_path / "a.xmp")


def wave(*chunks: tuple[bytes, bytes]) -> bytes:
    body = b"".join(
        kind + struct.pack("<I", len(data)) + data + b"\0" * (len(data) % 2) for kind, data in chunks
    )
    return b"RIFF" + struct.pack("<I", len(body) + 4) + b"WAVE" + body


def test_broadcast_wave_chunks_tell_scene_take_and_start(tmp_path: Path) -> None:
    form = struct.pack("<HHIIHH", 1, 1, 48000, 96000, 2, 16)
    since_midnight = 48000 * (36000 + 90) + 24000
    bext = (b"sTAPE=S07\r\n".ljust(256, b"\0") + b"recorder".ljust(32, b"\0") + b"\0" * 32 + b"2026-03-0110:01:30"
            + struct.pack("<Q", since_midnight) + b"\0" * 256)  # fmt: skip
    ixml = (
        b"<BWFXML><SCENE>6</SCENE><TAKE>2</TAKE><CIRCLED>TRUE</CIRCLED><SPEED><NOTE>x</NOTE></SPEED></BWFXML>"
    )
    path = tmp_path / "loft.wav"
    path.write_bytes(wave((b"fmt ", form), (b"bext", bext), (b"iXML", ixml), (b"data", b"\0" * 96_000)))
    metadata = {entry.name: (entry.value, entry.origin) for entry in read_wave(path)}
    assert metadata["scene"] == ("6", "iXML chunk") and metadata["circled"] == ("yes", "iXML chunk")
    assert metadata["reel"] == ("S07", "bext chunk") and metadata["starts at"] == (
        "10:01:30.500",
        "bext chunk",
    )
    assert "note" not in metadata
    listed = boxkite("inspect", "loft.wav", "--tokens", cwd=tmp_path).out
    assert "iXML chunk" in listed and "10:01:30.500" in listed
    path.write_bytes(path.read_bytes()[:300])
    assert isinstance(read_wave(path), list)
