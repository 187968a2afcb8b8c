"""Copies that are made exact or joined, and footage that is damaged."""

from __future__ import annotations

import os
from pathlib import Path

import av
import numpy as np
import pytest

from boxkite.core.timebase import FrameRate, Span
from boxkite.demo import read_barcode
from boxkite.demo.movies import Movie, write_movie
from boxkite.demo.pictures import LOFT, VAT
from tests import wording
from tests.verification import assert_holds, audio_of, boxkite, frames_of, kinds

RATE = FrameRate.parse("25")
MARKS = "name,in,out\na,10,35\nb,50,75\n"


@pytest.fixture(scope="module")
def film(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("film")
    write_movie(Movie(folder / "film.mov", 150, RATE, ((0, VAT), (60, LOFT)), width=640, height=360,
                      options={"preset": "ultrafast", "g": "25", "bf": "2", "crf": "10"}))  # fmt: skip
    write_movie(Movie(folder / "other.mov", 50, RATE, ((0, VAT),), source=2, width=320, height=180))
    (folder / "marks.csv").write_text(MARKS)
    return folder


def test_exact_cuts_are_encoded_only_where_a_copy_would_not_be_exact(film: Path, tmp_path: Path) -> None:
    done = boxkite("run", "film.mov", "--by", "ranges", "--marks", "marks.csv", "--exact-cuts", "--names", "@marker",
                   "--to", f"copy:{tmp_path}", "--json", cwd=film)  # fmt: skip
    assert done.status == 0, done.out + done.err
    assert [(file["how"], file["frames"]) for file in done.json["files"]] == [("splice", 25), ("copy", 25)]
    spliced = done.json["files"][0]
    assert (spliced["encoded_frames"], spliced["copied_frames"], spliced["warnings"]) == (15, 10, [])
    assert_holds(tmp_path / "a.mov", Span(10, 35), RATE)
    assert_holds(tmp_path / "b.mov", Span(50, 75), RATE)


def test_copies_become_one_file_where_their_streams_are_alike(film: Path, tmp_path: Path) -> None:
    words = ("run", "film.mov", "--by", "ranges", "--marks", "marks.csv", "--names", "@marker")
    done = boxkite(*words, "--joined", "also", "--to", f"copy:{tmp_path}", "--json", cwd=film)
    assert done.status == 0, done.out + done.err
    spans = [(file["in_frame"], file["out_frame"]) for file in done.json["files"][:2]]
    frames = [(1, frame) for span in spans for frame in range(*span)]
    assert frames_of(tmp_path / "a-joined.mov") == frames
    assert [frames_of(tmp_path / f"{name}.mov") for name in "ab"] == [
        [(1, frame) for frame in range(*span)] for span in spans
    ]
    joined, rate = audio_of(tmp_path / "a-joined.mov")
    assert abs(len(joined) - len(frames) * rate // 25) <= 2048
    only = boxkite(*words, "--joined", "only", "--to", f"copy:{tmp_path}/only", cwd=film)
    assert only.status == 0 and [path.name for path in (tmp_path / "only").iterdir()] == ["a-joined.mov"]
    refused = boxkite(
        "run", "film.mov", "other.mov", "--joined", "only", "--to", f"copy:{tmp_path}/x", cwd=film
    )
    assert refused.status == 2 and wording.CANNOT_BE_JOINED in refused.err


HEVC = {"preset": "ultrafast", "x265-params": "log-level=0:keyint=25:min-keyint=25:scenecut=0:open-gop=0"}
CONTAINERS = {
    "film.ts": ("libx265", HEVC, "yuv420p10le", "aac"),
    "short.ts": ("mpeg2video", {"g": "12", "bf": "2"}, "yuv420p", "mp2"),
    "film.mxf": ("dnxhd", {"profile": "dnxhr_hq"}, "yuv422p", "pcm_s24le"),
    "film.mp4": ("mpeg4", {"g": "25", "bf": "2"}, "yuv420p", "ac3"),
    "film.avi": ("mjpeg", {}, "yuvj420p", "pcm_s16le"),
    "intra.mp4": ("mpeg4", {"g": "1", "bf": "2", "b": "8M"}, "yuv420p", "aac"),  # each shown one frame late
    "film.mkv": ("libsvtav1", {"preset": "10", "g": "25"}, "yuv420p", "libopus"),
}


@pytest.mark.parametrize("name", CONTAINERS)
def test_copies_hold_every_wanted_frame_in_every_container(name: str, tmp_path: Path) -> None:
    encoder, options, pixel_format, sound = CONTAINERS[name]
    write_movie(Movie(tmp_path / name, 130, FrameRate.parse("29.97"), ((0, VAT),), width=320, height=180,
                      encoder=encoder, options=options, pixel_format=pixel_format, audio_codec=sound))  # fmt: skip
    (tmp_path / "m.csv").write_text("name,in,out\na,0,25\nb,50,53\nc,70,130\n")
    words = ("run", name, "--by", "ranges", "--marks", "m.csv", "--names", "@marker", "--json")
    done = boxkite(*words, "--to", "copy:out", cwd=tmp_path)
    assert done.status == 0, done.out + done.err
    for file, (first, end) in zip(done.json["files"], ((0, 25), (50, 53), (70, 130)), strict=True):
        with av.open(file["path"]) as container:
            frames = [read_barcode(picture)[1] for picture in container.decode(video=0)]
        assert frames == list(range(file["in_frame"], file["out_frame"]))
        assert file["in_frame"] <= first and file["out_frame"] >= end
    exact = boxkite(*words, "--exact-cuts", "--to", "copy:exact", cwd=tmp_path)
    if name in ("film.ts", "film.mxf", "film.avi", "intra.mp4", "film.mkv"):
        assert [file["frames"] for file in exact.json["files"]] == [25, 3, 60]
    else:
        assert exact.status == 2 and f"cannot make {Path(name).suffix} of" in exact.err


def test_footage_of_variable_rate_is_copied_with_its_own_times(tmp_path: Path) -> None:
    steps = np.random.default_rng(3).choice([33, 33, 34, 50, 17], 90)
    times = [0, *np.cumsum(steps[:-1]).tolist()]
    write_movie(Movie(tmp_path / "phone.mkv", 90, FrameRate.parse("30"), ((0, VAT),), width=320, height=180,
                      times=times, audio_tracks=0, options={"preset": "ultrafast", "g": "15"}))  # fmt: skip
    (tmp_path / "m.csv").write_text("name,in,out\na,30,60\n")
    done = boxkite(
        "run", "phone.mkv", "--by", "ranges", "--marks", "m.csv", "--to", "copy:out", "--json", cwd=tmp_path
    )
    assert done.status == 0, done.out + done.err
    with av.open(done.json["files"][0]["path"]) as container:
        copied = [
            round(float(packet.pts * packet.time_base) * 1000)
            for packet in container.demux(video=0)
            if packet.size
        ]
    copied.sort()
    gaps = np.diff(copied)
    assert any(
        np.array_equal(gaps, np.diff(times)[start : start + len(gaps)]) for start in range(90 - len(gaps))
    )


def damaged(film: Path, folder: Path) -> Path:
    """The film with the packets of five pictures overwritten in its middle."""
    path = folder / "film.mov"
    data = bytearray((film / "film.mov").read_bytes())
    with av.open(str(film / "film.mov")) as container:
        packets = [(packet.pos, packet.size) for packet in container.demux(video=0) if packet.size]
    for position, size in packets[60:65]:
        data[position + 8 : position + size] = os.urandom(size - 8)
    path.write_bytes(data)
    return path


def test_what_is_there_of_damaged_footage_is_made_and_counted_where_that_is_accepted(
    film: Path, tmp_path: Path
) -> None:
    path = damaged(film, tmp_path)
    words = ("run", path, "--by", "files", "--to", f"stock:{tmp_path}/out")
    assert boxkite(*words).status == 1
    done = boxkite(*words, "--accept-damaged", "--json")
    assert done.status == 0, done.out
    (file,) = done.json["files"]
    assert {"frames-missing", "frames-damaged"} & set(kinds(file["warnings"]))
    with av.open(file["path"]) as container:
        assert sum(1 for _ in container.decode(video=0)) == 150
    sound, rate = audio_of(Path(file["path"]))
    assert len(sound) == 150 * rate // 25


def test_a_file_that_breaks_off_is_made_as_far_as_it_goes(film: Path, tmp_path: Path) -> None:
    whole = tmp_path / "whole.mkv"
    write_movie(Movie(whole, 150, RATE, ((0, VAT),), width=640, height=360,
                      options={"preset": "ultrafast", "g": "25"}))  # fmt: skip
    data = whole.read_bytes()
    (tmp_path / "cut-off.mkv").write_bytes(data[: len(data) * 6 // 10])
    moov_first = tmp_path / "torn.mov"
    with (
        av.open(str(moov_first), "w", options={"movflags": "+faststart"}) as out,
        av.open(str(film / "film.mov")) as into,
    ):
        stream = out.add_stream_from_template(into.streams.video[0])
        for packet in into.demux(video=0):
            if packet.size:
                packet.stream = stream
                out.mux(packet)
    data = moov_first.read_bytes()
    moov_first.write_bytes(data[: len(data) * 6 // 10])
    plan = boxkite("plan", moov_first, "--to", "web:o", "--json", cwd=tmp_path)
    assert "breaks-off" in kinds(plan.json["rows"][0]["warnings"])
    assert boxkite("run", moov_first, "--to", f"archive:{tmp_path}/no").status == 1
    done = boxkite(
        "run",
        moov_first,
        tmp_path / "cut-off.mkv",
        "--to",
        f"archive:{tmp_path}/out",
        "--accept-damaged",
        "--json",
    )
    assert done.status == 0, done.out + done.err
    for file in done.json["files"]:
        found = frames_of(Path(file["path"]))
        assert 60 <= len(found) < 150
        assert found == [(1, frame) for frame in range(len(found))]
    assert any("ends-early" in kinds(file["warnings"]) for file in done.json["files"])
