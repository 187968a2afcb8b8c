"""Every ordinary kind of footage is cut exactly, by the installed program, verified by bar codes and ticks."""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction
from itertools import pairwise
from pathlib import Path

import pytest

from boxkite.core.timebase import FrameRate, Span, Timecode
from boxkite.demo.movies import Movie, write_movie
from boxkite.demo.pictures import LOFT, VAT
from tests.verification import assert_holds, boxkite

SMALL = {"width": 320, "height": 180, "scenes": ((0, VAT), (60, LOFT))}
OPEN_GOP = {
    "preset": "veryfast",
    "g": "40",
    "bf": "3",
    "x264-params": "open-gop=1:scenecut=0:b-pyramid=normal",
}


def movie(name: str, rate: str, frames: int = 130, **settings) -> Movie:
    return Movie(Path(name), frames, FrameRate.parse(rate), **{**SMALL, **settings})


KINDS = {
    "drop-frame start": movie("p.mov", "29.97", timecode="01:00:00;00"),
    "drop over a minute": movie("p.mov", "59.94", timecode="10:58:59;20", width=480, height=270),
    "23.976 open GOP": movie("p.mp4", "23.976", options=OPEN_GOP, timecode="01:00:00:00", audio_codec="aac"),
    "over midnight": movie("p.mov", "25", timecode="23:59:58:00"),
    "50 in mkv, 44.1 kHz": movie("p.mkv", "50", sample_rate=44_100, timecode="00:00:10:00"),
    "transport stream": movie("p.ts", "25", audio_codec="mp2", options=OPEN_GOP),
    "10 bit, eight tracks": movie(
        "p.mov", "25", pixel_format="yuv422p10le", audio_tracks=8, layout="mono", timecode="02:00:00:00"
    ),
    "no sound": movie("p.mp4", "30", audio_tracks=0),
    "odd size, anamorphic": movie(
        "p.mkv", "24", width=322, height=182, encoder="ffv1", options={}, sample_aspect=Fraction(4, 3)
    ),
    "mpeg-2 program": movie("p.mpg", "29.97", encoder="mpeg2video", options={"g": "15", "bf": "2", "b": "4M"},
                            audio_codec="mp2"),
    "mxf": movie("p.mxf", "25", encoder="mpeg2video", options={"g": "12", "bf": "2", "b": "6M"},
                 timecode="01:00:00:00"),
    "avi": movie("p.avi", "25", encoder="mjpeg", options={}, pixel_format="yuvj420p"),
    "avi with reordered pictures": movie("p.avi", "25", encoder="mpeg4", options={"bf": "2", "g": "20", "b": "2M"}),
    "refreshed without keyframes": movie("p.mp4", "25", options={"x264-params": "intra-refresh=1:keyint=30"}),
    "hevc": movie("p.mov", "60", 90, encoder="libx265", audio_codec="aac",
                  options={"preset": "ultrafast", "x265-params": "log-level=none:keyint=30:bframes=3:open-gop=1"}),
}  # fmt: skip


def mark_list(folder: Path, shown: Movie, frames: list[int]) -> Path:
    """A marker list in the program's own timecode, the last marker closing."""
    start = Timecode.parse(shown.timecode or "00:00:00:00", shown.rate)
    lines = [
        "TITLE: trial",
        "",
        "001  AX       V     C        00:00:00:00 00:00:01:00 00:00:00:00 00:00:01:00",
    ]
    names = [f"cut {number}" for number in range(1, len(frames))] + ["end"]
    lines += [f"* LOC: {start + frame} RED     {name}" for frame, name in zip(frames, names, strict=True)]
    (folder / "list.edl").write_text("\n".join(lines) + "\n")
    return folder / "list.edl"


CUTS = [7, 38, 39, 83]
BY_LIST = ("drop-frame start", "drop over a minute", "over midnight")
"""Kinds whose labels are the riddle: cut by a marker list of their own."""


@pytest.fixture(scope="module")
def made(tmp_path_factory: pytest.TempPathFactory) -> dict[str, tuple[Movie, Path]]:
    """Every kind, each cut at ranges, all in one batch to two presets: (movie, folder of its shots)."""
    folder = tmp_path_factory.mktemp("kinds")
    card, found, lines = folder / "card", {}, ["source,name,in,out"]
    card.mkdir()
    for number, kind in enumerate(kind for kind in KINDS if kind not in BY_LIST):
        path = card / f"k{number:02}{KINDS[kind].path.suffix}"
        shown = replace(KINDS[kind], path=path)
        write_movie(shown)
        found[kind] = shown, folder
        spans = enumerate(pairwise([*CUTS, shown.frames]), start=1)
        lines += [f"{path.name},cut {place},{start},{end}" for place, (start, end) in spans]
    (folder / "ranges.csv").write_text("\n".join(lines))
    done = boxkite("run", card, "--by", "ranges", "--marks", "ranges.csv", "--names", "@clip/@marker",
                   "--to", "stock:s", "--to", "web:w", "--json", cwd=folder)  # fmt: skip
    assert done.status == 0, done.out + done.err
    return found


@pytest.mark.xdist_group("kinds")
@pytest.mark.parametrize("kind", [kind for kind in KINDS if kind not in BY_LIST])
def test_every_kind_of_footage_is_cut_to_the_frame(kind: str, made: dict[str, tuple[Movie, Path]]) -> None:
    shown, folder = made[kind]
    for number, (start, end) in enumerate(pairwise([*CUTS, shown.frames]), start=1):
        exact = shown.audio_codec.startswith("pcm")
        for path, slack in (
            (folder / f"s/{shown.path.stem}/cut {number}.mov", 1 if exact else 30),
            (folder / f"w/{shown.path.stem}/cut {number}.mp4", 1024),
        ):
            sample_slack = slack if shown.audio_tracks else None
            assert_holds(path, Span(start, end), shown.rate, sample_slack=sample_slack)
    if shown.audio_tracks == 8:
        files = boxkite("inspect", folder / "s" / shown.path.stem, "--json").json["sources"]
        assert [len(file["audio"]) for file in files] == [8] * 4


@pytest.mark.parametrize("kind", BY_LIST)
def test_lists_in_the_programs_own_timecode_cut_to_the_frame(kind: str, tmp_path: Path) -> None:
    shown = replace(KINDS[kind], path=tmp_path / KINDS[kind].path)
    write_movie(shown)
    cuts = [*CUTS, shown.frames]
    done = boxkite("run", shown.path, "--marks", mark_list(tmp_path, shown, cuts), "--to", "stock:s",
                   cwd=tmp_path)  # fmt: skip
    assert done.status == 0, done.out + done.err
    for number, (start, end) in enumerate(pairwise(cuts), start=1):
        assert_holds(tmp_path / f"s/cut {number}.mov", Span(start, end), shown.rate)
