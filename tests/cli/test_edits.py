"""Cutting edits: the same shots from the originals and from the program, chosen, limited, with handles."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
import time
from pathlib import Path

import pytest
from msgspec.structs import replace

from boxkite.core.edit.otio.writing import write_otio_edit
from boxkite.core.timebase import FrameRate, Timecode
from boxkite.demo.movies import Movie, write_movie
from boxkite.demo.pictures import LEADER
from boxkite.demo.world import CLIPS
from tests import wording
from tests.builders import day_edit, write_day
from tests.verification import PROGRAM, boxkite, frames_of, kinds

RATE = FrameRate.parse("25")
SIZE = (640, 360)
CARD = {name: number for name, number, *_ in CLIPS}


@pytest.fixture(scope="module")
def mill(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The card, the edit in both formats, and its finished program."""
    return write_day(tmp_path_factory.mktemp("mill"), SIZE, with_program=True)


def plan(mill: Path, *words: str) -> dict:
    return boxkite("plan", *words, "--to", "review:out", "--json", cwd=mill).json


def test_originals_and_program_give_the_same_shots_and_the_same_frames(mill: Path) -> None:
    """Every frame that is visible, in no transition and at its own speed, is the same picture in both."""
    sides = {"program": ["day.otio", "day.mov"], "originals": ["day-cut.edl", "--media", "card"]}
    for side, words in sides.items():
        done = boxkite(
            "run", *words, "--by", "cuts", "--picture", side, "--to", f"review:{side}", "--json", cwd=mill
        )
        assert done.status == 0, done.err
    by_otio = plan(mill, "day.otio", "--picture", "originals")["rows"]
    assert [row["name"] for row in by_otio] == [
        row["name"] for row in plan(mill, *sides["originals"])["rows"]
    ]
    rows = plan(mill, *sides["program"])["rows"]
    assert [row["name"] for row in rows] == [row["name"] for row in by_otio] and len(rows) == 12
    compared = 0
    for row, original in zip(rows, by_otio, strict=True):
        if "own-speed" in kinds(original["warnings"]):
            assert row["frames"] * 2 == original["frames"]
            continue
        seen = frames_of(mill / "program" / f"{row['name']}.mp4")
        camera = frames_of(mill / "originals" / f"{row['name']}.mp4")
        assert camera == [
            (CARD[row["clip"]], frame) for frame in range(original["in_frame"], original["out_frame"])
        ]
        hidden = range(6, 14) if "hidden" in kinds(row["warnings"]) else ()
        mixed = range(12) if "transition-shown" in kinds(row["warnings"]) else ()
        assert len(seen) == len(camera)
        for number, (shown, wanted) in enumerate(zip(seen, camera, strict=True)):
            if number not in hidden and number not in mixed:
                assert shown == wanted, (row["name"], number)
                compared += 1
    assert compared == 215 - 10 - 15 - 12


def test_what_is_no_shot_is_counted_and_listed(mill: Path) -> None:
    shown = boxkite("plan", "day.otio", "--to", "review:out", "--left-out", cwd=mill).out
    assert "14 left out: 1 black, 1 title or generator, 1 disabled, 11 audio" in shown
    assert "A Hundred Sheets" in shown.partition("left out  ")[2]


def test_timelines_and_clips_in_one_plan(mill: Path) -> None:
    rows = plan(mill, "day.otio", "day.mov", "--by", "timelines,cuts")["rows"]
    assert [(row["name"], row["frames"]) for row in rows[:2]] == [("day", 215), ("loft", 30)] and len(
        rows
    ) == 14
    assert [
        row["name"] for row in plan(mill, "day.otio", "day.mov", "--by", "timelines", "--depth", "0")["rows"]
    ] == ["day"]
    edit = plan(mill, "day.otio", "--by", "timelines", "--picture", "edit")["rows"]
    assert [(row["name"], row["frames"], row["size"]) for row in edit] == [
        ("day", 215, "320x180"),
        ("loft", 30, "320x180"),
    ]


@pytest.mark.parametrize(
    ("words", "shots"),
    [
        (["--only", "circled"], "1 3 11"),
        (["--only", "keyword:vat", "--except", "keyword:hands"], "1 8"),
        (["--only", "name:*loft*", "--except", "track:V2"], "3 5 11"),
        (["--only", "number:2-3,12"], "2 3 12"),
        (["--only", "length:25-"], "3 7 11"),
        (["--only", "length:0.6s,10"], "5 6 12"),
        (["--only", "camera:B", "--metadata", "slates.csv"], "3 5 10 11"),
        (["--only", "(Paper weight):heavy*", "--except", "reel:A00?", "--metadata", "slates.csv"], ""),
        (["--in", "10:00:02:00", "--out", "loft"], "3 4 5 6"),
        (["--in", "10:00:08:00"], "11 12"),
    ],
)  # fmt: skip
def test_only_what_is_asked_for_is_made(mill: Path, words: list[str], shots: str) -> None:
    (mill / "slates.csv").write_text(
        "file;Camera;Paper weight\nB-loft7.mov;B;Light Rag\nA-vat2;A;Heavy Rag\n", encoding="utf-8"
    )
    all_names = [row["name"] for row in plan(mill, "day.otio")["rows"]]
    if not shots:
        refused = boxkite("plan", "day.otio", *words, "--to", "review:out", cwd=mill)
        assert refused.status == 2 and wording.LEFT_OUT in refused.err
        return
    found = plan(mill, "day.otio", *words)
    clips = [all_names[int(number) - 1].partition("_")[0] for number in shots.split()]
    assert [row["clip"] for row in found["rows"]] == clips
    assert all(one["reason"] for one in found["left_out"])


def test_handles_reach_as_far_as_the_media_do(mill: Path) -> None:
    rows = plan(mill, "day.otio", "--only", "name:A-vat2", "--handles", "0.4s")["rows"]
    found = [
        (
            row["handle_in"],
            row["handle_out"],
            row["frames"],
            kinds(row["warnings"]).count("handles-shortened"),
        )
        for row in rows
    ]
    assert found == [(5, 10, 35, 1), (10, 10, 40, 0), (10, 10, 40, 0)]
    handled = [one["values"] for one in rows[0]["warnings"] if one["kind"] == "handles-shortened"]
    assert handled == [{"ends": ["5 at its head"], "asked": 10}]
    whole = plan(mill, "day.otio", "--only", "number:1", "--handles", "whole")["rows"][0]
    assert (whole["in_frame"], whole["out_frame"]) == (0, 100)
    assert "handles-shortened" not in kinds(whole["warnings"])


def test_an_edl_is_cut_between_two_events(mill: Path) -> None:
    rows = plan(mill, "day-cut.edl", "--in", "005", "--out", "009")["rows"]
    assert [row["event"] for row in rows] == ["005", "007", "009"]


def test_touching_shots_become_one_file(mill: Path) -> None:
    rows = plan(mill, "day.otio", "day.mov", "--join", "--except", "track:V2")["rows"]
    assert [row["frames"] for row in rows] == [130, 75]  # ten frames of black lie between them
    assert "joined-with" in kinds(rows[0]["warnings"])


def test_missing_and_ambiguous_media_are_listed_together(mill: Path, tmp_path: Path) -> None:
    shutil.copy(mill / "day-cut.edl", tmp_path)
    for folder in ("one", "two"):
        (tmp_path / folder).mkdir()
        shutil.copy(mill / "card" / "A-vat2.mov", tmp_path / folder)
    refused = boxkite(
        "plan", "day-cut.edl", "--media", "one", "--media", "two", "--to", "web:out", cwd=tmp_path
    )
    assert refused.status == 2
    assert "12 shots have no usable media" in refused.err and "--media" in refused.err
    assert "“A-vat2.mov” fits 2 sources" in refused.err
    assert (
        "“B-loft7.mov” is missing; tried path card/B-loft7.mov, name b-loft7, reel B001 at 14:40:31:22"
        in refused.err
    )


def test_renamed_originals_are_found_by_reel_and_timecode(mill: Path, tmp_path: Path) -> None:
    for number, path in enumerate(sorted((mill / "card").iterdir())):
        shutil.copy(path, tmp_path / f"copy{number}.mov")
    shutil.copy(mill / "day-cut.edl", tmp_path)
    rows = plan(tmp_path, "day-cut.edl", "--media", ".")["rows"]
    assert [row["in"] for row in rows] == [row["in"] for row in plan(mill, "day.otio")["rows"]]


def test_a_program_that_starts_elsewhere_tells_how_to_place_it(mill: Path, tmp_path: Path) -> None:
    start = Timecode.parse("01:00:00:00", RATE)
    write_otio_edit(tmp_path / "day.otio", replace(day_edit().timeline(nested=False), start=start))
    shutil.copy(mill / "day.mov", tmp_path)
    refused = boxkite("plan", "day.otio", "day.mov", "--to", "web:out", cwd=tmp_path)
    assert refused.status == 2 and wording.BEFORE_FIRST_FRAME in refused.err
    moved = plan(tmp_path, "day.otio", "day.mov", "--start-timecode", "01:00:00:00")
    assert moved["rows"][0]["in"] == "01:00:00:00"
    write_movie(Movie(tmp_path / "bare.mov", 215, RATE, ((0, LEADER),), width=160, height=90, audio_tracks=0))
    together = plan(tmp_path, "day.otio", "bare.mov")
    assert (together["rows"][1]["in_frame"], together["rows"][-1]["out_frame"]) == (20, 215)
    assert "begin-together" in kinds(together["notices"])


@pytest.mark.parametrize(
    ("words", "message"),
    [
        (["--only", "circeld"], "did you mean circled"),
        (["--only", "scen:3"], "there is no token “scen”"),
        (["--only", "number:x"], "numbers are written as"),
        (["--handles", "lots"], "give frames, seconds"),
        (["--in", "01:00:00"], "three fields"),
        (["--out", "web/out"], "destinations go to --to"),
        (["--in", "A-vat3"], "did you mean a-vat2"),
        (["--by", "markers"], "needs footage or a finished program"),
        (["--picture", "program"], "name it too"),
    ],
)
def test_what_cannot_be_meant_is_refused_with_what_to_do(mill: Path, words: list[str], message: str) -> None:
    refused = boxkite("plan", "day.otio", *words, "--to", "web:out", cwd=mill)
    assert refused.status == 2 and message in refused.err, refused.err


def test_a_timeline_without_a_clip_is_shown_and_makes_no_shot(tmp_path: Path) -> None:
    times = (("start_time", 0), ("duration", 50))
    span = {key: {"OTIO_SCHEMA": "RationalTime.1", "rate": 25, "value": value} for key, value in times}
    gap = {"OTIO_SCHEMA": "Gap.1", "source_range": {"OTIO_SCHEMA": "TimeRange.1", **span}}
    track = {"OTIO_SCHEMA": "Track.1", "kind": "Video", "children": [gap]}
    empty = {"OTIO_SCHEMA": "Timeline.1", "tracks": {"OTIO_SCHEMA": "Stack.1", "children": [track]}}
    (tmp_path / "selects.otio").write_text(json.dumps(empty))
    shown = boxkite("inspect", "selects.otio", cwd=tmp_path)
    assert (shown.status, shown.err) == (0, "") and "0 clips" in shown.out, shown.err
    assert boxkite("plan", "selects.otio", "--by", "cuts", "--to", "web:out", cwd=tmp_path).status == 2


_MEASURED = """import os, subprocess, sys
process = subprocess.Popen(sys.argv[1:])
_, status, used = os.wait4(process.pid, 0)
sys.stderr.write(f"{used.ru_maxrss} {used.ru_utime + used.ru_stime}")
sys.exit(status)"""
"""Says what a command took; started from a small process, since what that has held counts for its children too."""


def _slowness() -> float:
    """How much longer than on a usual core timecodes and memory take here and now, 1 or more."""
    at = Timecode.parse("10:00:00:00", RATE)
    started = time.process_time()
    for number in range(40_000):
        assert str(Timecode.parse(str(at + number), RATE))
    counted = time.process_time()
    for _ in range(10):
        assert len({number: (number, str(number)) for number in range(100_000)}) == 100_000
    return max(1.0, (counted - started) / 0.45, (time.process_time() - counted) / 0.4)


@pytest.mark.parametrize("kind", ["events", "marks"])
def test_ten_thousand_are_read_and_planned_soon_and_small(mill: Path, tmp_path: Path, kind: str) -> None:
    """Three seconds of a usual core and 300 MB, at the best of three tries, with the modules compiled."""
    if kind == "events":
        first, at = Timecode.parse("10:12:05:00", RATE), Timecode.parse("10:00:00:00", RATE)
        lines = ["TITLE: long", "FCM: NON-DROP FRAME"]
        for number in range(10_000):
            source, record = first + number % 80, at + 10 * number
            lines.append(f"{number:06d}  A003  V  C  {source} {source + 10} {record} {record + 10}")
        (tmp_path / "long.edl").write_text("\n".join(lines))
        words = ["long.edl", "--media", str(mill / "card")]
    else:
        lines = ["name,source,in,out"] + [
            f"m{number},A-vat2,{number % 80},{number % 80 + 9}" for number in range(10_000)
        ]
        (tmp_path / "long.csv").write_text("\n".join(lines))
        words = [str(mill / "card"), "--marks", "long.csv", "--names", "@marker"]
    command = [sys.executable, "-c", _MEASURED, PROGRAM, "plan", *words, "--to", "web:out"]
    compiled = os.environ | {"PYTHONDONTWRITEBYTECODE": ""}
    took: list[str] = []
    for _ in range(3):
        before = _slowness()
        with (tmp_path / "message").open("wb") as message:
            done = subprocess.run(
                command,
                cwd=tmp_path,
                env=compiled,
                stdout=message,
                stderr=subprocess.PIPE,
                text=True,
                check=True,
            )
        kilobytes, seconds = map(float, done.stderr.split()[-2:])
        assert (tmp_path / "message").read_bytes().count(b"\n") > 10_000
        assert kilobytes * 1024 < 300_000_000
        if seconds < 3 * max(before, _slowness()):
            return
        took.append(f"{seconds:.2f} s at slowness {before:.2f}")
    pytest.fail(f"more than three seconds of a usual core each time: {', '.join(took)}")


def test_differences_from_the_edit_is_reported_on_rows_and_in_one_line(mill: Path, tmp_path: Path) -> None:
    words = ("day.otio", "--by", "cuts", "--picture", "originals", "--to", f"web:{tmp_path}/out")
    planned = boxkite("plan", *words, "--json", cwd=mill).json
    differences = planned["totals"]["differences"]
    assert {
        "with transitions": 1,
        "with another speed": 1,
        "with titles above": 1,
        "hidden by a clip above": 1,
    }.items() <= differences.items()
    for row in planned["rows"]:
        message = kinds(row["warnings"])
        for difference, kind in (
            ("with transitions", "transition-not-made"),
            ("with another speed", "own-speed"),
            ("with titles above", "titles-not-made"),
            ("hidden by a clip above", "hidden-in-edit"),
            ("shorter than a second", "short"),
        ):
            assert (difference in row["differences"]) is (kind in message), (row["name"], difference, message)
    message = boxkite("plan", *words, cwd=mill).out
    assert wording.DIFFERS in message
    program = boxkite("plan", "day.otio", "day.mov", "--to", f"web:{tmp_path}/out", "--json", cwd=mill).json
    assert set(program["totals"]["differences"]) <= {"shorter than a second"}


def test_warnings_come_first_one_line_for_a_kind_and_the_next_step_last(mill: Path, tmp_path: Path) -> None:
    words = ("plan", "day.otio", "--by", "cuts", "--picture", "originals", "--to", f"web:{tmp_path}/out")
    rows = boxkite(*words, "--json", cwd=mill).json["rows"]
    short = [row["number"] for row in rows if "short" in kinds(row["warnings"])]
    lines = boxkite(*words, cwd=mill).out.splitlines()
    grouped = [line for line in lines if wording.SHORT in line and line.startswith("! 1 ")]
    assert len(short) > 2 and [line.rpartition("(")[2] for line in grouped] == [
        f"{len(short) - 1} more: {', '.join(map(str, short[1:]))})"
    ]
    head = next(place for place, line in enumerate(lines) if line.lstrip().startswith("#"))
    assert all(lines.index(line) < head for line in grouped) and wording.NEXT_STEP in lines[-1]
    in_full = boxkite(*words, "--warnings", cwd=mill).out.splitlines()
    of_rows = [line for line in in_full if line.startswith("! ") and f"frames: {wording.SHORT}" in line]
    assert [int(line.split()[1]) for line in of_rows] == short


def test_media_at_another_rate_keep_it_and_the_row_says_so(mill: Path, tmp_path: Path) -> None:
    other = FrameRate.parse("24")
    write_movie(
        Movie(tmp_path / "slow.mov", 48, other, ((0, LEADER),), width=160, height=90, timecode="10:00:00:00")
    )
    (tmp_path / "slow.edl").write_text(
        "TITLE: slow\nFCM: NON-DROP FRAME\n"
        "001  AX  V  C  10:00:00:00 10:00:01:05 01:00:00:00 01:00:01:05\n* FROM CLIP NAME: slow.mov\n"
    )
    row = boxkite("plan", "slow.edl", "--media", "slow.mov", "--marks-rate", "25", "--to", "web:out", "--json",
                  cwd=tmp_path).json["rows"][0]  # fmt: skip
    assert (row["rate"], row["differences"]) == ("24", ["with another rate"])
    assert "own-rate" in kinds(row["warnings"])
