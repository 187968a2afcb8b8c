"""Trimmed projects and copies: every frame the edit shows is there, and the edit finds it."""

from __future__ import annotations

from pathlib import Path

import av
import numpy as np
import pytest

from boxkite.core.footage.frame_index import measure_frames
from boxkite.core.footage.keyframes import stored_frames
from boxkite.core.footage.probe import read_source
from boxkite.core.timebase import FrameRate, Span
from boxkite.demo.movies import Movie, write_movie
from boxkite.demo.pictures import VAT
from tests import wording
from tests.builders import write_day
from tests.verification import audio_of, boxkite, frames_of

RATE = FrameRate.parse("25")


@pytest.fixture(scope="module")
def mill(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return write_day(tmp_path_factory.mktemp("mill"), (160, 90))


def shown(edit: Path, out: Path, *words: str) -> list[list[tuple[int, int]]]:
    """The bar codes of every clip of an edit, cut from the originals."""
    done = boxkite("run", edit, *words, "--by", "cuts", "--picture", "originals", "--names", "@(count:01)", "--to",
                   f"proxy:{out}", "--set", "proxy.size_percent=100", "--json")  # fmt: skip
    assert done.status == 0, done.err
    return [frames_of(Path(file["path"])) for file in done.json["files"]]


@pytest.mark.parametrize(
    ("preset", "how"), [("copy", ()), ("copy", ("--exact-cuts",)), ("stock", ("--separate",))]
)
def test_the_edit_of_a_trimmed_project_shows_the_frames_it_showed(
    mill: Path, tmp_path: Path, preset: str, how
) -> None:
    before = shown(mill / "day.otio", tmp_path / "before")
    done = boxkite(
        "trim", mill / "day.otio", "--handles", "8", "--to", f"{preset}:{tmp_path}/trimmed", *how, "--json"
    )
    assert done.status == 0, done.err
    assert len(done.json["files"]) == 4 if "--separate" not in how else len(done.json["files"]) > 4
    assert ("splice" in [file["how"] for file in done.json["files"]]) == ("--exact-cuts" in how)
    assert done.json["source_bytes"] == sum(path.stat().st_size for path in (mill / "card").glob("*.mov"))
    for source in (mill / "card").iterdir():
        source.rename(source.with_suffix(".away"))  # the new edit must not find the old media
    try:
        assert shown(tmp_path / "trimmed/day-trimmed.otio", tmp_path / "after") == before
    finally:
        for source in (mill / "card").iterdir():
            source.rename(source.with_suffix(".mov"))


def test_a_trim_shows_its_sizes_first_and_writes_no_edit_when_a_file_fails(
    mill: Path, tmp_path: Path
) -> None:
    words = ("trim", mill / "day-cut.edl", "--media", mill / "card", "--to", f"copy:{tmp_path}/out")
    message = boxkite(*words, "--show-only")
    assert wording.SOURCES_USED in message.out
    assert "A-vat2" in message.out
    assert list(tmp_path.iterdir()) == []
    (tmp_path / "out").mkdir()
    (tmp_path / "out/A-vat2.mov").touch()
    assert boxkite(*words).status == 2
    (tmp_path / "out/A-vat2.mov").unlink()
    assert "from 1 to 256" in boxkite(*words, "--workers", "-1").err
    assert boxkite(*words).status == 0
    assert len(list((tmp_path / "out").glob("*.otio"))) == 1
    assert "edit exists already" in boxkite(*words, "--existing", "replace").err


@pytest.mark.parametrize(
    ("name", "options"),
    [("long.mov", {"g": "24", "bf": "3", "sc_threshold": "0"}),
     ("open.mkv", {"g": "24", "bf": "3", "x264-params": "open-gop=1"}), ("short.mp4", {"g": "5", "bf": "0"})],
)  # fmt: skip
def test_a_copy_begins_and_ends_where_it_can_and_loses_nothing_that_was_wanted(
    tmp_path: Path, name: str, options
) -> None:
    path = tmp_path / name
    write_movie(Movie(path, 90, RATE, ((0, VAT),), width=160, height=90, options=options, audio_tracks=2,
                      audio_codec="aac", timecode="10:00:00:00"))  # fmt: skip
    source = read_source(path)
    table, stored = measure_frames(source), stored_frames(source)
    spans = [Span(0, 90), Span(30, 41), Span(24, 48), Span(47, 49), Span(88, 90), Span(1, 2)]
    (tmp_path / "m.csv").write_text(
        "name,in,out\n" + "".join(f"s{one.start},{one.start},{one.end}\n" for one in spans)
    )
    words = [
        path,
        "--by",
        "ranges",
        "--marks",
        tmp_path / "m.csv",
        "--names",
        "@marker",
        "--to",
        f"copy:{tmp_path}/out",
    ]
    planned = boxkite("plan", *words, "--json").json["rows"]
    done = boxkite("run", *words, "--json")
    assert done.status == 0, done.json["files"]
    for span, row, file in zip(spans, planned, done.json["files"], strict=True):
        copied = stored.copied_span(table, span)
        assert copied and copied.start <= span.start and copied.end >= span.end
        assert (row["in_frame"], row["out_frame"], row["how"]) == (copied.start, copied.end, "copy")
        assert row["path"] == file["path"]
        found = frames_of(Path(file["path"]))
        assert found == [(1, frame) for frame in range(copied.start, copied.end)]
        moves = [one["values"]["moves"] for one in row["warnings"] if one["kind"] == "copy-moves-ends"]
        assert [move.split()[:3] for listed in moves for move in listed] == [
            [end, "moves", str(frames)]
            for end, frames in (("in", span.start - copied.start), ("out", copied.end - span.end))
            if frames
        ]
        with av.open(file["path"]) as container:
            assert len(container.streams.audio) == 2
        samples, rate = audio_of(Path(file["path"]))
        assert abs(len(samples) / rate - copied.length / 25) < 0.05
        assert np.abs(samples).max() > 0


def test_edit_decision_lists_are_trimmed_too(mill: Path, tmp_path: Path) -> None:
    before = shown(mill / "day-cut.edl", tmp_path / "before", "--media", str(mill / "card"))
    done = boxkite("trim", mill / "day-cut.edl", "--media", mill / "card", "--to", f"copy:{tmp_path}/trimmed")
    assert done.status == 0, done.err
    assert shown(next((tmp_path / "trimmed").glob("*.otio")), tmp_path / "after") == before
