"""Plans worked out from plain values: names, versions, remarks, totals, records of earlier batches."""

from __future__ import annotations

import sqlite3
import threading
from fractions import Fraction
from functools import partial
from pathlib import Path
from typing import ClassVar

import pytest
from hypothesis import HealthCheck, example, given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from boxkite.core.errors import PatternError, PlanError, PresetError, RecordsError
from boxkite.core.files.identity import FileIdentity
from boxkite.core.files.names import MOST_BYTES, byte_length, clash_key
from boxkite.core.footage.splice import Splice
from boxkite.core.job.job import Output
from boxkite.core.metadata.value import KnownMetadata
from boxkite.core.naming.pattern import read_pattern
from boxkite.core.naming.versions import MARK, next_version
from boxkite.core.plan.rows import ends_of
from boxkite.core.plan.since import compare_with
from boxkite.core.plan.totals import add_up, expected_time
from boxkite.core.presets.codecs import ENCODER_SPEEDS, SPEEDS
from boxkite.core.presets.coding import Video
from boxkite.core.presets.inheriting import merged
from boxkite.core.preview.chart import _lanes, _shared
from boxkite.core.projects.new_names import new_names
from boxkite.core.records import store
from boxkite.core.records.journal import Journal
from boxkite.core.records.record import BatchRecord
from boxkite.core.records.store import Records
from boxkite.core.render.encode.codec_options import encoder_options
from boxkite.core.shots.limits import remarked
from boxkite.core.shots.shot import EditDifference, Shot
from boxkite.core.timebase import FrameRate, Span
from tests.builders import make_footage, make_shots, planned, record

RATE = FrameRate.parse("25")
RESERVED = {
    "con",
    "prn",
    "aux",
    "nul",
    *(f"{port}{digit}" for port in ("com", "lpt") for digit in "0123456789"),
}


characters = st.one_of(st.characters(codec="utf-8"), st.sampled_from("aAäÄ./\\: \t"))
texts = st.text(alphabet=characters, max_size=40)
patterns = st.sampled_from(
    [
        "@marker",
        "@(marker:slug)",
        "[@scene/]@marker_@clip",
        "@scene/@(marker|in)",
        "@(marker:max20)",
        "@marker_@(count:01:per scene)",
        "x[@scene]_@(note:upper|count)/@in",
    ]
)


@settings(max_examples=150, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    st.lists(st.tuples(texts, texts, texts), min_size=1, max_size=6),
    patterns,
    st.sampled_from(["stop", "number"]),
)
@example([("dip", "6", "cold"), ("lift", "6", "warm")], "@scene/@(marker|in)", "stop")
@example([("dip", "6", "cold"), ("Dip", "6", "warm")], "@(marker:slug)", "number")
def test_names_stay_inside_fit_every_file_system_and_are_never_shared(
    tmp_path: Path, values: list[tuple[str, str, str]], pattern: str, existing
) -> None:
    one = make_footage(tmp_path / "vat.mov")
    shots = [
        Shot(one, Span(9 * n, 9 * n + 9), marker=marker, note=note, metadata={"scene": scene}, way="ranges")
        for n, (marker, scene, note) in enumerate(values)
    ]
    try:
        plan = planned(tmp_path, shots, pattern, existing=existing)
    except (PatternError, PlanError) as error:  # a name that is empty, too long or taken is refused
        plain = all(text.isascii() and text.isalnum() for texts in values for text in texts)
        distinct = len({marker.casefold() for marker, _, _ in values}) == len(values)
        assert not plain or (existing == "stop" and not distinct), error
        return
    keys = [clash_key(row.place) for row in plan.rows]
    assert len(set(keys)) == len(shots)
    for row in plan.rows:
        inside = row.path.relative_to(tmp_path / "out")
        assert ".." not in inside.parts
        for part in inside.parts:
            assert byte_length(part) <= MOST_BYTES
            assert (
                not set(part) & set('<>:"/\\|?*')
                and part.isprintable() == part.replace("\u00a0", " ").isprintable()
            )
            assert part == part.strip(". ") and part.partition(".")[0].rstrip(" ").lower() not in RESERVED
    assert [row.place for row in planned(tmp_path, shots, pattern, existing=existing).rows] == [
        row.place for row in plan.rows
    ]


@pytest.mark.parametrize(
    ("markers", "pattern", "added"),
    [
        (["dip", "dip", "lift"], "@marker", "[_@again]"),
        (["dip", "Dip", "dip_2"], "@marker", "_@(count:1)"),
        (["dip", "dip", "dip_2"], "@marker[_@again]", "_@(count:1)"),
    ],
)
def test_the_pattern_that_a_clash_proposes_works(
    tmp_path: Path, markers: list[str], pattern: str, added: str
) -> None:
    one = make_footage(tmp_path / "vat.mov")
    shots = [make_shots(one, (9 * n, 9 * n + 9), marker=marker)[0] for n, marker in enumerate(markers)]
    with pytest.raises(PlanError) as clash:
        planned(tmp_path, shots, pattern)
    proposed = f"{pattern}{added}"
    assert f'"{proposed}"' in clash.value.hint
    assert len(planned(tmp_path, shots, proposed).rows) == 3


@pytest.mark.parametrize(
    ("pattern", "there", "version"),
    [
        ("@marker_v@version", [], 1),
        ("@marker_v@(version:000)", ["dip_v2.mov", "other_V11.mp4", "v99", "x_v5_old.mov"], 12),
        ("@marker_v@version-@clip", ["dip_v2-vat.mov", "dip_v7.mov"], 3),
        ("v@version/@marker", ["v2/dip.mov", "v10/x.mov", "av30/x.mov"], 11),
        ("@marker[_v@version]", ["dip2_v3.mov"], 4),
        ("v@(version:000)/@marker_v@(version:000)", ["v2/dip_v002.mov", "v004/x.mov"], 5),
    ],
)
def test_the_next_version_is_read_where_the_pattern_has_it(
    tmp_path: Path, pattern: str, there: list[str], version: int
) -> None:
    for name in there:
        (tmp_path / name).parent.mkdir(exist_ok=True)
        (tmp_path / name).touch()
    tried = [(tmp_path, f"v{MARK}/dip" if "/" in pattern else MARK)]
    assert next_version(read_pattern(pattern), tried) == version


def test_a_name_that_fits_with_one_extension_is_refused_with_a_longer_one(tmp_path: Path) -> None:
    shots = make_shots(make_footage(tmp_path / "mill.mov"), (0, 50), marker="x" * (MOST_BYTES - len(".mp4")))
    web, vp9 = Output("web", tmp_path / "out"), Output("web-vp9", tmp_path / "out")
    assert len(planned(tmp_path, shots, "@marker", outputs=(web,)).rows) == 1
    with pytest.raises(PatternError, match="too long"):
        planned(tmp_path, shots, "@marker", outputs=(web, vp9))


def test_overlaps_and_short_shots_are_remarked_and_added_up(tmp_path: Path) -> None:
    one, other = make_footage(tmp_path / "a.mov"), make_footage(tmp_path / "b.mov")
    shots = [*make_shots(one, (0, 100), (90, 200), (200, 210)), *make_shots(other, (50, 120))]
    found = remarked(shots)
    assert [shot.differences for shot in found] == [
        (),
        (EditDifference.OVERLAP,),
        (EditDifference.SHORT,),
        (),
    ]
    assert [one.values for one in found[1].warnings] == [{"frames": 10, "name": "m0", "origin": ""}]
    plan = planned(tmp_path, found, outputs=(Output("web", tmp_path / "w"), Output("stock", tmp_path / "s")))
    totals = add_up(plan.rows)
    assert (totals.files, totals.shots, totals.sources, totals.source_bytes) == (8, 4, 2, 2_000_000)
    assert totals.seconds == Fraction(100 + 110 + 10 + 70, 25)
    assert totals.bytes_between[0] < totals.expected_bytes < totals.bytes_between[1]
    assert dict(totals.differences) == {EditDifference.OVERLAP: 1, EditDifference.SHORT: 1}
    assert totals.different_from_edit == {}


@given(st.lists(st.tuples(st.integers(0, 60), st.integers(1, 30)), min_size=1, max_size=12))
def test_a_chart_hides_no_shot(values: list[tuple[int, int]]) -> None:
    spans = sorted((Span(start, start + length) for start, length in values), key=lambda one: one.start)
    lanes = _lanes(spans)
    for index, span in enumerate(spans):
        for other in range(index):
            assert lanes[other] != lanes[index] or spans[other].end <= span.start
    counted = [sum(span.start <= frame < span.end for span in spans) for frame in range(100)]
    shared = {frame for span in _shared(spans) for frame in range(span.start, span.end)}
    assert shared == {frame for frame, count in enumerate(counted) if count > 1}


def test_records_keep_batches_files_and_speeds(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    assert not Records.are_kept(tmp_path)
    with Records(tmp_path) as records:
        name = records.begin("@marker", 3, [record(1, pixels=1000), record(2, marker="caf\udce9")])
        Journal(records, name).verified(1, checksum="c", size_bytes=7, seconds=2.0)
        batch = records.batch("last")
        assert (batch.name, batch.version, batch.pattern) == (name, 3, "@marker")
        assert [(file.state, file.checksum) for file in batch.files] == [("verified", "c"), ("planned", "")]
        made = records.made_at(Path("/out/m1.mp4"))
        assert made and made.size_bytes == 7
        assert records.made_at(Path("/out/m2.mp4")) is None
        assert records.seconds_per_pixel(["web", "never"]) == {"web": (0.002, 1)}
        later = records.begin("@marker", 4, [record(1, pixels=1000), record(2, pixels=10, preset="stock")])
        for number in (1, 2):
            Journal(records, later).verified(number, checksum="c", size_bytes=7, seconds=4.0)
        monkeypatch.setattr(store, "_FILES_FOR_SPEED", 1)
        assert records.seconds_per_pixel(["web"]) == {"web": (0.004, 1)}
        monkeypatch.setattr(store, "_LATEST_FILES", 1)
        assert records.seconds_per_pixel(["web", "stock"]) == {"stock": (0.4, 1)}
        with pytest.raises(RecordsError, match="no batch") as caught:
            records.batch(name[:-1] + "9")
        assert name in caught.value.hint
    (tmp_path / "batches.sqlite").write_bytes(b"no database at all, but long enough to be looked at" * 30)
    with pytest.raises(RecordsError, match="cannot be kept"):
        Records(tmp_path)


class BusyTwice(sqlite3.Connection):
    """A store that another one is just switching to its mode, twice."""

    refused: ClassVar[list[str]] = []

    def execute(self, text: str, *values: object) -> sqlite3.Cursor:  # type: ignore[override]
        if "journal_mode" in text and len(self.refused) < 2:
            self.refused.append(text)
            error = sqlite3.OperationalError("database is locked")
            error.sqlite_errorcode = sqlite3.SQLITE_BUSY  # type: ignore[misc]
            raise error
        return super().execute(text, *values)


def test_a_store_that_is_being_made_is_waited_for(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(sqlite3, "connect", partial(sqlite3.connect, factory=BusyTwice))
    with Records(tmp_path) as records:
        assert len(BusyTwice.refused) == 2 and records.begin("@marker", None, [record(1)])


def test_batches_that_begin_at_once_get_names_of_their_own(tmp_path: Path) -> None:
    names: list[str] = []

    def begin() -> None:
        with Records(tmp_path) as records:
            names.append(records.begin("@marker", None, [record(number) for number in range(50)]))

    threads = [threading.Thread(target=begin) for _ in range(8)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert len(set(names)) == 8


def test_a_plan_takes_as_long_as_this_machine_took_before(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("BOXKITE_STATE", str(tmp_path / "state"))
    plan = planned(tmp_path, make_shots(make_footage(tmp_path / "a.mov"), (0, 100), (100, 200)), "@marker")
    assert expected_time(plan, 2) is None
    with Records() as records:
        name = records.begin("", None, [record(1, pixels=640 * 360 * 50)])
        Journal(records, name).verified(1, checksum="c", size_bytes=7, seconds=3.0)
    time = expected_time(plan, 2)
    assert time and (time.seconds, time.workers, time.files) == (pytest.approx(6.0), 2, 1)
    other = planned(
        tmp_path,
        make_shots(make_footage(tmp_path / "a.mov"), (0, 9)),
        outputs=(Output("stock", tmp_path / "s"),),
    )
    assert expected_time(other, 2) is None
    spliced = replace(other.rows[0], splice=Splice(1, 7, 1))
    assert expected_time(replace(plan, rows=(*plan.rows, spliced)), 2) == time


def test_in_and_out_are_those_of_each_file(tmp_path: Path) -> None:
    row = planned(tmp_path, make_shots(make_footage(tmp_path / "a.mov"), (25, 50)), "@marker").rows[0]
    copied = replace(row, copied=Span(0, 75))
    encoded, whole = ("00:00:01:00", "00:00:02:00"), ("00:00:00:00", "00:00:03:00")
    assert [*ends_of([row, copied, copied, row])] == [encoded, whole, whole, encoded]


def test_against_an_earlier_batch_every_row_is_same_new_or_changed_and_the_rest_is_gone(
    tmp_path: Path,
) -> None:
    path = tmp_path / "a.mov"
    path.touch()
    one = make_footage(path)
    before = planned(tmp_path, make_shots(one, (0, 50), (50, 90), (90, 120)), "@marker")
    from boxkite.core.batch.recording import file_record
    from boxkite.core.plan.recipes import Recipes

    files = tuple(replace(file_record(row, Recipes(), 1), state="verified") for row in before.rows)
    batch = BatchRecord("b", None, "", "", None, files)  # type: ignore[arg-type]
    moved = Shot(one, Span(52, 95), marker="m50", way="ranges")
    after = planned(tmp_path, [*make_shots(one, (0, 50)), moved, *make_shots(one, (200, 230))], "@marker")
    changed, same, gone = compare_with(after.rows, batch)
    assert [row.name for row in same] == ["m0"]
    assert [(row.name, row.change) for row in changed] == [
        ("m50", "changed: was 00:00:02:00 to 00:00:03:15"), ("m200", "new")]  # fmt: skip
    assert [one.name for one in gone] == ["m90"]
    other = replace(one, source=replace(one.source, identity=FileIdentity("", 0, 0, 9, 9, 0, "another take")))
    after = planned(tmp_path, make_shots(other, (0, 50)), "@marker")
    changed, same, _ = compare_with(after.rows, batch)
    assert same == [] and changed[0].change == "changed: its source has changed"


def test_a_speed_has_our_name_or_the_encoders() -> None:
    def preset_of(codec: str, **keys: str) -> str:
        return encoder_options(Video(codec=codec, **keys), Fraction(25), 1280).get(OWN_WORD[codec], "")  # type: ignore[arg-type]

    for codec, names in ENCODER_SPEEDS.items():
        fast, good, best = (names.index(preset_of(codec, speed=speed)) for speed in SPEEDS)
        assert fast < good < best or fast > good > best, (
            codec
        )  # numbers count up to the fastest, names to the slowest
        assert preset_of(codec) == preset_of(codec, speed="good")
        assert all(preset_of(codec, encoder_speed=name) == name for name in names)
    for codec, keys, says in (
        ("h264", {"speed": "medium"}, "fast, good, best"),
        ("av1", {"encoder_speed": "slow"}, "av1 has 0, 1"),
        ("vp9", {"speed": "fast", "encoder_speed": "4"}, "either speed"),
        ("prores", {"encoder_speed": "slow"}, "has none"),
    ):
        with pytest.raises(ValueError, match=says):
            preset_of(codec, **keys)
    assert merged({"speed": "good", "codec": "av1"}, {"encoder_speed": "3"}) == {
        "codec": "av1",
        "encoder_speed": "3",
    }


OWN_WORD = {"h264": "preset", "hevc": "preset", "av1": "preset", "vp9": "cpu-used", "prores": ""}
H264 = {"codec": "h264", "quality": 20, "scan": "keep"}


@pytest.mark.parametrize(
    ("own", "result"),
    [
        ({"fit": "10x10"}, {"fit": "10x10", "video": H264, "audio": {"a": 1}}),
        (
            {"video": {"bitrate_mbps": 3}},
            {
                "size_percent": 50,
                "video": {"codec": "h264", "bitrate_mbps": 3, "scan": "keep"},
                "audio": {"a": 1},
            },
        ),
        (
            {"video": {"codec": "ffv1"}, "without": ["audio"]},
            {"size_percent": 50, "video": {"codec": "ffv1", "scan": "keep"}},
        ),
        ({"audio": {"b": [2]}}, {"size_percent": 50, "video": H264, "audio": {"a": 1, "b": [2]}}),
    ],
)
def test_a_preset_says_only_what_differs_from_the_one_it_is_based_on(own, result) -> None:
    base = {"size_percent": 50, "video": H264, "audio": {"a": 1}}
    assert merged(base, own) == result
    with pytest.raises(PresetError, match="to leave out") as caught:
        merged(base, {"without": ["adio"]}, above="presets.mine")
    assert (caught.value.key, caught.value.hint) == ("presets.mine.without", "did you mean audio?")


def test_sources_are_renamed_with_what_lies_beside_them(tmp_path: Path) -> None:
    for name in ("a.mov", "a.mov.xmp", "a.srt", "a.b.mov", "ab.xmp", "b.mov"):
        (tmp_path / name).touch()
    sources = [make_footage(tmp_path / name).source for name in ("a.mov", "b.mov")]
    known = {source.path: KnownMetadata({}, {}) for source in sources}
    [first, second] = new_names(sources, "mill_@(count:01)", known)
    assert {old.name: new.name for old, new in first.moves} == {
        "a.mov": "mill_01.mov", "a.mov.xmp": "mill_01.mov.xmp", "a.srt": "mill_01.srt"}  # fmt: skip
    assert (second.new_label, dict(second.names)) == ("mill_02.mov", {"b.mov": "mill_02.mov", "b": "mill_02"})
    for pattern, says in (
        ("x", "both be called"),
        ("x/@clip", "stay in their folder"),
        ("@clip_@preset", "makes none"),
    ):
        with pytest.raises((PlanError, PatternError), match=says):
            new_names(sources, pattern, known)
