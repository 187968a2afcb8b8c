"""Detected cuts: found to the frame on material made to mislead, and drawn to look over."""

from __future__ import annotations

import os
from pathlib import Path

import av
import numpy as np
import pytest
from PIL import Image

from boxkite.core.footage.frame_index import measure_frames
from boxkite.core.footage.probe import read_source
from boxkite.core.marks.cut_decider import Change, CutDecider
from boxkite.core.marks.detection import find_changes
from boxkite.core.marks.fingerprint import FingerprintTaker
from boxkite.core.timebase import FrameRate
from boxkite.demo.movies import Movie, write_movie
from boxkite.demo.pictures import LOFT, PRESS, VAT
from tests import wording
from tests.restless import HEIGHT, WIDTH, restless, score, walked_through, with_straps, write_restless
from tests.verification import boxkite


@pytest.mark.xdist_group("restless")
def test_cuts_on_restless_material_are_found_to_the_frame_and_nothing_else_is(tmp_path: Path) -> None:
    made = restless(cuts=200 if "BOXKITE_EVERY_CODEC" in os.environ else 110, seed=5)
    write_restless(made, tmp_path / "restless.mp4")
    source = read_source(tmp_path / "restless.mp4")
    changes = find_changes(source, measure_frames(source))
    precision, recall = score([one.frame for one in changes if not one.length], made.cuts, made.dissolves)
    assert (precision >= 0.98, recall >= 0.98) == (True, True), (precision, recall)
    soft = [one.frame for one in changes if one.length]
    right = [
        frame for frame in soft if any(abs(frame - middle) <= length for middle, length in made.dissolves)
    ]
    assert len(right) >= 0.7 * len(made.dissolves) and len(soft) - len(right) <= 2


def test_what_appears_over_a_still_shot_is_no_cut() -> None:
    frames, cuts = with_straps(30, seed=3)
    taker, decider = FingerprintTaker(), CutDecider()
    found: list[Change] = []
    for luma in frames:
        planes = np.full((HEIGHT * 3 // 2, WIDTH), 128, np.uint8)
        planes[:HEIGHT] = np.clip(luma, 16, 235)
        found += decider.hear(taker.look(av.VideoFrame.from_ndarray(planes, format="yuv420p")))
    found += decider.end()
    assert not {change.frame for change in found} - set(cuts)
    assert len({change.frame for change in found} & set(cuts)) >= 0.97 * len(cuts)


def test_walking_drifting_and_changing_light_are_no_dissolves() -> None:
    for speed in (0.0, 0.4, 0.8):
        taker, decider = FingerprintTaker(), CutDecider()
        found: list[Change] = []
        for luma in walked_through(speed, seed=int(speed * 10)):
            planes = np.full((HEIGHT * 3 // 2, WIDTH), 128, np.uint8)
            planes[:HEIGHT] = np.clip(luma, 16, 235)
            found += decider.hear(taker.look(av.VideoFrame.from_ndarray(planes, format="yuv420p")))
        assert not [one for one in [*found, *decider.end()] if one.length], speed


@pytest.mark.parametrize(
    ("encoder", "pixel_format"), [("libx264", "yuv420p"), ("prores_ks", "yuv422p10le"), ("ffv1", "bgr0")]
)
def test_detected_cuts_are_marks_to_look_over_and_shots_to_make(
    tmp_path: Path, encoder: str, pixel_format: str
) -> None:
    scenes = ((0, VAT), (31, LOFT), (70, PRESS))
    path = tmp_path / ("film.mkv" if encoder == "ffv1" else "film.mov")
    movie = Movie(
        path,
        100,
        FrameRate.parse("25"),
        scenes,
        width=320,
        height=180,
        encoder=encoder,
        options={},
        pixel_format=pixel_format,
        audio_tracks=0,
    )
    write_movie(movie)
    done = boxkite("mark", "detect", movie.path.name, "--strip", "strip.png", cwd=tmp_path)
    assert done.status == 0 and wording.CUTS_FOUND in done.out, done.err
    with Image.open(tmp_path / "strip.png") as strip:
        assert strip.width > 1000 and strip.height > 100
    rows = boxkite(
        "plan", movie.path.name, "--by", "detected-cuts", "--to", "web:out", "--json", cwd=tmp_path
    ).json["rows"]
    assert [(row["in_frame"], row["out_frame"]) for row in rows] == [(0, 31), (31, 70), (70, 100)]
    marked = boxkite(
        "plan", movie.path.name, "--by", "markers", "--to", "web:out", "--json", cwd=tmp_path
    ).json["rows"]
    assert [row["in_frame"] for row in marked] == [0, 31, 70] and marked[1]["keywords"] == ["cut"]
    again = boxkite("mark", "detect", movie.path.name, cwd=tmp_path)
    assert wording.NONE_ADDED in again.out and wording.MARKED_ALREADY in again.out
