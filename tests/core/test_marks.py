"""Lists of marks as they come, and each outcome the guide promises for them."""

from __future__ import annotations

from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from boxkite.core.edit.edl.markers import read_edl_markers, write_edl_markers
from boxkite.core.edit.reading import read_marks
from boxkite.core.errors import BoxkiteError, MarksError
from boxkite.core.marks.ranges import read_ranges
from boxkite.core.shots.cutting import cut_at_markers, cut_at_ranges
from boxkite.core.shots.placing import counting_notice, half_rate_notice, place_marks
from boxkite.core.shots.shot import Cut, IndexedSource
from boxkite.core.timebase import FrameRate, Timecode
from tests.builders import indexed, make_footage

EVENT = "001  AX       V     C        01:00:00:00 01:00:10:00 01:00:00:00 01:00:10:00\n"


def footage(rate: str = "25", frames: int = 250, start: str | None = "01:00:00:00") -> IndexedSource:
    return make_footage(rate=FrameRate.parse(rate), frames=frames, start_timecode=start)


def cut(path: Path, on: IndexedSource, *, by: str = "markers", marks_rate: str | None = None) -> Cut:
    marks = read_marks(path)
    placed = place_marks(marks, list(marks.marks), on, FrameRate.parse(marks_rate) if marks_rate else None)
    return cut_at_markers(marks, placed, on, "END") if by == "markers" else cut_at_ranges(marks, placed, on)


def shots(found: Cut) -> list[tuple[str, int, int]]:
    return [(shot.marker, shot.span.start, shot.span.end) for shot in found.shots]


def write(folder: Path, text: str, name: str = "list.edl", encoding: str = "utf-8") -> Path:
    (folder / name).write_bytes(text.encode(encoding))
    return folder / name


def test_a_point_runs_to_the_next_mark_and_the_closing_marker_makes_no_file(tmp_path: Path) -> None:
    path = write(tmp_path, f"TITLE: a\n{EVENT}* LOC: 01:00:01:00 RED first dip\n* LOC: 01:00:04:05 GREEN couching\n"
                           "*loc:  01:00:09:00   blue   End\n")  # fmt: skip
    found = cut(path, footage())
    assert shots(found) == [("first dip", 25, 105), ("couching", 105, 225)]
    assert [(span.start, span.end) for _, span in found.uncovered] == [(0, 25), (225, 250)]


def test_without_a_closing_marker_the_last_shot_runs_to_the_end(tmp_path: Path) -> None:
    path = write(tmp_path, "* LOC: 01:00:08:00 dip without colour\n")
    assert shots(cut(path, footage())) == [("dip without colour", 200, 250)]


def test_bar_separated_notes_mark_the_event_above_and_only_long_ones_have_a_length(tmp_path: Path) -> None:
    text = (
        "FCM: NON-DROP FRAME\n2 dips will come and go in here\n001  001      V     C        01:00:01:00 01:00:01:01 01:00:01:00 01:00:01:01  \n"  # noqa: E501
        "3 hands: in the vat |C:DeepSkyBlue |M:first | dip |D:1\n\n"
        "002  001      V     C        01:00:03:00 01:00:03:01 01:00:03:00 01:00:03:01\n|D:20 |C:Red |M:a length\n"
        "003  001      V     C        01:00:05:00 01:00:05:01 01:00:05:00 01:00:05:01\n|M:point|D:0\n"
    )
    path = write(tmp_path, text)
    assert shots(cut(path, footage())) == [("first | dip", 25, 75), ("a length", 75, 95), ("point", 125, 250)]
    read = read_edl_markers(path)
    assert [mark.colour for mark in read.marks] == ["blue", "red", ""]
    assert read.marks[0].note == "3 hands: in the vat"
    assert [(one.kind, one.about) for one in read.warnings] == [("line-skipped", "line 2")]


def test_titles_modes_comments_and_blank_lines_come_in_any_order_and_encoding(tmp_path: Path) -> None:
    text = f"* a comment\r\n\r\n{EVENT.strip()}\r\n* FROM CLIP NAME: Bütte\r\nTITLE:   x\r\n* LOC: 01:00:01:00 RED Bütte\r\n"  # noqa: E501
    for encoding in ("utf-8", "utf-8-sig", "utf-16", "utf-16-le", "cp1252"):
        for line_end in ("\r\n", "\r", "\n"):
            path = write(tmp_path, text.replace("\r\n", line_end), encoding=encoding)
            assert shots(cut(path, footage())) == [("Bütte", 25, 250)]


def test_each_odd_marker_has_its_one_visible_outcome(tmp_path: Path) -> None:
    path = write(
        tmp_path,
        "* LOC: 01:00:06:00 RED later\n* LOC: 01:00:02:00 RED first\n* LOC: 01:00:02:00 RED second\n"
        "* LOC: 00:59:59:00 RED before\n* LOC: 01:00:10:00 RED behind\n* LOC: 01:00:08:00 RED\n",
    )
    found = cut(path, footage())
    assert shots(found) == [("first", 50, 150), ("later", 150, 200), ("", 200, 250)]
    assert [(one.kind, one.about) for one in found.notices] == [
        ("marks-unsorted", "list.edl"), ("mark-before-media", "list.edl:4"), ("mark-on-same-frame", "list.edl:3"),
        ("mark-after-media", "list.edl:5"),
    ]  # fmt: skip
    assert [one.kind for one in found.shots[2].warnings] == ["unnamed-mark"]


def test_drop_frame_lists_land_on_the_frames_a_counter_gives(tmp_path: Path) -> None:
    on = footage("29.97", 5000, "01:00:00;00")
    path = write(
        tmp_path,
        "FCM: DROP FRAME\n* LOC: 01:01:00:02 RED by the mode line\n* LOC: 01:02:00;02 RED by its sign\n",
    )
    assert [span[1] for span in shots(cut(path, on))] == [1800, 3598]
    plain = write(tmp_path, "* LOC: 01:01:00:02 RED as the program counts\n")
    assert [span[1] for span in shots(cut(plain, on))] == [1800]
    other = write(tmp_path, "FCM: NON-DROP FRAME\n* LOC: 01:01:00:00 RED counted otherwise\n")
    assert [span[1] for span in shots(cut(other, on))] == [1800]
    told = counting_notice(read_marks(other), on)
    assert told and (told.values["list_counting"], told.values["source_counting"]) == (
        "non-drop",
        "drop-frame",
    )


@pytest.mark.parametrize(
    ("marks_rate", "rate", "at", "frame"),
    [("25", "50", "01:00:02:10", 120), ("24", "23.976", "01:00:10:12", 252), ("50", "25", "01:00:01:30", 40),
     ("30", "25", "01:00:01:15", 38)],
)  # fmt: skip
def test_a_list_at_another_rate_is_placed_by_time(
    marks_rate: str, rate: str, at: str, frame: int, tmp_path: Path
) -> None:
    path = write(tmp_path, f"* LOC: {at} RED there\n")
    assert shots(cut(path, footage(rate, 1000), marks_rate=marks_rate))[0][1] == frame


def test_a_list_that_seems_to_count_at_half_the_rate_is_wondered_at(tmp_path: Path) -> None:
    lines = [f"* LOC: 01:00:0{second}:{5 * second:02d} RED m{second}" for second in range(6)]
    marks = read_marks(write(tmp_path, "\n".join(lines)))
    fast = footage("59.94", 600)
    wondered = half_rate_notice(marks, fast, None)
    assert wondered and wondered.values["half"] == "29.97"
    assert half_rate_notice(marks, fast, FrameRate.parse("29.97")) is None
    assert half_rate_notice(marks, footage("29.97"), None) is None
    assert half_rate_notice(read_marks(write(tmp_path, lines[5].replace("25", "45"))), fast, None) is None


def test_a_start_timecode_given_with_colons_counts_as_the_source_does() -> None:
    source = replace(
        footage("29.97").source, start_timecode=Timecode.parse("00:00:00;00", FrameRate.parse("29.97"))
    )
    given = indexed(source, "01:00:00:00")
    assert str(given.start) == "01:00:00;00"


def test_marks_after_midnight_belong_to_a_program_that_began_before(tmp_path: Path) -> None:
    path = write(tmp_path, "* LOC: 23:59:59:00 RED a\n* LOC: 00:00:02:00 RED b\n")
    assert shots(cut(path, footage(start="23:59:58:00"))) == [("a", 25, 100), ("b", 100, 250)]


@pytest.mark.parametrize(
    ("text", "line", "says"),
    [
        ("TITLE: a\n* LOC: 01:00:0x:00 RED a\n", 2, "not a timecode"),
        (
            "\n001  AX  V  C  01:00:00:00 01:00:61:00 01:00:00:00 01:00:01:00\n* LOC: 01:00:00:00 a\n",
            2,
            "not a timecode",
        ),
        ("001 AX V C 01:00:00:00 01:00:01:00 01:00:00 01:00:01:00\n", 1, "not a timecode"),
        ("* LOC: 01:00:00:00 RED a\n* LOC: 01:00:01:25 RED b\n", 2, "no frame 25"),
        (
            "001 AX V C 01:00:00:00 01:00:01:00 01:00:00:00 01:00:01:29\n* LOC: 01:00:00:00 RED a\n",
            1,
            "no frame 29",
        ),
        ("* LOC: 01:00:00;00 RED a\n", 1, "not defined at 25"),
        ("|M:early|D:1\n", 1, "before the first event"),
        (f"{EVENT}|M:a|D:long\n", 2, "not a length"),
        (EVENT, None, "no marker"),
    ],
)
def test_a_broken_list_is_refused_with_its_line(
    text: str, line: int | None, says: str, tmp_path: Path
) -> None:
    with pytest.raises(MarksError, match=says) as caught:
        cut(write(tmp_path, text), footage())
    assert caught.value.line == line


def test_ranges_come_in_any_order_of_columns_and_with_any_separator(tmp_path: Path) -> None:
    for character in ",;\t":
        rows = [
            "Note|Out|Weight|NAME|Keywords|In",
            "wet|01:00:03:00|90 g|dip|vat, hands|01:00:01:00",
            "||||",
            "|4s||b||75",
        ]
        text = "\n".join(
            character.join(f'"{cell}"' if cell else "" for cell in row.split("|")) for row in rows
        )
        path = write(tmp_path, text + "\n", "list.csv")
        assert shots(cut(path, footage(), by="ranges")) == [("dip", 25, 75), ("b", 75, 100)]
        first = read_ranges(path).marks[0]
        assert (first.keywords, first.note, dict(first.metadata)) == (
            ("vat", "hands"),
            "wet",
            {"Weight": "90 g"},
        )


def test_ranges_are_shortened_where_the_media_ends_and_reported(tmp_path: Path) -> None:
    path = write(tmp_path, "sep=,\nname,in,out\nlong,240,300\nbehind,250,260\nno out,3,3\n", "list.csv")
    found = cut(path, footage(), by="ranges")
    assert shots(found) == [("long", 240, 250)]
    assert [(one.kind, one.values) for one in found.shots[0].warnings] == [("shortened", {"frames": 50})]
    assert [(one.kind, one.about) for one in found.notices] == [
        ("mark-after-media", "list.csv:4"), ("range-without-out", "list.csv:5"),
    ]  # fmt: skip


@pytest.mark.parametrize(
    ("text", "line", "says"),
    [
        ("name,in,out\na,01:00:02:00,01:00:01:00\n", 2, "does not come after"),
        ("name,in,length\na,10,x\n", 2, "not a timecode"),
        ("name,in,out\na,,10\n", 2, "no in"),
        ("name,in,out\n\na,1,2,3\n", 3, "4 cells"),
        ("name,in,in\n", 1, "two columns"),
        ("name,was\na,1\n", 1, "no column"),
        ('name,in,out\n"a,1,2\n', 2, "cannot be read"),
        ("name,in,out\na,00:00:05,10\n", 2, "not a timecode"),
    ],
)
def test_a_broken_table_is_refused_with_its_line(text: str, line: int, says: str, tmp_path: Path) -> None:
    with pytest.raises(MarksError, match=says) as caught:
        cut(write(tmp_path, text, "list.csv"), footage(), by="ranges")
    assert caught.value.line == line


def test_what_we_write_we_read(tmp_path: Path) -> None:
    rate = FrameRate.parse("59.94")
    start = Timecode.parse("01:00:00;00", rate)
    marks = [(start + 7 * index, ("red", "", "teal")[index % 3], f"blue {index}") for index in range(600)]
    write_edl_markers(tmp_path / "w.edl", "A Hundred Sheets", start, start + 4300, marks)
    found = cut(tmp_path / "w.edl", footage("59.94", 4300, "01:00:00;00"))
    assert [span[:2] for span in shots(found)] == [
        (name, time.frame - start.frame) for time, _, name in marks
    ]
    assert "|" not in (tmp_path / "w.edl").read_text()


pieces = st.sampled_from(["* LOC: ", "01:00:01:00", " RED ", "|M:", "|D:2", "\n", "FCM: ", "DROP FRAME", "001 AX V C ", ";", ",",  # noqa: E501
                          '"', "in,out\n", "\0", "TITLE:", "9999999999"]) | st.text(max_size=6)  # fmt: skip


@given(st.lists(pieces, max_size=30), st.sampled_from([".edl", ".csv", ".txt"]))
def test_rubbish_is_refused_in_words_or_read_but_never_breaks(parts: list[str], suffix: str) -> None:
    import tempfile

    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder, f"list{suffix}")
        path.write_bytes("".join(parts).encode("utf-8", "surrogatepass"))
        try:
            cut(path, footage("29.97"), by="ranges" if suffix == ".csv" else "markers")
        except BoxkiteError as error:
            assert str(error)


def test_tables_of_ranges_are_read_as_people_write_them(tmp_path: Path) -> None:
    """Heads, titles and sections of spreadsheets, times as clocks show them; points and ranges in one table."""
    text = (
        "Day 3\n\nReel;Rec In;Rec Out;Comment;\n;;;morning;\nB;'01:00:01:00;01:00:02:00;dip;x\n"
        ";00:00:05.500;0:06;lift;\n;7,5;;press;\n"
    )
    table = write(tmp_path, text, "t.csv")
    marks = read_marks(table)
    assert [(mark.name, mark.note, mark.metadata.get("Reel", "")) for mark in marks.marks] == [
        ("dip", "", "B"), ("lift", "", ""), ("press", "", ""),
    ]  # fmt: skip
    assert marks.marks[0].metadata["column 5"] == "x"
    placed = place_marks(marks, list(marks.marks), footage(), None)
    assert [(one.start, one.end) for one in placed] == [(25, 50), (138, 150), (188, None)]
    assert [(one.kind, str(one).partition(":")[2][:1]) for one in marks.warnings] == [
        ("title-skipped", "1"), ("section-skipped", "4"), ("column-without-head", " "),
    ]  # fmt: skip


def test_a_cell_may_hold_the_sign_that_rows_are_kept_with(tmp_path: Path) -> None:
    mark = read_marks(write(tmp_path, "name,in,out,reel\na\x1fb,10,20,c\x1fd\n", "t.csv")).marks[0]
    assert (mark.name, mark.start.text, mark.end and mark.end.text) == ("a b", "10", "20")
    assert mark.metadata["reel"] == "c d"


@pytest.mark.parametrize(
    "head", ["Start TC", "TC", "Timestamp", "Position", "Begin", "source_in", "Start Frame"]
)
def test_usual_heads_of_the_in_are_known(tmp_path: Path, head: str) -> None:
    marks = read_marks(write(tmp_path, f"Marker,{head}\ndip,25\n", "t.csv"))
    assert [(mark.name, mark.start.text) for mark in marks.marks] == [("dip", "25")]
