"""Frames and audio of a finished file that are not where they should be, in footage that hardly moves."""

from __future__ import annotations

from array import array
from collections.abc import Callable
from functools import cache, partial
from pathlib import Path

import av
import numpy as np
import pytest
from msgspec.structs import replace

from boxkite.core.job.job import Output
from boxkite.core.notices.notice import Notice
from boxkite.core.picture import compiled
from boxkite.core.render.comparing import _is_filled
from boxkite.core.render.envelope import BINS_A_SECOND, begins_late, lag_of
from boxkite.core.render.out_of_place import Neighbours, Prints, _is_another, faults_of_frames
from boxkite.core.render.quality import QualityMeter, SomeLines, some_lines
from tests.builders import make_footage, make_shots, planned

FRAMES, WIDTH, HEIGHT = 90, 144, 96
NOISE = 4.0
"""Of coding, in levels: 36 dB."""


@cache
def soft_pattern() -> np.ndarray:
    field = np.random.default_rng(7).normal(0, 70, (HEIGHT, WIDTH + 80))
    kernel = np.hanning(8)[1:-1] / np.sqrt(np.square(np.hanning(8)).sum())
    for axis in (0, 1):
        field = np.apply_along_axis(np.convolve, axis, field, kernel, "same")
    return field


def drawn(number: float, noise: int | None = None, levels: float = NOISE) -> av.VideoFrame:
    """It drifts by 0.6 samples a frame. noise: which one, of coding; None for a frame as it should be."""
    left, part = divmod(0.6 * number, 1)
    field = soft_pattern()[:, int(left) :]
    shown = (1 - part) * field[:, :WIDTH] + part * field[:, 1 : WIDTH + 1]
    if noise is not None:
        shown = shown + np.random.default_rng(noise).normal(0, levels, shown.shape)
    return av.VideoFrame.from_ndarray((shown + 128).clip(16, 235).astype(np.uint8), format="gray")


def found_in(
    order: Callable[[int], int],
    source: Callable[[int], float] = lambda number: number,
    *,
    blur: range = range(0),
    is_coded: bool = True,
    levels: Callable[[int], float] = lambda number: NOISE,
) -> tuple[dict[int, int], list[Notice]]:
    """What frames show that are not their own, and the faults. blur: frames mixed with the one before."""
    psnr_db, meter, own, theirs = array("f"), QualityMeter(), Prints(), Prints()
    neighbours = Neighbours(psnr_db)
    for number in range(FRAMES):
        noise = number if is_coded else None
        frame, wanted = drawn(source(order(number)), noise, levels(number)), drawn(source(number))
        if number in blur:
            mixed = frame.to_ndarray() * 0.25 + drawn(source(number - 1), number).to_ndarray() * 0.75
            frame = av.VideoFrame.from_ndarray(mixed.astype(np.uint8), format="gray")
        psnr_db.append(meter.compare(frame, wanted).psnr_db)
        own.add(frame)
        theirs.add(wanted)
        neighbours.add(frame, wanted)
    neighbours.end()
    at = "frame {}".format
    faults, _ = faults_of_frames(
        own.values(), theirs.values(), np.array(psnr_db), neighbours.shows, 25.0, at, is_copied=False
    )
    return neighbours.shows, faults


@pytest.mark.parametrize("is_compiled", [True, False])
@pytest.mark.parametrize(
    ("order", "says"),
    [
        (lambda number: number, []),
        (lambda number: {30: 31, 31: 30}.get(number, number), ["the frames at frame 30 and frame 31 are swapped"]),
        (lambda number: {30: 33, 33: 30}.get(number, number), ["the frames at frame 30 and frame 33 are swapped"]),
        (lambda number: {88: 89, 89: 88}.get(number, number), ["the frames at frame 88 and frame 89 are swapped"]),
        (
            lambda number: min(number + 1, FRAMES - 1),
            ["89 frames from frame 0 on show the source 1 frame later than they should"],
        ),
        (
            lambda number: number - 2 * (number >= 40),
            ["50 frames from frame 40 on show the source 2 frames earlier than they should"],
        ),
        (
            lambda number: 40 if 40 <= number < 60 else number,
            ["19 frames from frame 41 on show the same frame; those of the source move"],
        ),
    ],
)  # fmt: skip
def test_frames_out_of_order_are_named_where_neighbours_are_nearly_alike(
    order: Callable[[int], int], says: list[str], is_compiled: bool, monkeypatch: pytest.MonkeyPatch
) -> None:
    if not is_compiled:
        monkeypatch.setattr(compiled, "closeness", None)
    shows, faults = found_in(order)
    assert [str(one) for one in faults] == says
    assert shows == {number: order(number) for number in range(FRAMES) if order(number) != number}


def swapped(number: int) -> int:
    return {30: 31, 31: 30}.get(number, number)


def frozen(number: int) -> int:
    return 40 if 40 <= number < 60 else number


@pytest.mark.parametrize(
    ("order", "source", "kind"),
    [
        (swapped, lambda number: 0.14 * number, "file-swapped"),  # by little more than a decibel
        (swapped, lambda number: number - 0.999 * (number == 30), "file-swapped"),  # 29 and 30 are alike
        (frozen, lambda number: 0.2 * number, "file-frozen"),
    ],
)  # fmt: skip
def test_frames_out_of_order_are_named_where_one_frame_is_hardly_another(
    order: Callable[[int], int], source: Callable[[int], float], kind: str
) -> None:
    assert [one.kind for one in found_in(order, source)[1]] == [kind]


def test_frames_that_stand_still_without_a_trace_of_coding_are_told_of_once() -> None:
    assert [one.kind for one in found_in(frozen, is_coded=False)[1]] == ["file-frozen"]


def test_black_is_black_with_a_burn_in_and_a_watermark_over_it() -> None:
    own, source = np.full((50, 96), 90, np.uint8), np.full((50, 96), 90, np.uint8)
    own[20:40, 10:] = 16
    said = partial(faults_of_frames, psnr=np.full(50, 40.0), near={}, rate=25.0, at=str, is_copied=False)
    faults, _ = said(own, source)
    assert "file-black" in [one.kind for one in faults]
    source[20:40, 10:] = 16  # a lamp in the night
    assert said(own, source) == ([], [])


@pytest.mark.parametrize("is_compiled", [True, False])
def test_lines_of_frames_are_compared_with_the_bits_of_the_one_that_has_more(
    is_compiled: bool, monkeypatch: pytest.MonkeyPatch
) -> None:
    if not is_compiled:
        monkeypatch.setattr(compiled, "closeness", None)
    eight, other = some_lines(drawn(3)), some_lines(drawn(4))
    assert eight and other
    ten = SomeLines(eight.samples.astype(np.uint16) * 4, 10)
    assert ten.psnr_db(eight) == eight.psnr_db(ten) == 100
    assert other.psnr_db(ten) == ten.psnr_db(other) == pytest.approx(other.psnr_db(eight), abs=0.03)
    finer = SomeLines(ten.samples + 1, 10)
    assert finer.psnr_db(eight) == eight.psnr_db(finer) == pytest.approx(20 * np.log10(1023))
    assert SomeLines(eight.samples[1:], 8).psnr_db(eight) is None


def test_frames_are_named_where_each_is_harder_to_code_than_the_one_before() -> None:
    """As where a drawing grows: the usual closeness is that of seconds ago, which no frame has any more."""

    def levels(number: int) -> float:
        return 0.7 * 10 ** (0.4 * min(number, 40) / 20)

    assert found_in(lambda number: number, levels=levels) == ({}, [])
    shows, faults = found_in(lambda number: {30: 31, 31: 30}.get(number, number), levels=levels)
    assert (shows, [fault.kind for fault in faults]) == ({30: 31, 31: 30}, ["file-swapped"])


@pytest.mark.parametrize("height", [480, 576, 720, 1024, 1080])
def test_what_is_drawn_as_far_apart_as_the_lines_that_are_kept_is_on_some_of_them(height: int) -> None:
    period = height // 64
    plain = np.full((height, 16), 120, np.uint8)
    for first in range(period):
        ruled = plain.copy()
        ruled[first::period] = 160
        kept, other = (some_lines(av.VideoFrame.from_ndarray(one, format="gray")) for one in (plain, ruled))
        assert kept and other and len(kept.samples) == 64
        found_db = kept.psnr_db(other)
        assert found_db is not None and found_db < 40, first


@pytest.mark.parametrize("smoothed", [range(30, 31), range(30, 34)])
def test_frames_that_an_encoder_smoothed_over_are_no_fault(smoothed: range) -> None:
    assert found_in(lambda number: number, lambda number: 0.3 * number, blur=smoothed) == ({}, [])


@pytest.mark.parametrize(
    ("own", "other", "apart", "is_another"),
    [
        (28.0, 36.0, 28.7, True),
        (38.2, 42.8, 39.5, True),
        (41.3, 42.8, 39.5, False),  # it has something of its own
        (39.4, 43.2, 42.9, False),  # nobody sees the difference: encoders skip it
        (30.0, 33.0, 32.0, False),  # coding changes as much
        (28.0, 36.0, None, False),
    ],
)
def test_a_frame_is_another_where_what_moved_and_what_coding_changed_add_up(
    own: float, other: float, apart: float | None, is_another: bool
) -> None:
    assert _is_another(own, other, apart) == is_another


@pytest.mark.parametrize(("count", "kinds"), [(60, ["file-misplaced"]), (6, [])])
def test_many_frames_in_a_row_tell_what_one_does_not(count: int, kinds: list[str]) -> None:
    """They move by less than coding changes."""
    _, faults = found_in(lambda number: number + (20 <= number < 20 + count), lambda number: 0.16 * number)
    assert [one.kind for one in faults] == kinds


def test_a_run_goes_on_over_frames_that_hardly_move() -> None:
    _, faults = found_in(
        lambda number: number + (39 <= number < 47), lambda number: 0.6 * (number // 2) + 0.2 * (number % 2)
    )
    assert [(one.kind, one.values["frames"]) for one in faults] == [("file-misplaced", 8)]


def test_where_the_source_stands_still_in_between_moved_frames_are_told_of_together() -> None:
    _, faults = found_in(lambda number: min(number + 1, FRAMES - 1), lambda number: number // 3 * 3)
    assert [one.kind for one in faults] == ["file-misplaced"] and faults[0].values["frames"] == 29


def test_audio_that_is_late_is_told_by_what_varies_in_it_or_by_where_it_begins() -> None:
    varied = 10.0 ** np.random.default_rng(3).uniform(-3, -1, 4 * BINS_A_SECOND)
    silence = np.zeros(48)
    assert lag_of(np.concatenate([silence, varied[:-48]]), varied) == 0.12
    assert lag_of(np.concatenate([varied[48:], silence]), varied) == -0.12
    steady = np.full(4 * BINS_A_SECOND, 0.01)
    assert begins_late(np.concatenate([silence, steady[48:]]), steady) == 0.12
    assert begins_late(np.concatenate([steady[48:], silence]), steady) == -0.12
    assert begins_late(steady, steady) == begins_late(np.zeros_like(steady), steady) == 0
    assert begins_late(np.concatenate([silence, steady[48:]]), np.concatenate([silence, steady[48:]])) == 0


def test_a_file_that_fills_its_limit_is_as_good_as_it_can_be(tmp_path: Path) -> None:
    footage = make_footage(tmp_path / "a.mov")
    row = planned(
        tmp_path, make_shots(footage, (0, 25)), outputs=(Output("web-small", tmp_path / "w"),)
    ).rows[0]
    seconds = float(footage.frame_index.rate.seconds(footage.frame_index.frame_count))
    for megabits, is_filled in ((1.4, True), (0.4, False)):
        size = round(megabits * 1_000_000 / 8 * seconds)
        made = replace(footage, source=replace(footage.source, size_bytes=size))
        assert _is_filled(made, row) == is_filled
    other = planned(tmp_path, make_shots(footage, (0, 25)), outputs=(Output("web", tmp_path / "x"),)).rows[0]
    assert not _is_filled(replace(footage, source=replace(footage.source, size_bytes=10**9)), other)
