"""From an edit to shots: where a clip lies in its media and its program, which file it is, and what limits it."""

from __future__ import annotations

from fractions import Fraction
from itertools import pairwise
from pathlib import Path

import opentimelineio as otio
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from boxkite.core.edit.edl.timelines import read_edl_edit
from boxkite.core.edit.edl.writing import write_edl_edit
from boxkite.core.edit.timeline import Clip, ClipKind, MediaName, Timeline, Track, TrackKind
from boxkite.core.errors import PlanError
from boxkite.core.footage.source import Source
from boxkite.core.job.choice import Choice
from boxkite.core.job.handles import Handles
from boxkite.core.shots.choosing import Candidate, choose, why
from boxkite.core.shots.conforming import on_originals, program_span
from boxkite.core.shots.edit_clips import wanted_clips
from boxkite.core.shots.limits import joined, limited_in_source, with_handles
from boxkite.core.shots.media import MediaFinder
from boxkite.core.shots.shot import Shot
from boxkite.core.timebase import FrameRate, Span, Timecode
from tests.builders import indexed, make_source

RATE = FrameRate.parse("25")


def clip(media: MediaName, start: int, length: int = 50, **more) -> Clip:
    return Clip(media.name, ClipKind.MEDIA, Span(0, length), media, start, more.pop("rate", RATE), **more)


def film(one: Clip, rate: FrameRate = RATE, start: str = "01:00:00:00") -> Timeline:
    return Timeline("film", rate, Timecode.parse(start, rate), (Track(TrackKind.PICTURE, "V1", (one,)),))


def shot_of(one: Clip, *sources: Source, rate: FrameRate = RATE) -> Shot:
    finder = MediaFinder(Path("/edit/film.otio"), sources, None)
    (shot,) = on_originals(wanted_clips(film(one, rate), "film.otio")[0], finder, indexed, "cuts")
    return shot


@pytest.mark.parametrize(
    ("one", "span", "warns"),
    [
        (clip(MediaName("a.mov"), 90010, source_from_zero=False), (10, 60), 0),
        (clip(MediaName("a.mov"), 10, source_from_zero=True), (10, 60), 0),
        (clip(MediaName("a.mov"), 90010), (10, 60), 0),  # it lies in the media's timecode
        (clip(MediaName("a.mov"), 10), (10, 60), 0),  # it does not
        (clip(MediaName("a.mov", first=500, rate=RATE), 510), (10, 60), 0),
        (clip(MediaName("a.mov"), 90010, source_from_zero=False, speed=Fraction(2)), (10, 110), 1),
        (clip(MediaName("a.mov"), 90010, source_from_zero=False, speed=Fraction(-1, 2)), (10, 35), 1),
        (clip(MediaName("a.mov"), 90010, source_from_zero=False, speed=Fraction(0)), (10, 11), 1),
        (clip(MediaName("a.mov"), 90980, source_from_zero=False), (980, 1000), 1),
        (clip(MediaName("a.mov"), 90010, source_from_zero=False, effects=("soften",)), (10, 60), 1),
    ],
)
def test_a_clip_is_found_in_its_media_by_timecode_or_by_frames(one: Clip, span: tuple, warns: int) -> None:
    shot = shot_of(one, make_source("/card/a.mov", start="01:00:00:00"))
    assert ((shot.span.start, shot.span.end), len(shot.warnings), shot.problem) == (span, warns, "")


def test_media_at_another_rate_are_cut_by_real_time() -> None:
    shot = shot_of(
        clip(MediaName("a.mov"), 25, source_from_zero=True), make_source("/a.mov", rate=FrameRate.parse("50"))
    )
    assert shot.span == Span(50, 150)


@pytest.mark.parametrize(
    ("media", "found"),
    [
        (MediaName("a.mov", "/old/disk/monday/a.mov"), "/new/monday/a.mov"),
        (MediaName("a.mov", "D:\\shoot\\tuesday\\a.mov"), "/new/tuesday/a.mov"),
        (MediaName("A.MOV", reel="B002"), "/new/tuesday/a.mov"),
        (MediaName("a"), "fits 2 sources"),
        (MediaName("c", reel="B002"), "/new/tuesday/a.mov"),
        (MediaName("c", reel="AX"), "tried name c"),
        (MediaName("c", reel="C009"), "reel C009 at 02:00:00:10"),
    ],
)
def test_media_are_found_by_folder_name_reel_and_timecode(media: MediaName, found: str) -> None:
    both = [
        make_source("/new/monday/a.mov", start="01:00:00:00", reel="B001", frames=100_000),
        make_source("/new/tuesday/a.mov", start="01:00:00:00", reel="B002", frames=100_000),
    ]
    shot = shot_of(clip(media, 180_010, source_from_zero=False), *both)
    assert str(shot.footage.source.path) == found if not shot.problem else found in shot.problem


@pytest.mark.parametrize(
    ("edit", "edit_start", "program", "program_start", "span"),
    [
        ("25", "01:00:00:00", "25", "00:59:58:00", (60, 110)),
        ("25", "00:00:01:00", "25", "23:59:59:00", (60, 110)),
        ("25", "01:00:00:00", "25", "", (10, 60)),
        ("23.976", "01:00:00:00", "24", "01:00:00:00", (10, 60)),
        ("29.97", "01:00:00;00", "29.97", "01:00:00:00", (10, 60)),
        ("25", "01:00:00:00", "50", "01:00:00:00", (20, 120)),
    ],
)
def test_a_timeline_is_laid_on_its_program_by_timecode(
    edit: str, edit_start: str, program: str, program_start: str, span: tuple
) -> None:
    footage = indexed(make_source("/film.mov", start=program_start, rate=FrameRate.parse(program)))
    timeline = film(clip(MediaName("a"), 0), FrameRate.parse(edit), edit_start)
    found = program_span(timeline, Span(10, 60), footage)
    assert (found.start, found.end) == span


spans = st.tuples(st.integers(0, 990), st.integers(1, 60)).map(
    lambda one: Span(one[0], min(1000, one[0] + one[1]))
)


@given(st.lists(spans, max_size=8), st.integers(0, 200), spans)
def test_handles_ranges_and_joining_never_leave_the_media_or_lose_a_frame(
    found: list, frames: int, limit: Span
) -> None:
    footage = indexed(make_source("/a.mov"))
    shots = [Shot(footage, span, way="ranges") for span in found]
    for before, after in zip(shots, with_handles(shots, Handles(frames=frames)), strict=True):
        assert 0 <= after.span.start <= before.span.start and before.span.end <= after.span.end <= 1000
        assert after.span.length == before.span.length + after.handle_in + after.handle_out
        assert (min(after.handle_in, after.handle_out) < frames) == bool(after.warnings)
    kept, left_out = limited_in_source(shots, limit, "--in")
    assert len(kept) + len(left_out) == len(shots)
    assert all(limit.start <= one.span.start and one.span.end <= limit.end for one in kept)
    together = joined(shots)
    assert sum(one.span.length for one in together) == sum(one.span.length for one in shots)
    assert all(a.span.end != b.span.start for a, b in pairwise(together))


def test_choices_combine_and_say_what_they_left_out() -> None:
    footage = indexed(make_source("/a.mov"))
    shots = [
        Shot(footage, Span(0, 25), "slow dip", ("vat", "hands"), circled=True),
        Shot(footage, Span(30, 90), "dip two", ("vat",)),
        Shot(footage, Span(100, 110), "", ()),
    ]
    candidates = [Candidate(shot, number, {}) for number, shot in enumerate(shots, start=1)]

    def kept(only: list[str], without: list[str]) -> str:
        parsed = [[Choice.parse(text, "--only") for text in texts] for texts in (only, without)]
        chosen, left_out = choose(candidates, *parsed, set())
        assert len(chosen) + len(left_out) == 3 and (why(left_out) == "") == (not left_out)
        return "".join(str(shots.index(shot) + 1) for shot in chosen)

    assert kept(["marked"], []) == "12" and kept(["keyword:VAT"], ["circled"]) == "2"
    assert kept(["name:*dip*"], ["number:2-"]) == "1" and kept(["length:1s-2s,10"], []) == "13"
    assert kept([], ["keyword:h*", "length:-10"]) == "2" and kept(["length:00:00:02:10"], []) == "2"
    for text in ("keyword", "length:", "number:a", "circeld", ":x"):
        with pytest.raises(PlanError):
            Choice.parse(text, "--only")
    with pytest.raises(PlanError, match="no length"):
        kept(["length:long"], [])


@given(
    st.lists(st.tuples(st.integers(0, 10**6), st.integers(1, 400), st.integers(0, 9)), min_size=1, max_size=8)
)
@settings(settings.get_profile("ci"), max_examples=40)
def test_event_for_event_another_reader_says_the_same(tmp_path_factory, found: list) -> None:
    path = tmp_path_factory.mktemp("lists") / "a.edl"
    clips, reached = [], 0
    for first, length, gap in found:
        clips.append(replace(clip(MediaName(f"c{first}.mov", "", "A003"), first, source_from_zero=False),
                             record=Span(reached + gap, reached + gap + length)))  # fmt: skip
        reached += gap + length
    timeline = replace(film(clips[0]), tracks=(Track(TrackKind.PICTURE, "V1", tuple(clips)),))
    write_edl_edit(path, timeline)
    ours = read_edl_edit(path, RATE).timelines[0].tracks[0].clips
    (track,) = otio.adapters.read_from_file(str(path), rate=25).video_tracks()
    others = [
        (one.name, int(one.range_in_parent().start_time.value), int(one.duration().value),
         int(one.source_range.start_time.value))
        for one in track
        if isinstance(one, otio.schema.Clip)
    ]  # fmt: skip
    zero = others[0][1] - ours[0].record.start
    assert [
        (one.name, one.record.start + zero, one.record.length, one.source_start) for one in ours
    ] == others
