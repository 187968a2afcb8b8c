"""Rates, timecode and spans."""

from __future__ import annotations

from fractions import Fraction

import pytest
from hypothesis import given
from hypothesis import strategies as st

from boxkite.core.errors import RateError, TimecodeError
from boxkite.core.timebase import (
    FrameRate,
    Span,
    Timecode,
    convert_frames,
    frames_per_day,
    frames_to_timecode,
    sample_at,
    timecode_to_frames,
    uncovered,
)

USUAL = ["23.976", "24", "25", "29.97", "30", "48", "50", "59.94", "60", "119.88"]
rates = st.sampled_from([FrameRate.parse(name) for name in USUAL])


@pytest.mark.parametrize("name", ["29.97", "59.94"])
def test_every_drop_frame_label_round_trips(name: str) -> None:
    """All labels of twenty minutes at either end of a day, whose pattern repeats every ten, and some of each."""
    rate = FrameRate.parse(name)
    day, twenty = frames_per_day(rate, drop=True), frames_per_day(rate, drop=True) // 72
    previous = ""
    for frame in (*range(twenty), *range(twenty, day - twenty, 157), *range(day - twenty, day)):
        label = frames_to_timecode(frame, rate, drop=True)
        assert label > previous
        assert timecode_to_frames(label, rate) == (frame, True)
        previous = label


def test_drop_frame_keeps_to_the_clock_as_st_12_1_says() -> None:
    rate = FrameRate.parse("29.97")
    assert frames_to_timecode(1799, rate, drop=True) == "00:00:59;29"
    assert frames_to_timecode(1800, rate, drop=True) == "00:01:00;02"
    assert frames_to_timecode(17982, rate, drop=True) == "00:10:00;00"
    assert frames_to_timecode(107892, rate, drop=True) == "01:00:00;00"
    assert frames_to_timecode(3600, FrameRate.parse("59.94"), drop=True) == "00:01:00;04"
    assert frames_per_day(rate, drop=True) == 2589408


@given(rates, st.integers(-(10**8), 10**8))
def test_non_drop_labels_round_trip_and_wrap_at_24_hours(rate: FrameRate, frame: int) -> None:
    label = frames_to_timecode(frame, rate, drop=False)
    assert timecode_to_frames(label, rate) == (frame % frames_per_day(rate, drop=False), False)


@pytest.mark.parametrize(
    ("text", "rate", "error", "says"),
    [
        ("01:01:00;00", "29.97", TimecodeError, "does not exist"),
        ("01:01:00;03", "59.94", TimecodeError, "does not exist"),
        ("01:00:00;00", "25", RateError, "not defined"),
        ("01:00:00:25", "25", TimecodeError, "no frame 25"),
        ("01:00:60:00", "25", TimecodeError, "seconds"),
        ("24:00:00:00", "25", TimecodeError, "hours"),
        ("01:03:00", "29.97", TimecodeError, "not a timecode"),
        ("٠١:00:00:00", "25", TimecodeError, "not a timecode"),
    ],
)
def test_labels_that_do_not_exist_are_refused(text: str, rate: str, error: type, says: str) -> None:
    with pytest.raises(error, match=says):
        timecode_to_frames(text, FrameRate.parse(rate))


def test_three_fields_bring_the_hint_about_shells() -> None:
    with pytest.raises(TimecodeError) as caught:
        Timecode.parse("01:03:00", FrameRate.parse("29.97"))
    assert "double quotes" in caught.value.hint


def test_rates_are_known_by_their_usual_names_and_as_fractions() -> None:
    assert FrameRate.parse("23.98").fraction == FrameRate.parse("23.976").fraction == Fraction(24000, 1001)
    assert FrameRate.parse("25.00") == FrameRate.parse("25") == FrameRate.parse("25/1")
    assert str(FrameRate.parse("30000/1001")) == "29.97"
    assert FrameRate.parse("12.5").fraction == Fraction(25, 2)
    for wrong in ("0", "-25", "abc", "25/0", "1e3", "", "1001"):
        with pytest.raises(RateError):
            FrameRate.parse(wrong)


@given(rates, rates, st.integers(0, 10**7))
def test_converting_to_a_faster_rate_and_back_loses_no_frame(
    slow: FrameRate, fast: FrameRate, frame: int
) -> None:
    if slow.fraction <= fast.fraction:
        assert convert_frames(convert_frames(frame, slow, fast), fast, slow) == frame


@given(rates, st.sampled_from([44_100, 48_000, 96_000]), st.integers(0, 10**7))
def test_samples_of_neighbouring_frames_neither_gap_nor_drift(rate: FrameRate, hz: int, frame: int) -> None:
    assert abs(sample_at(frame, rate, hz) - frame * hz / rate.fraction) <= Fraction(1, 2)


@given(st.lists(st.tuples(st.integers(0, 100), st.integers(0, 100)), max_size=8))
def test_what_is_uncovered_and_what_is_covered_make_everything(pairs: list[tuple[int, int]]) -> None:
    parts = [Span(min(pair), max(pair)) for pair in pairs]
    gaps = uncovered(Span(0, 100), parts)
    covered = {frame for part in parts for frame in range(part.start, min(part.end, 100))}
    assert covered.isdisjoint(frame for gap in gaps for frame in range(gap.start, gap.end))
    assert len(covered) + sum(gap.length for gap in gaps) == 100


@given(rates, st.integers(0, 10**7), rates)
def test_relabelling_keeps_hours_minutes_and_seconds(rate: FrameRate, frame: int, other: FrameRate) -> None:
    label = Timecode(frame, rate)
    assert str(label.relabelled(other, drop=other.can_drop))[:8] == str(label)[:8]
