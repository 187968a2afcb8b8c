"""Sizes, rates and what shares a decode: promises that hold for every source."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from boxkite.core.plan.rows import Row, decode_groups, group_span
from boxkite.core.presets.coding import Video
from boxkite.core.presets.geometry import plan_geometry, sizing_of
from boxkite.core.presets.model import Preset
from boxkite.core.render.inputs import frames_until
from boxkite.core.timebase import FrameRate, Span
from tests.core.test_looks import a_shot

SIDES = st.integers(64, 5000)
ASPECTS = st.sampled_from(
    [Fraction(1), Fraction(16, 15), Fraction(64, 45), Fraction(4, 3), Fraction(2), Fraction(8, 9)]
)
RATES = st.sampled_from(["23.976", "24", "25", "29.97", "30", "50", "59.94", "60"])


def preset(**keys: object) -> Preset:
    return Preset(container="mp4", video=Video(codec="h264"), **keys)  # type: ignore[arg-type]


@given(SIDES, SIDES, SIDES, SIDES, ASPECTS, st.booleans(), st.sampled_from([0, 90]))
def test_what_is_fitted_lies_in_its_box_and_is_never_enlarged_unless_asked(
    width: int, height: int, box_x: int, box_y: int, aspect: Fraction, square: bool, turn: int
) -> None:
    kinds = {"rotation_degrees": turn, "sample_aspect": aspect}
    upright = (height, width) if turn else (width, height)
    for bars in (False, True):
        fitted = sizing_of(preset(fit=f"{box_x}x{box_y}", square_pixels=square, bars=bars))
        found = plan_geometry(fitted, width, height, **kinds)  # type: ignore[arg-type]
        inner = found.sized_to
        assert not found.width_px % 2 and not found.height_px % 2
        assert inner[0] <= max(box_x, 2) + 1 and inner[1] <= max(box_y, 2) + 1
        assert inner[0] <= upright[0] + 1 and inner[1] <= upright[1] + 1
        if bars:
            assert (found.width_px, found.height_px) == (box_x - box_x % 2, box_y - box_y % 2)
        assert found.sample_aspect == (1 if square else 1 / aspect if turn else aspect)


@given(SIDES, SIDES, SIDES, SIDES)
def test_what_fills_a_box_has_its_proportions_and_its_size_where_there_is_enough_picture(
    width: int, height: int, box_x: int, box_y: int
) -> None:
    found = plan_geometry(
        sizing_of(preset(fill=f"{box_x}x{box_y}")),
        width,
        height,
        rotation_degrees=0,
        sample_aspect=Fraction(1),
    )
    assert found.width_px <= width + 1 and found.height_px <= height + 1
    assert found.crop_from[0] * 2 <= found.crop[0] and found.crop_from[1] * 2 <= found.crop[1]
    if box_x <= width and box_y <= height:
        assert abs(found.width_px - box_x) <= 1 and abs(found.height_px - box_y) <= 1
    large = plan_geometry(
        sizing_of(preset(exact=f"{box_x}x{box_y}")),
        width,
        height,
        rotation_degrees=0,
        sample_aspect=Fraction(1),
    )
    assert abs(large.width_px - box_x) <= 1 and abs(large.height_px - box_y) <= 1


@given(st.integers(1, 400), RATES, RATES)
def test_at_another_rate_every_picture_comes_from_its_frame_and_none_is_lost_count_of(
    frames: int, own: str, wanted: str
) -> None:
    shot = a_shot(Path())
    table = replace(shot.footage.frame_index, rate=FrameRate.parse(own), frame_count=frames)
    shot = replace(shot, footage=replace(shot.footage, frame_index=table), span=Span(0, frames))
    row = Row(1, shot, preset(rate=wanted), Path(), "x", "x", None, (), (), 0)
    shown = [row.frame_shown(picture) for picture in range(row.frames)]
    assert shown == sorted(shown) and shown[-1] < frames
    each = [frames_until(row, frame + 1) - frames_until(row, frame) for frame in range(frames)]
    assert [frame for frame, times in enumerate(each) for _ in range(times)] == shown
    lasts = row.frames / FrameRate.parse(wanted).fraction - table.rate.seconds(frames)
    assert 0 <= lasts < 1 / FrameRate.parse(wanted).fraction


def test_rows_share_a_decode_where_they_read_mostly_the_same_frames() -> None:
    whole = a_shot(Path())
    spans = [(0, 10), (0, 10), (4, 8), (100, 200), (190, 290), (120, 190)]
    shots = [replace(whole, span=Span(*span)) for span in spans]
    rows = [Row(n, shot, preset(), Path(), "x", "x", None, (), (), 0) for n, shot in enumerate(shots, 1)]
    rows.append(replace(rows[3], number=7, preset=preset(fit="640x360")))
    found = [([row.number for row in members], group_span(members)) for members in decode_groups(rows)]
    assert found == [
        ([1, 2, 3], Span(0, 10)),
        ([4, 7, 6], Span(100, 200)),
        ([5], Span(190, 290)),  # a tenth of it lies in the one before, as handles do
    ]


@pytest.mark.parametrize(
    ("keys", "says"),
    [
        ({"fit": "1280x720", "fill": "1280x720"}, "fill: give either fit or fill"),
        ({"bars": True}, "bars: they go with fit"),
        ({"exact": "large"}, "exact: width and height in pixels"),
        ({"rate": "fast"}, "rate: "),
    ],
)
def test_sizes_that_contradict_each_other_are_refused(keys: dict[str, object], says: str) -> None:
    with pytest.raises(ValueError, match=says):
        preset(**keys)
