"""Colours that stay what they were: untagged, BT.601 and BT.709, with transparency, in layers of EXR images."""

from __future__ import annotations

import struct
from fractions import Fraction
from pathlib import Path

import av
import numpy as np
import pytest
from av.video.frame import VideoFrame
from PIL import Image

from boxkite.core.picture.pixel_layout import PixelLayout
from boxkite.core.picture.stamp import plane_array
from tests import wording
from tests.verification import boxkite, kinds

PATCHES = [
    (16, 128, 128),
    (235, 128, 128),
    (126, 128, 128),
    (81, 90, 240),
    (145, 54, 34),
    (41, 240, 110),
    (210, 16, 146),
]
"""Y′, Cb, Cr of black, white, grey, red, green, blue and yellow, as 8 bit codes."""


def write_patches(path: Path, matrix: int, pixel_format: str = "yuv420p") -> None:
    with av.open(str(path), "w") as container:
        stream = container.add_stream("ffv1", rate=25)
        stream.width, stream.height, stream.pix_fmt = 64 * len(PATCHES), 128, pixel_format
        context = stream.codec_context
        context.colorspace = context.color_primaries = context.color_trc = matrix
        context.color_range = 1
        layout = PixelLayout.of(pixel_format)
        for number in range(5):
            picture = VideoFrame(stream.width, stream.height, pixel_format)
            for index, plane in enumerate(picture.planes):
                area = plane_array(plane, layout)
                each = area.shape[1] // len(PATCHES)
                for place, codes in enumerate(PATCHES):
                    area[:, place * each : (place + 1) * each] = codes[index] << (layout.bit_depth - 8)
            picture.pts, picture.time_base = number, Fraction(1, 25)
            container.mux(stream.encode(picture))
        container.mux(stream.encode(None))


@pytest.mark.parametrize(("matrix", "pixel_format"), [(2, "yuv444p"), (6, "yuv420p"), (1, "yuv422p10le")])
def test_colours_survive_the_way_through_stock_with_their_tags(
    matrix: int, pixel_format: str, tmp_path: Path
) -> None:
    write_patches(tmp_path / "patches.mkv", matrix, pixel_format)
    done = boxkite("run", "patches.mkv", "--to", "stock:s", "--to", "master:m", "--to", "web:w", "--to", "frames-png:p",
                   cwd=tmp_path)  # fmt: skip
    assert done.status == 0, done.err
    for made in ("s/patches.mov", "m/patches.mov", "w/patches.mp4"):
        with av.open(str(tmp_path / made)) as container:
            picture = next(container.decode(video=0))
        assert int(picture.colorspace) in ((0, 2) if matrix == 2 else (matrix,)), made
        layout = PixelLayout.of(picture.format.name)
        for index, plane in enumerate(picture.planes):
            area = plane_array(plane, layout)
            each = area.shape[1] // len(PATCHES)
            for place, codes in enumerate(PATCHES):
                found = area[8:-8, place * each + each // 4 : (place + 1) * each - each // 4].mean()
                assert abs(found / (1 << (layout.bit_depth - 8)) - codes[index]) <= 2, (made, place, index)


_COLOURS_OF = {"stock": 1.2, "master": 1.2, "stock-dnxhr": 2.0, "master-dnxhr": 1.2, "archive": 1.2, "frames-png": 0.3,
               "frames-tiff": 0.3, "frames-dpx": 0.5, "frames-exr": 0.3, "frames-jpeg": 3.5, "web": 3.0}  # fmt: skip
"""By preset: how far a flat colour may be off, in 255ths; JPEG and H.264 round twice in 8 bit."""


@pytest.mark.parametrize(("matrix", "pixel_format"), [(2, "yuv420p"), (6, "yuv422p"), (1, "yuv420p10le")])
def test_whoever_goes_by_a_files_tags_sees_the_colours_of_the_source(
    matrix: int, pixel_format: str, tmp_path: Path
) -> None:
    """Untagged pictures of this size are taken for BT.601; streams of DNxHR can only say BT.709."""
    write_patches(tmp_path / "patches.mkv", matrix, pixel_format)
    to = [word for preset in _COLOURS_OF for word in ("--to", f"{preset}:{preset}")]
    done = boxkite("run", "patches.mkv", *to, cwd=tmp_path)
    assert done.status == 0, done.err
    wanted = [np.clip(as_rgb(matrix, *codes), 0, 1) * 255 for codes in PATCHES]
    for preset, most in _COLOURS_OF.items():
        made = next(path for path in sorted((tmp_path / preset).rglob("patches*")) if path.is_file())
        with av.open(str(made)) as container:
            picture = next(container.decode(video=0))
        for place, colour in enumerate(wanted):
            assert np.abs(colour_at(picture, place) - colour).max() <= most, (preset, place)


def as_rgb(matrix: int, y: float, cb: float, cr: float) -> np.ndarray:
    """R′G′B′ in 0…1 of limited-range codes of 8 bit."""
    kr, kb = (0.2126, 0.0722) if matrix == 1 else (0.299, 0.114)
    luma = (y - 16) / 219
    red, blue = luma + 2 * (1 - kr) * (cr - 128) / 224, luma + 2 * (1 - kb) * (cb - 128) / 224
    return np.array([red, (luma - kr * red - kb * blue) / (1 - kr - kb), blue])


def colour_at(picture: VideoFrame, place: int) -> np.ndarray:
    """The colour of a patch in 255ths, by the picture's own tags."""
    if picture.format.is_rgb:
        samples = picture.reformat(format="gbrpf32le").to_ndarray()  # red, green, blue
        return np.asarray(samples[32, place * 64 + 32] * 255)
    layout = PixelLayout.of(picture.format.name.replace("yuvj", "yuv"))
    codes = []
    for plane in list(picture.planes)[:3]:
        area = plane_array(plane, layout)
        each = area.shape[1] // len(PATCHES)
        codes.append(area[area.shape[0] // 2, place * each + each // 2] / (1 << (layout.bit_depth - 8)))
    if picture.color_range == 2 or "yuvj" in picture.format.name:
        codes = [code * share + add for code, share, add in zip(codes, (219 / 255, 224 / 255, 224 / 255),
                                                                (16, 128 - 128 * 224 / 255, 128 - 128 * 224 / 255),
                                                                strict=True)]  # fmt: skip
    return np.clip(as_rgb(int(picture.colorspace), *codes), 0, 1) * 255


def test_transparency_is_kept_where_the_preset_keeps_it(tmp_path: Path) -> None:
    folder = tmp_path / "title"
    folder.mkdir()
    for number in range(1, 6):
        image = np.zeros((90, 160, 4), np.uint8)
        image[20:70, 20:60] = (200, 40, 40, 255)
        image[20:70, 80:140] = (40, 40, 200, 128)
        Image.fromarray(image).save(folder / f"t.{number:04d}.png")
    done = boxkite(
        "run",
        folder,
        "--images-rate",
        "25",
        "--to",
        "master-alpha:a",
        "--to",
        "stock:s",
        "--json",
        cwd=tmp_path,
    )
    assert done.status == 0, done.err + done.out
    message = {file["preset"]: file["warnings"] for file in done.json["files"]}
    assert ["alpha-left-out" in kinds(warnings) for warnings in message.values()] == [False, True]
    with av.open(done.json["files"][0]["path"]) as container:
        picture = next(container.decode(video=0))
    assert picture.format.name.startswith("yuva444p")
    alpha = plane_array(picture.planes[3], PixelLayout.of(picture.format.name)).astype(float)
    alpha /= alpha.max()
    assert abs(alpha[40, 40] - 1) < 0.02 and abs(alpha[40, 110] - 0.5) < 0.02 and alpha[5, 5] < 0.02


def attribute(name: str, kind: str, value: bytes) -> bytes:
    return name.encode() + b"\0" + kind.encode() + b"\0" + struct.pack("<i", len(value)) + value


def write_exr(path: Path, *parts: dict[str, float], views: tuple[str, ...] = ()) -> None:
    """An uncompressed scan line image of float channels, flat in each layer of each part (the OpenEXR file layout).

    views: of the layers of a single part, the first of them unnamed there; of several parts, one each.
    """
    width, height, several = 64, 48, len(parts) > 1
    box = struct.pack("<iiii", 0, 0, width - 1, height - 1)
    headers, rows = b"", []
    for number, layers in enumerate(parts):
        names = sorted(f"{layer}.{channel}" if layer else channel for layer in layers for channel in "RGB")
        channels = b"".join(name.encode() + b"\0" + struct.pack("<iB3xii", 2, 0, 1, 1) for name in names)
        headers += attribute("channels", "chlist", channels + b"\0")
        headers += attribute("compression", "compression", b"\0") + attribute("dataWindow", "box2i", box)
        headers += attribute("displayWindow", "box2i", box) + attribute("lineOrder", "lineOrder", b"\0")
        headers += attribute("pixelAspectRatio", "float", struct.pack("<f", 1))
        headers += attribute("screenWindowCenter", "v2f", bytes(8))
        headers += attribute("screenWindowWidth", "float", struct.pack("<f", 1))
        if several:
            headers += attribute("name", "string", f"part{number}.{views[number]}".encode())
            headers += attribute("type", "string", b"scanlineimage")
            headers += attribute("view", "string", views[number].encode())
            headers += attribute("chunkCount", "int", struct.pack("<i", height))
        elif views:
            listed = b"".join(struct.pack("<i", len(view)) + view.encode() for view in views)
            headers += attribute("multiView", "stringvector", listed)
        headers += b"\0"
        flat = [np.full(width, layers[name.rpartition(".")[0]], "<f4").tobytes() for name in names]
        rows.append(b"".join(flat))
    start = struct.pack("<II", 20000630, 2 | 0x1000 * several) + headers + b"\0" * several
    lines = [(number, line) for number in range(len(parts)) for line in range(height)]
    place, offsets, body = len(start) + 8 * len(lines), [], b""
    for number, line in lines:
        offsets.append(place + len(body))
        of_part = struct.pack("<i", number) if several else b""
        body += of_part + struct.pack("<ii", line, len(rows[number])) + rows[number]
    path.write_bytes(start + struct.pack(f"<{len(lines)}Q", *offsets) + body)


LAYERED = {
    "layers": ([{"": 0.25, "diffuse": 0.75}], (), {"": 0.25, "--layer diffuse": 0.75, "--layer plain": 0.25}),
    "views": ([{"": 0.25, "right": 0.5, "key.right": 0.75}], ("left", "right"),
              {"": 0.25, "--view right": 0.5, "--layer key --view right": 0.75}),
    "parts": ([{"": 0.25, "key": 0.5}, {"": 0.75}], ("left", "right"), {"--view Right": 0.75, "--layer key": 0.5}),
    "nothing plain": ([{"beauty": 0.5}], (), {"": 0.5}),
}  # fmt: skip


@pytest.mark.parametrize("kind", LAYERED)
def test_layers_and_views_of_exr_images_are_chosen_and_float_values_stay(tmp_path: Path, kind: str) -> None:
    parts, views, wanted = LAYERED[kind]
    (tmp_path / "shot").mkdir()
    for number in range(1, 3):
        write_exr(tmp_path / "shot" / f"x.{number:04d}.exr", *parts, views=views)
    for place, (words, value) in enumerate(wanted.items()):
        to = ("--to", f"frames-exr:{place}")
        done = boxkite("run", "shot", *words.split(), "--images-rate", "25", *to, cwd=tmp_path)
        assert done.status == 0, done.err
        with av.open(str(tmp_path / str(place) / "x" / "x.0001.exr")) as container:
            picture = next(container.decode(video=0))
        assert np.abs(picture.to_ndarray(format="gbrpf32le") - value).max() < 0.001, words


def test_a_layer_that_images_do_not_hold_is_refused_with_those_they_do(tmp_path: Path) -> None:
    for number in range(2):
        write_exr(tmp_path / f"x.{number}.exr", {"": 0.25, "diffuse": 0.75})
    done = boxkite("plan", tmp_path, "--layer", "difuse", "--to", "web:out", cwd=tmp_path)
    assert done.status == 2
    assert wording.LAYERS_IT_HOLDS in done.err and "did you mean diffuse?" in done.err
