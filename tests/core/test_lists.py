"""Lists of marks as people have them: told apart by their content, whatever the file is called."""

from __future__ import annotations

import datetime
from pathlib import Path

import openpyxl
import pytest

from boxkite.core.edit.reading import read_marks
from boxkite.core.errors import MarksError
from boxkite.core.marks.mark import Mark
from boxkite.core.shots.placing import place_marks
from boxkite.core.timebase import FrameRate
from tests.builders import indexed, make_source

DIP, COUCH = 125, 300
"""Frames of the first two marks in each list below, at 25 fps, in a program that starts at 01:00:00:00."""
POINTS = {
    "chapter lines": "A Hundred Sheets\n0:05 First dip\n0:12 Couch\n",
    "chapter lines with dashes": "00:05 - First dip\n00:12 – Couch\n",
    "chapter keys": "CHAPTER01=00:00:05.000\nCHAPTER01NAME=First dip\nCHAPTER02=00:00:12.000\nCHAPTER02NAME=Couch\n",
    "timecode and name": "01:00:05:00 First dip\n01:00:12:00\tCouch\n",
    "user, timecode, track, colour, comment": "mira\t01:00:05:00\tV1\tred\tFirst dip\t1\n"
    "mira\t01:00:12:00\tV1\tgreen\tCouch\t1\n",
    "locators with tabs": "TITLE: day\nFCM: NON-DROP FRAME\n\n"
    "001  AX       V     C        01:00:00:00 01:01:00:00 01:00:00:00 01:01:00:00\n"
    "* LOC:\t01:00:05:00\tTEAL\tFirst dip\n*LOC: 01:00:12:00 ANYTHING  Couch\n",
    "table of Time and Marker": "Time,Marker\n01:00:05:00,First dip\n01:00:12:00,Couch\n",
}
RANGES = {
    "WebVTT": "WEBVTT\n\nNOTE made up\n\nintro\n00:05.000 --> 00:09.480 align:start\nFirst <b>dip</b>\nslowly\n\n"
    "00:00:12.000 --> 00:00:14.000\nCouch\n",
    "SRT": "1\r\n00:00:05,000 --> 00:00:09,480\r\nFirst dip\r\nslowly\r\n\r\n"
    "2\r\n00:00:12,000 --> 00:00:14,000\r\nCouch\r\n",
    "FFMETADATA": ";FFMETADATA1\ntitle=day\n[CHAPTER]\nTIMEBASE=1/1000\nSTART=5000\nEND=9480\ntitle=First dip\n"
    "[CHAPTER]\nTIMEBASE=1/1000\nSTART=12000\nEND=14000\ntitle=Couch\n",
    "labels": "5.000000\t9.480000\tFirst dip\n\\\t100.0\t200.0\n12.000000\t14.000000\tCouch\n",
    "timecodes and name": "01:00:05:00 - 01:00:09:12 First dip\n01:00:12:00 01:00:14:00 Couch\n",
    "rows without a head": "First dip,01:00:05:00,01:00:09:12,slowly\nCouch,01:00:12:00,01:00:14:00,\n",
    "log": "Heading\nFIELD_DELIM\tTABS\n\nColumn\nName\tStart\tEnd\n\nData\n"
    "First dip\t01:00:05:00\t01:00:09:12\nCouch\t01:00:12:00\t01:00:14:00\n",
}


def placed(path: Path) -> list[tuple[str, int, int | None]]:
    """(name, first frame, first frame after it) of the marks of a list, on a program of a minute."""
    marks = read_marks(path)
    footage = indexed(make_source(frames=1500), "01:00:00:00")
    return [
        (one.mark.name, one.start, one.end) for one in place_marks(marks, list(marks.marks), footage, None)
    ]


@pytest.mark.parametrize("extension", [".txt", ".csv", ".log"])
@pytest.mark.parametrize("form", POINTS)
def test_points_are_read_by_what_the_list_holds(tmp_path: Path, form: str, extension: str) -> None:
    if form.startswith("locators") and extension == ".csv":
        pytest.skip("an EDL is not called a table")
    listed = tmp_path / f"marks{extension}"
    listed.write_text(POINTS[form], encoding="utf-8")
    assert placed(listed) == [("First dip", DIP, None), ("Couch", COUCH, None)]


@pytest.mark.parametrize("extension", [".txt", ".edl"])
@pytest.mark.parametrize("form", RANGES)
def test_ranges_are_read_by_what_the_list_holds(tmp_path: Path, form: str, extension: str) -> None:
    listed = tmp_path / f"marks{extension}"
    listed.write_text(RANGES[form], encoding="utf-8")
    assert placed(listed) == [("First dip", DIP, 237), ("Couch", COUCH, 350)]


def test_what_stands_beside_a_name_is_kept(tmp_path: Path) -> None:
    listed = tmp_path / "marks.txt"
    listed.write_text("mira\t01:00:05:00\tV1\tred\tFirst dip\n   from the left\n", encoding="utf-8")
    (mark,) = read_marks(listed).marks
    assert (mark.colour, mark.note, dict(mark.metadata)) == (
        "red",
        "from the left",
        {"user": "mira", "track": "V1"},
    )
    listed.write_text(RANGES["WebVTT"], encoding="utf-8")
    assert read_marks(listed).marks[0].note == "slowly"


def test_a_workbook_is_a_table(tmp_path: Path) -> None:
    book = openpyxl.Workbook()
    sheet = book.active
    assert sheet
    sheet.append(["A Hundred Sheets"])
    sheet.append(["Marker", "Start Time", "End Time", "Good Take", "Tags"])
    sheet.append(["First dip", "01:00:05:00", "01:00:09:12", "Yes", "vat; dip | wet"])
    sheet.append(["Couch", datetime.time(0, 0, 12), 14.5, None, None])
    book.save(tmp_path / "picks.xlsx")
    marks = read_marks(tmp_path / "picks.xlsx")
    assert [str(one) for one in marks.warnings] == [
        "picks.xlsx:1: a title above the head, skipped: A Hundred Sheets"
    ]
    assert placed(tmp_path / "picks.xlsx") == [("First dip", DIP, 237), ("Couch", COUCH, 363)]
    assert marks.marks[0].circled and marks.marks[0].keywords == ("vat", "dip", "wet")
    (tmp_path / "broken.xlsx").write_bytes(b"PK\x03\x04 no workbook")
    with pytest.raises(MarksError, match="not a workbook"):
        read_marks(tmp_path / "broken.xlsx")


@pytest.mark.parametrize("written", ["01:00:02;00", "01:00:02.00", "01:00:02,00"])
def test_drop_frame_may_be_written_with_a_point_or_a_comma(tmp_path: Path, written: str) -> None:
    listed = tmp_path / "marks.txt"
    listed.write_text(f"01:00:00:00 Beater\n{written} Couch\n01:01:00{written[8]}02 Loft\n", encoding="utf-8")
    source = make_source(rate=FrameRate.parse("29.97"), frames=9000)
    footage = indexed(source, "01:00:00;00")
    marks = read_marks(listed)
    found = [one.start for one in place_marks(marks, list(marks.marks), footage, FrameRate.parse("29.97"))]
    assert found == [0, 60, 1800]  # labels 0 and 1 of the second minute are left out


def test_what_is_no_list_says_what_was_looked_for(tmp_path: Path) -> None:
    letter = tmp_path / "letter.txt"
    letter.write_text("Dear Mira,\nthe sheets are dry.\n", encoding="utf-8")
    with pytest.raises(MarksError) as refused:
        read_marks(letter)
    assert all(word in refused.value.hint for word in ("WebVTT", "SRT", "CHAPTER01", "labels", "LOC"))


def test_a_name_may_begin_with_a_clock_time(tmp_path: Path) -> None:
    listed = tmp_path / "marks.txt"
    listed.write_text("0:05 12:30 train\n0:12 to the loft\n", encoding="utf-8")
    found: tuple[Mark, ...] = read_marks(listed).marks
    assert [(mark.name, mark.end) for mark in found] == [("12:30 train", None), ("to the loft", None)]


def test_a_column_without_a_head_is_kept_and_reported(tmp_path: Path) -> None:
    listed = tmp_path / "picks.csv"
    listed.write_text("name,in,,out,\ndip,0,wet,9,\n", encoding="utf-8")
    found = read_marks(listed)
    assert dict(found.marks[0].metadata) == {"column 3": "wet"}
    assert [str(one) for one in found.warnings] == ["picks.csv: without a head, so kept as: column 3"]
