"""What is laid over pictures, their shapes, and their values."""

from __future__ import annotations

from fractions import Fraction
from itertools import product
from pathlib import Path

import numpy as np
import pytest
from av.video.frame import VideoFrame
from PIL import Image

from boxkite.core.errors import PresetError, RenderError
from boxkite.core.picture import compiled
from boxkite.core.picture.burn_ins import Line, watermark_stamp
from boxkite.core.picture.chain import PictureChain
from boxkite.core.picture.conversion import FrameConversion
from boxkite.core.picture.converting import Conversions
from boxkite.core.picture.pixel_layout import PixelLayout
from boxkite.core.picture.stamp import (
    lay_over,
    make_stamp,
    plane_array,
    position_of,
)
from boxkite.core.plan.rows import LiveToken, PlannedBurnIn
from boxkite.core.presets.coding import Video
from boxkite.core.presets.geometry import Geometry, drawn_aspect, plan_geometry, sizing_of
from boxkite.core.presets.library import Shelf, list_presets
from boxkite.core.presets.overlays import BurnIn, Watermark
from boxkite.core.presets.reading import checked
from boxkite.core.timebase import FrameRate
from tests.builders import needs_compiled

FORMATS = ["yuv420p", "yuv422p", "yuv444p", "yuv420p10le", "yuv422p10le", "yuv444p10le"]
WHITE, GREY, BLACK = 235, 128, 16


def flat(pixel_format: str, luma: int, width: int = 640, height: int = 360) -> VideoFrame:
    frame = VideoFrame(width, height, pixel_format)
    layout = PixelLayout.of(pixel_format)
    for index, plane in enumerate(frame.planes):
        plane_array(plane, layout)[:] = (GREY if index else luma) << (layout.bit_depth - 8)
    return frame


def line(*parts: str | LiveToken, height_percent: float = 5) -> PlannedBurnIn:
    return PlannedBurnIn(parts, BurnIn(text="x", height_percent=height_percent))


@pytest.mark.parametrize("pixel_format", FORMATS)
@pytest.mark.parametrize("back", [WHITE, GREY, BLACK])
def test_letters_are_legible_on_white_and_on_black_in_every_format(pixel_format: str, back: int) -> None:
    frame, layout = flat(pixel_format, back), PixelLayout.of(pixel_format)
    stamp, left, top = Line(line("first dip"), 360, 640, layout).placed({})
    assert (left, top) == position_of("bottom left", stamp, 640, 360)
    lay_over(frame.planes, stamp, left, top, layout)
    width, height = stamp.size
    values = plane_array(frame.planes[0], layout) >> (layout.bit_depth - 8)
    area = values[top : top + height, left : left + width].astype(int)
    assert area.max() - area.min() > 75
    values[top : top + height, left : left + width] = back
    assert (values == back).all()
    for plane in frame.planes[1:]:
        chroma = plane_array(plane, layout) / (1 << (layout.bit_depth - 8))
        assert np.abs(chroma - GREY).max() <= 1.5


def test_a_running_line_keeps_its_width_and_changes_only_where_it_must() -> None:
    layout = PixelLayout.of("yuv420p")
    running = Line(line("TC ", LiveToken.TIMECODE), 360, 640, layout)
    drawn = []
    for timecode in ("01:00:05:08", "01:00:05:09", "01:00:06:00", "01:00:05:08"):
        stamp, *_ = running.placed({LiveToken.TIMECODE: timecode})
        drawn.append([plane.copy() for plane in (*stamp.keep, *stamp.add)])
        anew, *_ = Line(running.planned, 360, 640, layout).placed({LiveToken.TIMECODE: timecode})
        assert all(map(np.array_equal, drawn[-1], (*anew.keep, *anew.add)))
    one, two = drawn[0][3], drawn[1][3]
    assert one.shape == two.shape
    changed = np.flatnonzero((one != two).any(axis=0))
    assert len(changed)
    assert changed.min() > one.shape[1] * 0.8
    shorter, *_ = running.placed({LiveToken.TIMECODE: "1"})
    assert shorter.size[0] < one.shape[1]


def test_a_long_name_is_shortened_to_leave_room_and_other_scripts_are_drawn() -> None:
    layout = PixelLayout.of("yuv420p")
    assert Line(line("a very long name " * 20), 360, 640, layout).placed({})[0].size[0] < 440
    accented, *_ = Line(line("Bütte Ελλάδα Москва"), 360, 640, layout).placed({})
    missing, *_ = Line(line("\uffff" * 19), 360, 640, layout).placed({})
    assert not np.array_equal(accented.add[0][:, :100], missing.add[0][:, :100])


@pytest.mark.parametrize(
    ("said", "taken"), [("64/45", "64/45"), ("1/4", "1/4"), ("1/65535", "1"), ("9", "1"), ("0", "1")]
)
def test_pixels_of_a_shape_that_makes_no_sense_are_taken_for_square(said: str, taken: str) -> None:
    assert drawn_aspect(Fraction(said)) == Fraction(taken)


@pytest.mark.parametrize("aspect", [64 / 45, 0.75])
def test_letters_and_marks_look_the_same_in_pixels_that_are_not_square(aspect: float, tmp_path: Path) -> None:
    layout, width = PixelLayout.of("yuv444p"), round(640 / aspect)
    Image.new("RGBA", (100, 50), (255, 0, 0, 255)).save(tmp_path / "mark.png")
    mark = Watermark(image=tmp_path / "mark.png", width_percent=20)
    live = {LiveToken.TIMECODE: "01:00:05:08"}
    for drawn in (
        lambda across, *shape: Line(line("first dip"), 360, across, layout, *shape).placed({})[0],
        lambda across, *shape: Line(line("a very long name " * 9), 360, across, layout, *shape).placed({})[0],
        lambda across, *shape: Line(line(LiveToken.TIMECODE), 360, across, layout, *shape).placed(live)[0],
        lambda across, *shape: watermark_stamp(mark, across, layout, *shape),
        lambda across, *shape: watermark_stamp(Watermark(text="mill"), across, layout, *shape),
    ):
        square, other = drawn(640), drawn(width, aspect)
        assert other.size[1] == square.size[1]
        assert abs(other.size[0] * aspect / square.size[0] - 1) < 0.15  # widths are even


@pytest.mark.parametrize("position", ["top left", "top", "top right", "left", "centre", "right", "bottom left", "bottom",  # noqa: E501
                                      "bottom right"])  # fmt: skip
def test_the_nine_positions_lie_inside_the_safe_margin(position: str) -> None:
    stamp = make_stamp(np.ones((20, 60, 3)), np.ones((20, 60)), PixelLayout.of("yuv420p"))
    left, top = position_of(position, stamp, 640, 360)
    words = position.split()
    assert 20 <= left <= 640 - 60 - 20
    assert 11 <= top <= 360 - 20 - 11
    assert (left < 100, left > 480) == ("left" in words, "right" in words)
    assert (top < 50, top > 290) == ("top" in words, "bottom" in words)


def test_a_watermark_image_keeps_its_colours_and_its_transparency(tmp_path: Path) -> None:
    image = Image.new("RGBA", (100, 50), (255, 0, 0, 255))
    image.paste((0, 0, 0, 0), (50, 0, 100, 50))
    image.save(tmp_path / "mark.png")
    layout = PixelLayout.of("yuv444p")
    stamp = watermark_stamp(Watermark(image=tmp_path / "mark.png", width_percent=10, opacity=1), 640, layout)
    assert stamp.size == (64, 32)
    frame = flat("yuv444p", GREY)
    lay_over(frame.planes, stamp, 0, 0, layout)
    luma, blue, red = (plane_array(plane, layout)[16] for plane in frame.planes)
    assert (luma[10], blue[10], red[10]) == (63, 102, 240)  # BT.709 red
    assert (luma[60], blue[60], red[60]) == (GREY, GREY, GREY)


def test_a_watermark_that_cannot_be_read_fails_with_its_path(tmp_path: Path) -> None:
    (tmp_path / "mark.png").write_text("no image")
    with pytest.raises(RenderError, match=r"mark\.png: the watermark cannot be read"):
        watermark_stamp(Watermark(image=tmp_path / "mark.png"), 640, PixelLayout.of("yuv420p"))


@pytest.mark.parametrize("pixel_format", FORMATS)
def test_what_is_compiled_lays_over_what_numpy_does(
    pixel_format: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    layout, chance = PixelLayout.of(pixel_format), np.random.default_rng(7)
    stamp = make_stamp(chance.random((40, 80, 3)), chance.random((40, 80)), layout)
    frames = []
    needs_compiled()
    for way in (None, compiled.lay_over):
        monkeypatch.setattr(compiled, "lay_over", way)
        frame, chance = flat(pixel_format, GREY, 131, 75), np.random.default_rng(8)
        for plane in frame.planes:
            codes = plane_array(plane, layout)
            codes[:] = chance.integers(0, 1 << layout.bit_depth, codes.shape)
        for left, top in ((10, 4), (100, 50), (130, 74), (200, 80)):  # inside, across two edges, beyond
            lay_over(frame.planes, stamp, left, top, layout)
        frames.append([plane_array(plane, layout).copy() for plane in frame.planes])
    assert all(map(np.array_equal, *frames))


def noisy(pixel_format: str, width: int, height: int) -> VideoFrame:
    frame, layout, chance = (
        VideoFrame(width, height, pixel_format),
        PixelLayout.of(pixel_format),
        np.random.default_rng(4),
    )
    for plane in frame.planes:
        codes = plane_array(plane, layout)
        walk = np.cumsum(chance.integers(-9, 10, codes.shape), axis=1) << (layout.bit_depth - 8)
        codes[:] = np.clip(walk + (1 << (layout.bit_depth - 1)), 0, (1 << layout.bit_depth) - 1)
    frame.colorspace, frame.color_range = 1, 1
    return frame


@pytest.mark.parametrize("of_source", [*FORMATS, "yuv422p12le", "nv12", "gray", "rgb24", "yuva444p10le"])
@pytest.mark.parametrize("written", FORMATS)
def test_luma_that_is_prepared_alone_is_the_luma_that_is_prepared_with_chroma(
    of_source: str, written: str
) -> None:
    """To the last code, sized, cropped, turned, and where only bits or subsampling change."""
    source, alone = noisy(of_source, 128, 72), 0
    for turned, crop, size in (
        (0, (0, 0), (128, 72)), (0, (0, 0), (64, 36)), (0, (0, 0), (190, 108)), (0, (28, 12), (100, 60)),
        (90, (0, 0), (72, 128)), (270, (0, 0), (70, 118)),
    ):  # fmt: skip
        for scaling, burn_ins in product(("fast", "good", "best"), ((), (line("first dip"),))):
            geometry = Geometry(turned, crop, *size, Fraction(1))
            video = Video(codec="ffv1", pixel_format=written)
            how = FrameConversion(video, geometry, FrameRate(Fraction(25)), scaling, burn_ins=burn_ins)
            (whole,) = PictureChain(how).put(source)
            chain = PictureChain(how, luma_alone=True)
            (luma,) = chain.put(source)
            layout, bits = PixelLayout.of(written), luma.format.components[0].bits
            fewer = plane_array(luma.planes[0], PixelLayout(bits, 1, 1)).astype(np.uint16)
            assert np.array_equal(plane_array(whole.planes[0], layout), fewer << (layout.bit_depth - bits))
            alone += chain.gives_luma_alone
            assert chain.gives_luma_alone or luma.format.name == whole.format.name == written
    chain = PictureChain(
        FrameConversion(Video(codec="ffv1", pixel_format=written), Geometry(0, (0, 0), 64, 36, Fraction(1)),
                        FrameRate(Fraction(25))), luma_alone=True,
    )  # fmt: skip
    for change in ("yuv420p", of_source, "yuv444p10le"):  # on its way
        (luma,) = chain.put(noisy(change, 128, 72))
        assert (luma.width, luma.height) == (64, 36)
    wants_alone = of_source in FORMATS and ("10le" in written or "10le" not in of_source)
    assert bool(alone) == wants_alone


@pytest.mark.parametrize("width", [854, 1000])
def test_every_line_is_whole_where_several_threads_could_convert(width: int) -> None:
    """The library's plain way, given several threads, writes over the beginning of some."""
    source, layout = noisy("yuv420p", width, 480), PixelLayout.of("yuv422p10le")
    luma = plane_array(source.planes[0], PixelLayout.of("yuv420p")).astype(int) << 2
    for _ in range(6):
        made = Conversions().convert(source, format="yuv422p10le")
        assert np.array_equal(plane_array(made.planes[0], layout), luma)


def test_laying_over_the_edge_cuts_off_and_never_overflows() -> None:
    layout = PixelLayout.of("yuv422p10le")
    frame = flat("yuv422p10le", GREY, 64, 36)
    plane_array(frame.planes[0], layout)[:] = 1023
    for alpha in np.linspace(0, 0.01, 8):
        stamp = make_stamp(np.ones((40, 80, 3)), np.full((40, 80), alpha), layout)
        lay_over(frame.planes, stamp, 20, 10, layout)
    assert plane_array(frame.planes[0], layout).min() > 900


@pytest.mark.parametrize(
    ("preset", "size", "turn", "result", "crop"),
    [
        ("web", (1920, 1080), 0, "1920x1080", (0, 0)),
        ("web", (1921, 1081), 0, "1920x1080", (1, 1)),
        ("web", (1920, 1080), 90, "1080x1920", (0, 0)),
        ("stock", (721, 405), 0, "720x405", (1, 0)),
        ("review", (1920, 1080), 0, "960x540", (0, 0)),
        ("review", (333, 77), 270, "38x166", (0, 0)),
        ("review", (2, 2), 0, "2x2", (0, 0)),
    ],
)
def test_sizes_are_as_codecs_need_them(
    preset: str, size: tuple[int, int], turn: int, result: str, crop: tuple[int, int]
) -> None:
    geometry = plan_geometry(
        sizing_of(Shelf().load(preset)), *size, rotation_degrees=turn, sample_aspect=Fraction(4, 3)
    )
    assert (geometry.size, geometry.crop) == (result, crop)
    assert geometry.sample_aspect == (Fraction(3, 4) if turn in (90, 270) else Fraction(4, 3))


@pytest.mark.parametrize(
    ("text", "key", "says"),
    [
        ('container = "mp4"\n', "video", "[audio]"),
        ('[video]\ncodec = "h264"\n', "container", "missing"),
        ('container = "avi"\n[video]\ncodec = "h264"\n', "container", "mov"),
        ('container = "mp4"\n[video]\ncodec = "h264"\nquality = 60\n', "video.quality", "to 51"),
        ('container = "mp4"\n[video]\ncodec = "h264"\nquality = 20\nbitrate_mbps = 3\n', "video.bitrate_mbps", "either"),  # noqa: E501
        ('container = "mov"\n[video]\ncodec = "prores"\nprofile = "high"\n', "video.profile", "proxy, lt, 422, hq"),
        ('container = "mov"\n[video]\ncodec = "prores"\nquality = 3\n', "video.quality", "prores has none"),
        ('container = "mp4"\n[video]\ncodec = "h264"\n[[burn_in]]\ntext = "x"\nposition = "up"\n', "burn_in.0.position", "top"),  # noqa: E501
        ('container = "mp4"\n[video]\ncodec = "h264"\n[watermark]\nopacity = 0.4\n', "watermark", "either text or image"),  # noqa: E501
        ('name = "x"\ncontainer = "mp4"\n[video]\ncodec = "h264"\n', "name", "as its file"),
    ],
)  # fmt: skip
def test_a_wrong_preset_is_refused_with_its_key(text: str, key: str, says: str, tmp_path: Path) -> None:
    (tmp_path / "mine.toml").write_text(text)
    with pytest.raises(PresetError) as caught:
        Shelf().load(str(tmp_path / "mine.toml"))
    assert caught.value.key == key
    assert says in f"{caught.value.message} {caught.value.hint}"
    assert caught.value.path == tmp_path / "mine.toml"


def test_own_presets_go_before_built_in_ones(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("BOXKITE_PRESETS", str(tmp_path))
    (tmp_path / "web.toml").write_text('summary = "mine"\ncontainer = "mkv"\n[video]\ncodec = "ffv1"\n')
    shelf = Shelf()
    assert (shelf.find("web").built_in, shelf.load("web").summary) == (False, "mine")
    assert shelf.find("stock").built_in


def test_built_in_presets_hold_together_and_are_read_as_any_other(
    monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    monkeypatch.setenv("BOXKITE_PRESETS", str(tmp_path))
    shelf = Shelf()
    for file in list_presets():
        read = checked(file.name, shelf._tables(file, ()), file.path)
        assert read == shelf.read(file)
        assert read.summary and read.good_for and read.plays
