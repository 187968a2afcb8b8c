"""Footage that is not plain: variable rate, turned, interlaced, odd sizes, images, chapters, late sound."""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction
from pathlib import Path

import av
import numpy as np
import pytest
from PIL import Image
from PIL.ExifTags import Base

from boxkite.core.timebase import FrameRate, Span
from boxkite.demo import read_barcode
from boxkite.demo.movies import Movie, write_movie
from boxkite.demo.pictures import LOFT, VAT, draw_picture
from tests import wording
from tests.verification import assert_holds, audio_of, boxkite, frames_of, kinds

RATE = FrameRate.parse("25")
SMALL = {"width": 320, "height": 180, "scenes": ((0, VAT), (60, LOFT))}


def cut_in_two(folder: Path, source: Path, at: int, *to: str) -> dict:
    """Cut at a frame number into “a” and “b”, and give back what the run said."""
    (folder / "two.csv").write_text(f"name,in\na,0\nb,{at}\n")
    done = boxkite("run", source, "--by", "markers", "--marks", "two.csv", *(word for one in to for word in ("--to", one)),  # noqa: E501
                   "--json", cwd=folder)  # fmt: skip
    assert done.status == 0, done.out + done.err
    return done.json


def test_variable_rate_is_converted_to_a_constant_one_without_drift(tmp_path: Path) -> None:
    rng = np.random.default_rng(3)
    steps = rng.choice([33, 33, 33, 34, 50, 100, 17], 200)
    times = [0, *np.cumsum(steps[:-1]).tolist()]
    write_movie(
        Movie(tmp_path / "phone.mp4", 200, FrameRate.parse("30"), times=times, audio_tracks=0, **SMALL)
    )
    message = cut_in_two(tmp_path, tmp_path / "phone.mp4", 100, "web:w")
    assert kinds(message["files"][0]["warnings"])[0] == "variable-rate"
    rate = FrameRate.parse(message["files"][0]["rate"])
    shown = frames_of(tmp_path / "w/a.mp4") + frames_of(tmp_path / "w/b.mp4")
    assert len(shown) == sum(file["frames"] for file in message["files"])
    for number, (_, frame) in enumerate(shown):
        at = float(1000 * number / rate.fraction)
        assert times[frame] <= at + 500 / rate.fraction, number
        later = times[frame + 1] if frame + 1 < 200 else 1 << 40
        assert later > at - 500 / rate.fraction - 1, number


def test_a_capture_with_dropped_frames_shows_the_frame_before_in_their_place(tmp_path: Path) -> None:
    shown = [0, 1, 2, 4, 5, 6, 7, 10, 11, 12]
    with av.open(str(tmp_path / "capture.avi"), "w") as container:
        stream = container.add_stream("ffv1", rate=25)
        stream.width, stream.height, stream.pix_fmt = 320, 180, "yuv420p"
        for number in shown:
            picture = draw_picture(VAT, 1, number, 320, 180)
            picture.pts = number
            container.mux(stream.encode(picture))
        container.mux(stream.encode(None))
    message = cut_in_two(tmp_path, tmp_path / "capture.avi", 4, "archive:out")
    assert {file["rate"] for file in message["files"]} == {"25"}
    laid = [one["values"] for one in message["files"][0]["warnings"] if one["kind"] == "variable-rate"]
    assert laid == [{"stored": 10, "frames": 13, "rate": "25"}]
    frames = frames_of(tmp_path / "out/a.mkv") + frames_of(tmp_path / "out/b.mkv")
    assert [frame for _, frame in frames] == [0, 1, 2, 2, 4, 5, 6, 7, 7, 7, 10, 11, 12]


@pytest.mark.parametrize(
    ("encoder", "options"),
    [
        ("libsvtav1", {"preset": "10"}),
        ("mpeg2video", {"bf": "2"}),
        ("libvpx-vp9", {"cpu-used": "5"}),
    ],
)
def test_codecs_with_frames_that_no_other_needs_are_cut_anywhere(
    encoder: str, options: dict[str, str], tmp_path: Path
) -> None:
    film = Movie(tmp_path / "film.mkv", 45, RATE, encoder=encoder, options=options, audio_tracks=0, **SMALL)
    write_movie(film)
    cut_in_two(tmp_path, tmp_path / "film.mkv", 19, "archive:out")
    assert frames_of(tmp_path / "out/b.mkv") == [(1, number) for number in range(19, 45)]


def test_rotating_leaves_colours_alone_where_chroma_is_halved_one_way(tmp_path: Path) -> None:
    upright = Movie(tmp_path / "a.mov", 3, RATE, encoder="prores_ks", options={}, pixel_format="yuv422p10le",
                    width=640, height=360, audio_tracks=0, scenes=((0, VAT),))  # fmt: skip
    write_movie(upright)
    write_movie(replace(upright, path=tmp_path / "b.mov", turn_degrees=90))
    done = boxkite("run", tmp_path / "a.mov", tmp_path / "b.mov", "--to", "master-dnxhr:out", cwd=tmp_path)
    assert done.status == 0, done.err
    means = []
    for name in ("a", "b"):
        with av.open(str(tmp_path / f"out/{name}.mov")) as container:
            picture = next(container.decode(video=0))
            means.append([np.frombuffer(plane, np.uint16).reshape(plane.height, -1)[:, : plane.width].mean()
                          for plane in picture.planes])  # fmt: skip
    assert np.abs(np.subtract(*means)).max() < 1


def test_a_rate_that_mxf_has_not_is_left_out_and_a_run_says_so(tmp_path: Path) -> None:
    for name, rate in (("a", "25"), ("b", "12.5")):
        write_movie(Movie(tmp_path / f"{name}.mov", 5, FrameRate.parse(rate), **SMALL))
    done = boxkite("run", "a.mov", "b.mov", "--to", "broadcast:out", cwd=tmp_path)
    assert done.status == 0 and [path.name for path in (tmp_path / "out").iterdir()] == ["a.mxf"]
    assert wording.MXF_RATE_LEFT_OUT in done.out


def test_grey_stays_grey_and_an_untagged_matrix_is_tagged_where_the_size_would_tell_another(
    tmp_path: Path,
) -> None:
    for name, encoder, kind, size in (
        ("grey", "ffv1", "gray", (640, 360)),
        ("hd", "ffv1", "yuv420p", (1280, 720)),
    ):
        with av.open(str(tmp_path / f"{name}.mkv"), "w") as container:
            stream = container.add_stream(encoder, rate=25)
            stream.width, stream.height, stream.pix_fmt = *size, kind
            for number in range(5):
                picture = draw_picture(VAT, 1, number, *size).reformat(format=kind)
                picture.colorspace = 2
                picture.pts = number
                container.mux(stream.encode(picture))
            container.mux(stream.encode(None))
    done = boxkite(
        "run",
        "grey.mkv",
        "hd.mkv",
        "--to",
        "web:w",
        "--to",
        "review-light:r",
        "--to",
        "archive:a",
        cwd=tmp_path,
    )
    assert done.status == 0, done.err
    made = {}
    for path in ("w/grey.mp4", "w/hd.mp4", "r/hd.mp4", "a/hd.mkv"):
        with av.open(str(tmp_path / path)) as container:
            made[path] = next(container.decode(video=0))
    assert [int(made[path].colorspace) for path in ("w/hd.mp4", "r/hd.mp4", "a/hd.mkv")] == [2, 1, 2]
    for plane in list(made["w/grey.mp4"].planes)[1:]:
        assert abs(np.frombuffer(plane, np.uint8).astype(int).mean() - 128) < 0.5


@pytest.mark.parametrize("turn", [90, 180, 270])
def test_rotated_footage_is_made_upright(turn: int, tmp_path: Path) -> None:
    write_movie(
        Movie(
            tmp_path / "turned.mov",
            30,
            RATE,
            width=320,
            height=320,
            scenes=((0, VAT),),
            turn_degrees=turn,
        )
    )
    cut_in_two(tmp_path, tmp_path / "turned.mov", 20, "web:w", "stock:s", "frames-tiff:t")
    for made in ("w/b.mp4", "s/b.mov"):
        with av.open(str(tmp_path / made)) as container:
            for number, picture in enumerate(container.decode(video=0)):
                assert picture.rotation == 0
                upright = np.rot90(picture.reformat(format="gray").to_ndarray(), -turn // 90)
                assert read_barcode(np.ascontiguousarray(upright)) == (1, 20 + number)
    with Image.open(tmp_path / "t/a/a.0001.tif") as image:
        assert image.getexif().get(Base.Orientation, 1) == 1


@pytest.mark.parametrize(
    ("size", "format_name", "encoder"),
    [((322, 181), "yuv422p", "ffv1"), ((321, 180), "yuv444p", "ffv1"), ((321, 181), "yuv420p", "ffv1")],
)
def test_odd_sizes_lose_a_line_not_their_sharpness(
    size: tuple[int, int], format_name: str, encoder: str, tmp_path: Path
) -> None:
    with av.open(str(tmp_path / "odd.mkv"), "w") as container:
        stream = container.add_stream(encoder, rate=25)
        stream.width, stream.height, stream.pix_fmt = *size, format_name
        for number in range(30):
            picture = draw_picture(VAT, 1, number, 320, 180).reformat(*size, format=format_name)
            picture.pts = number
            container.mux(stream.encode(picture))
        container.mux(stream.encode(None))
    message = cut_in_two(tmp_path, tmp_path / "odd.mkv", 11, "web:w", "stock:s", "review:r")
    assert frames_of(tmp_path / "w/b.mp4") == [(1, number) for number in range(11, 30)]
    assert frames_of(tmp_path / "s/b.mov") == [(1, number) for number in range(11, 30)]
    assert message["files"][0]["size"] == f"{size[0] // 2 * 2}x{size[1] // 2 * 2}"


def test_interlaced_footage_keeps_its_fields_in_stock_and_loses_them_in_web(tmp_path: Path) -> None:
    with av.open(str(tmp_path / "tape.mov"), "w") as container:
        stream = container.add_stream(
            "mpeg2video", rate=25, options={"b": "8M", "flags": "+ildct+ilme", "top": "1"}
        )
        stream.width, stream.height, stream.pix_fmt = 320, 180, "yuv420p"
        stream.codec_context.field_order = 2
        for number in range(40):
            picture = draw_picture(VAT, 1, number, 320, 180)
            for plane, codes in zip(list(picture.planes)[1:], ((90, 160), (160, 90)), strict=True):
                rows = np.array(codes * (plane.height // 2), np.uint8)  # each field has a colour of its own
                plane.update(np.repeat(rows, plane.line_size).tobytes())
            picture.pts = number
            container.mux(stream.encode(picture))
        container.mux(stream.encode(None))
    assert (
        boxkite("inspect", tmp_path / "tape.mov", "--json").json["sources"][0]["video"]["field_order"]
        == "top first"
    )
    cut_in_two(tmp_path, tmp_path / "tape.mov", 13, "web:w", "stock:s")
    for made, order in (("w/b.mp4", "progressive"), ("s/b.mov", "top first")):
        assert frames_of(tmp_path / made) == [(1, number) for number in range(13, 40)]
        assert (
            boxkite("inspect", tmp_path / made, "--json").json["sources"][0]["video"]["field_order"] == order
        )
    with av.open(str(tmp_path / "s/b.mov")) as container:
        blue = next(container.decode(video=0)).planes[1]
    rows = np.frombuffer(blue, np.uint16).reshape(blue.height, -1)[:, : blue.width].mean(axis=1) / 4
    assert rows[40::2].mean() < 100 and rows[41::2].mean() > 150  # 4:2:0 becomes 4:2:2 field by field


def test_numbered_images_are_one_source_and_are_cut_like_any_other(tmp_path: Path) -> None:
    (tmp_path / "frames 100%").mkdir()
    for number in range(48):
        picture = draw_picture(VAT, 1, number, 320, 180)
        picture.reformat(format="rgb24").save(tmp_path / f"frames 100%/loft.{number + 995:04d}.png")
    message = boxkite("inspect", "frames 100%", "--json", cwd=tmp_path).json["sources"]
    assert [(one["kind"], one["label"], one["video"]["frames"]) for one in message] == [
        ("image sequence", "loft.[0995-1042].png", 48)
    ]
    cut_in_two(tmp_path, Path("frames 100%"), 17, "web:w")
    slow = boxkite("inspect", "frames 100%", "--images-rate", "12", "--json", cwd=tmp_path).json["sources"][0]
    assert (slow["video"]["length"], slow["warnings"]) == ("00:00:04:00", [])
    assert frames_of(tmp_path / "w/b.mp4") == [(1, number) for number in range(17, 48)]
    (tmp_path / "frames 100%/loft.1001.png").unlink()
    refused = boxkite("plan", "frames 100%", "--to", "web:x", cwd=tmp_path)
    assert (refused.status, wording.MISSING_FRAME in refused.err) == (2, True)


@pytest.mark.parametrize("extension", ["mp4", "mkv"])
def test_chapters_in_a_file_are_marks(extension: str, tmp_path: Path) -> None:
    rate = FrameRate.parse("23.976")
    chapters = ((0, "vat"), (37, "press"), (80, "END"))
    write_movie(
        Movie(tmp_path / f"film.{extension}", 100, rate, audio_codec="aac", chapters=chapters, **SMALL)
    )
    done = boxkite("run", f"film.{extension}", "--by", "markers", "--to", "web:w", cwd=tmp_path)
    assert done.status == 0, done.err
    assert_holds(tmp_path / "w/vat.mp4", Span(0, 37), rate, sample_slack=1024)
    assert_holds(tmp_path / "w/press.mp4", Span(37, 80), rate, sample_slack=1024)


def test_audio_that_starts_late_and_ends_early_is_filled_with_silence_and_reported(tmp_path: Path) -> None:
    path = tmp_path / "late.mov"
    with av.open(str(path), "w") as container:
        stream = container.add_stream("libx264", rate=25)
        stream.width, stream.height = 320, 180
        sound = container.add_stream("pcm_s16le", rate=48_000, layout="mono")
        wave = av.AudioFrame.from_ndarray(
            np.full((1, 48_000), 16_000, dtype=np.int16), format="s16", layout="mono"
        )
        wave.sample_rate, wave.pts, wave.time_base = 48_000, 24_000, Fraction(1, 48_000)
        for number in range(75):
            picture = draw_picture(VAT, 1, number, 320, 180)
            picture.pts = number
            container.mux(stream.encode(picture))
            if number == 12:
                container.mux(sound.encode(wave))
        container.mux(stream.encode(None))
        container.mux(sound.encode(None))
    message = cut_in_two(tmp_path, path, 30, "stock:s")
    first, _ = audio_of(tmp_path / "s/a.mov")
    second, _ = audio_of(tmp_path / "s/b.mov")
    heard = np.concatenate([first, second])
    assert len(heard) == 75 * 1920
    assert np.flatnonzero(heard > 0.1)[[0, -1]].tolist() == [24_000, 71_999]
    assert any("silence-filled" in kinds(file["warnings"]) for file in message["files"])


def test_a_file_trimmed_without_encoding_begins_at_the_frame_its_edit_list_shows(tmp_path: Path) -> None:
    options = {"preset": "veryfast", "g": "30", "bf": "3", "x264-params": "scenecut=0"}
    write_movie(Movie(tmp_path / "whole.mp4", 130, RATE, options=options, audio_tracks=0, **SMALL))
    with (
        av.open(str(tmp_path / "whole.mp4")) as whole,
        av.open(str(tmp_path / "trimmed.mp4"), "w") as trimmed,
    ):
        stream = trimmed.add_stream_from_template(whole.streams.video[0])
        tick = round(1 / (25 * whole.streams.video[0].time_base))
        packets = [packet for packet in whole.demux(video=0) if packet.dts is not None]
        key = next(at for at, packet in enumerate(packets) if packet.is_keyframe and packet.pts >= 30 * tick)
        for packet in packets[key:]:
            packet.pts, packet.dts, packet.stream = packet.pts - 40 * tick, packet.dts - 40 * tick, stream
            trimmed.mux(packet)
    cut_in_two(tmp_path, tmp_path / "trimmed.mp4", 13, "web:w")
    assert frames_of(tmp_path / "w/a.mp4") == [(1, number) for number in range(40, 53)]
    assert frames_of(tmp_path / "w/b.mp4") == [(1, number) for number in range(53, 130)]


def test_tracks_that_do_not_go_along_are_named(tmp_path: Path) -> None:
    with av.open(str(tmp_path / "two.mkv"), "w") as container:
        streams = [container.add_stream("ffv1", rate=25) for _ in range(2)]
        for stream in streams:
            stream.width, stream.height, stream.pix_fmt = 320, 180, "yuv420p"
        for number in range(10):
            for stream in streams:
                picture = draw_picture(VAT, 1, number, 320, 180)
                picture.pts = number
                container.mux(stream.encode(picture))
        for stream in streams:
            container.mux(stream.encode(None))
    rows = boxkite("plan", "two.mkv", "--to", "web:w", "--json", cwd=tmp_path).json["rows"]
    assert kinds(rows[0]["warnings"]) == ["short", "stream-left-out"]


def test_shots_of_one_and_two_frames_are_coded_in_hevc_every_time(tmp_path: Path) -> None:
    write_movie(Movie(tmp_path / "film.mov", 60, FrameRate.parse("25"), ((0, VAT),), width=160, height=96))
    rows = "".join(f"m{start},{start},{start + 1 + start % 2}\n" for start in range(0, 40))
    (tmp_path / "marks.csv").write_text(f"name,in,out\n{rows}")
    done = boxkite("run", "film.mov", "--by", "ranges", "--marks", "marks.csv", "--names", "@marker", "--to", "web:out",
                   "--set", "video.codec=hevc", "--json", cwd=tmp_path)  # fmt: skip
    assert done.status == 0, [file["failure"] for file in done.json["files"] if file["failure"]]
    for start in (0, 7):
        assert frames_of(tmp_path / f"out/m{start}.mp4") == [
            (1, frame) for frame in range(start, start + 1 + start % 2)
        ]
