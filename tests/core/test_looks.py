"""Looks: what they do to colours against the colour library in float, which one a shot gets, what cannot be read."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path

import numpy as np
import pytest
from av.video.frame import VideoFrame

from boxkite.core.edit.timeline import ColourDecision
from boxkite.core.errors import LookError
from boxkite.core.looks.look import DecisionStep, FileStep, Look, SpacesStep
from boxkite.core.looks.transform import processor_of, read_decision
from boxkite.core.picture import colouring, compiled
from boxkite.core.picture.chain import PictureChain
from boxkite.core.picture.colouring import ColourCode
from boxkite.core.picture.conversion import FrameConversion
from boxkite.core.picture.stamp import PixelLayout, plane_array
from boxkite.core.presets.coding import Video
from boxkite.core.presets.geometry import Geometry
from boxkite.core.presets.overlays import LookSettings
from boxkite.core.shots.looks import LookFinder
from boxkite.core.shots.shot import Shot
from boxkite.core.timebase import FrameRate
from tests.builders import make_footage, make_shots, needs_compiled

RATE = FrameRate(Fraction(25))
WARM = ColourDecision((1.12, 1.0, 0.88), (0.02, 0.0, -0.02), (1.0, 1.08, 1.0), 0.85)
CCC = """<ColorCorrectionCollection xmlns="urn:ASC:CDL:v1.2">
<ColorCorrection id="A-vat2"><SOPNode><Slope>1.2 1 1</Slope><Offset>0 0 0</Offset><Power>1 1 1</Power></SOPNode>
<SatNode><Saturation>0.5</Saturation></SatNode></ColorCorrection>
<ColorCorrection id="B-loft7"><SOPNode><Slope>1 1 2</Slope><Offset>0 0 0</Offset><Power>1 1 1</Power></SOPNode>
</ColorCorrection></ColorCorrectionCollection>"""


def write_cube(path: Path, size: int = 17) -> Path:
    """A contrasty look, as display looks for flat camera pictures are."""
    steps = np.linspace(0, 1, size)
    blue, green, red = np.meshgrid(steps, steps, steps, indexing="ij")
    bent = [np.clip((one - 0.08) * 1.5, 0, 1) ** 0.9 for one in (red, green, blue)]
    mean = sum(bent) / 3
    rows = np.stack([np.clip(mean + 1.15 * (one - mean), 0, 1) for one in bent], axis=-1).reshape(-1, 3)
    lines = "\n".join(" ".join(f"{value:.6f}" for value in row) for row in rows)
    path.write_text(f"LUT_3D_SIZE {size}\n{lines}\n")
    return path


def a_shot(folder: Path, name: str = "A-vat2.mov", pixel_format: str = "yuv420p", **metadata: str) -> Shot:
    footage = make_footage(folder / name, frames=10, size=(256, 144), pixel_format=pixel_format)
    (shot,) = make_shots(footage, (0, 10), metadata=metadata, origin="table:2")
    return shot


def through_chain(look: Look, pixel_format: str, written: str, codes: list[np.ndarray]) -> list[np.ndarray]:
    """Flat patches of 8 × 8 pixels, one for each colour, before and after the picture chain, as codes."""
    video = Video(codec="ffv1", pixel_format=written)
    side = 8 * int(np.sqrt(codes[0].size))
    geometry = Geometry(0, (0, 0), side, side, Fraction(1))
    frame, layout = VideoFrame(side, side, pixel_format), PixelLayout.of(pixel_format)
    for plane, values in zip(frame.planes, codes, strict=True):
        target = plane_array(plane, layout)
        each = target.shape[0] // values.shape[0]
        target[:] = np.repeat(np.repeat(values, each, axis=0), target.shape[1] // values.shape[1], axis=1)
    frame.colorspace, frame.color_range = 1, 1
    (made,) = list(PictureChain(FrameConversion(video, geometry, RATE, look=look)).put(frame))
    assert made.format.name == written
    layout = PixelLayout.of(written)
    planes = [plane_array(plane, layout) for plane in made.planes]
    shifts = [(0, 0), *[(layout.shift_y, layout.shift_x)] * 2]
    return [
        plane[4 >> down :: 8 >> down, 4 >> across :: 8 >> across].astype(np.float32)
        for plane, (down, across) in zip(planes, shifts, strict=True)
    ]


@pytest.mark.parametrize(
    ("pixel_format", "written", "bound"),
    [
        ("yuv420p", "yuv420p", 1.5),
        ("yuv420p10le", "yuv420p10le", 1.0),
        ("yuv444p10le", "yuv444p10le", 1.0),
        ("yuv420p10le", "yuv420p", 1.5),
    ],
)
def test_a_lut_and_a_cdl_are_applied_as_the_colour_library_has_them_in_float(
    pixel_format: str, written: str, bound: float, tmp_path: Path
) -> None:
    code = ColourCode(10 if "10" in pixel_format else 8, 1)
    out = ColourCode(10 if "10" in written else 8, 1)
    rgb = np.random.default_rng(4).random((24, 24, 3), np.float32)
    codes = [code.legal(plane) for plane in code.from_rgb(rgb)]
    for look in (
        (FileStep(write_cube(tmp_path / "show.cube")),),
        (DecisionStep(WARM, "edit"), FileStep(tmp_path / "show.cube")),
    ):
        wanted = code.to_rgb(*(plane.astype(np.float32) for plane in codes))
        processor_of(look).apply(wanted)
        found = out.to_rgb(*through_chain(look, pixel_format, written, codes))
        error = np.abs(np.clip(found, 0, 1) - np.clip(wanted, 0, 1)).mean() * 255
        assert error < bound, look
        assert np.abs(found - code.to_rgb(*(plane.astype(np.float32) for plane in codes))).mean() * 255 > 3


@pytest.mark.parametrize("pixel_format", ["yuv420p", "yuv422p10le"])
def test_a_look_that_changes_nothing_leaves_neutral_patches_within_one_code(pixel_format: str) -> None:
    depth = 10 if "10" in pixel_format else 8
    scale = 1 << (depth - 8)
    greys = np.linspace(16 * scale, 235 * scale, 576).round().reshape(24, 24)
    neutral = np.full((24, 24), 128 * scale)
    look = (DecisionStep(ColourDecision(), "edit"),)
    after = through_chain(look, pixel_format, pixel_format, [greys, neutral, neutral])
    for before, found in zip((greys, neutral, neutral), after, strict=True):
        assert np.abs(before - found).max() <= 1


def test_a_decision_is_chosen_by_the_name_of_the_clip(tmp_path: Path) -> None:
    path = tmp_path / "day.ccc"
    path.write_text(CCC)
    decision = read_decision(path, ("b-LOFT7", ""))
    assert decision == ColourDecision((1, 1, 2), (0, 0, 0), (1, 1, 1), 1)
    assert read_decision(path, ("C-press1",)) is None


def test_each_shot_gets_its_look_in_a_stated_order_and_hears_of_what_it_does_not_get(tmp_path: Path) -> None:
    (tmp_path / "A-vat2.ccc").write_text(CCC)
    beside, show = write_cube(tmp_path / "a-VAT2.cube"), write_cube(tmp_path / "show.cube")
    (tmp_path / "A-vat2.mov.drx").write_text("a maker's own")
    finder, wanted = LookFinder(), LookSettings(file=show, from_space="ACEScg", to_space="sRGB - Texture")
    look, message = finder.look_of(a_shot(tmp_path), wanted)
    assert list(map(str, look)) == [
        "CDL of A-vat2.ccc", "a-VAT2.cube", "show.cube", "ACEScg to sRGB - Texture",
    ]  # fmt: skip
    assert isinstance(look[0], DecisionStep) and look[0].decision.saturation == 0.5
    assert look[1:3] == (FileStep(beside), FileStep(show))
    assert [(one.kind, one.values) for one in message] == [("grade-unreadable", {"file": "A-vat2.mov.drx"})]
    tabled = a_shot(tmp_path, ASC_SOP="(1 1 1)(0.1 0 0)(1 1 1)", ASC_Sat="0.7", Look="show.cube")
    look, _ = finder.look_of(tabled, None)
    assert list(map(str, look)) == ["CDL of the table", "show.cube"]
    assert isinstance(look[0], DecisionStep) and look[0].decision == ColourDecision(
        offset=(0.1, 0, 0), saturation=0.7
    )
    none, message = finder.look_of(tabled, LookSettings(cdl=False, sidecar=False))
    assert none == () and len(message) == 3
    assert finder.look_of(a_shot(tmp_path, "other.mov"), None) == ((), ())


@pytest.mark.parametrize(
    ("look", "says"),
    [
        ((FileStep(Path("/nowhere/x.cube")),), "there is no such look file"),
        ((SpacesStep("ACEScgg", "sRGB - Texture"),), "there is no colour space “ACEScgg”"),
        ((SpacesStep("a", "b", Path("/nowhere/c.ocio")),), "no such file of colour spaces"),
    ],
)
def test_a_look_that_cannot_be_read_says_which_file_or_space_is_wrong(look: Look, says: str) -> None:
    with pytest.raises(LookError, match=says):
        processor_of(look)


def test_broken_look_files_and_decisions_are_refused(tmp_path: Path) -> None:
    (tmp_path / "A-vat2.cube").write_text("LUT_3D_SIZE 33\n1 2\n")
    with pytest.raises(LookError, match=r"A-vat2\.cube|cannot be read"):
        LookFinder().look_of(a_shot(tmp_path), None)
    with pytest.raises(LookError, match="no colour decision"):
        LookFinder().look_of(a_shot(tmp_path, "x.mov", ASC_SOP="(1 1)(0)"), None)
    powerless = a_shot(tmp_path, "x.mov", ASC_SOP="(1 1 1) (0 0 0) (1 0 1)")
    with pytest.raises(LookError, match="power must be above 0"):
        LookFinder().look_of(powerless, None)
    for content in ("<nonsense>", CCC.replace("<Power>1", "<Power>0")):
        (tmp_path / "x.cc").write_text(content)
        with pytest.raises(LookError, match=r"x\.cc"):
            LookFinder().look_of(a_shot(tmp_path, "x.mov"), None)
    for shot in (powerless, a_shot(tmp_path, "x.mov")):
        assert LookFinder().look_of(shot, LookSettings(cdl=False)) == ((), ())


@pytest.mark.parametrize("pixel_format", ["yuv420p", "yuv422p10le", "yuv444p", "yuv420p10le"])
@pytest.mark.parametrize("size", [(128, 72), (131, 75)])
def test_what_is_compiled_gives_the_codes_that_numpy_gives(
    tmp_path: Path, pixel_format: str, size: tuple[int, int], monkeypatch: pytest.MonkeyPatch
) -> None:
    look, layout = (FileStep(write_cube(tmp_path / "show.cube")),), PixelLayout.of(pixel_format)
    chance = np.random.default_rng(3)
    found = []
    needs_compiled()
    for change in (None, compiled.change_colours):
        monkeypatch.setattr(compiled, "change_colours", change)
        frame = VideoFrame(*size, pixel_format)
        for plane in frame.planes:
            codes = plane_array(plane, layout)
            codes[:] = chance.integers(0, 1 << layout.bit_depth, codes.shape)
        colouring.Colouring(look, pixel_format).change(frame, 1)
        found.append([plane_array(plane, layout).copy() for plane in frame.planes])
        chance = np.random.default_rng(3)
    for one, other in zip(*found, strict=True):
        assert (one == other).all()


@pytest.mark.parametrize("pixel_format", ["yuv420p10le", "yuv444p10le"])
def test_samples_beyond_their_bits_read_nothing_beyond_the_tables(tmp_path: Path, pixel_format: str) -> None:
    """As a broken raw file may have them; each is taken for the greatest there is."""
    look, layout = (FileStep(write_cube(tmp_path / "show.cube")),), PixelLayout.of(pixel_format)
    found = []
    for value in (1023, 65535):
        frame = VideoFrame(64, 36, pixel_format)
        for plane in frame.planes:
            plane_array(plane, layout)[:] = value
        colouring.Colouring(look, pixel_format).change(frame, 1)
        found.append([plane_array(plane, layout).copy() for plane in frame.planes])
    assert all((one == other).all() for one, other in zip(*found, strict=True))


def test_what_is_compiled_refuses_memory_that_is_too_small() -> None:
    needs_compiled()
    size, coding = (8, 8), (1, 1, 2, 1, 65, 256)
    luma, chroma, table, added = (
        np.zeros(count, kind)
        for count, kind in ((64, "u1"), (16, "u1"), (65 * 65 * 256, "u1"), (65 * 65 * 256, "i2"))
    )
    whole = [luma, chroma, chroma.copy(), (8, 4, 4), size, table, added, coding, 1]
    compiled.change_colours(*whole)
    for place, wrong in (
        (0, luma[:-1].copy()), (2, chroma[:-1].copy()), (3, (8, 5, 4)), (3, (7, 4, 4)), (4, (8, 9)), (4, (-8, 8)),
        (5, table[:-1].copy()), (6, added[:-1].copy()), (7, (2, 1, 2, 1, 65, 256)), (7, (1, 1, 2, 1, 64, 256)), (8, 2),
    ):  # fmt: skip
        with pytest.raises(ValueError, match="smaller"):
            compiled.change_colours(*whole[:place], wrong, *whole[place + 1 :])
    keep = np.zeros((4, 4), "u2")
    laid = [luma, 8, size, (6, 6), keep, keep, (4, 4), 1]
    compiled.lay_over(*laid)
    for place, wrong in (
        (0, luma[:-1].copy()),
        (1, 7),
        (3, (-1, 0)),
        (4, keep[:3]),
        (6, (4, 5)),
        (7, 2),
        (7, 4),
    ):
        with pytest.raises(ValueError, match="smaller"):
            compiled.lay_over(*laid[:place], wrong, *laid[place + 1 :])
    if compiled.closeness:
        lines = np.zeros((8, 8), "u1")
        for first, steps, of_size, bits in (
            (lines[:-1], (8, 8), size, 8), (lines, (7, 8), size, 8), (lines, (8, 8), (8, 7), 8),
            (lines, (8, 8), size, 10), (lines, (8, 8), size, 17),
        ):  # fmt: skip
            with pytest.raises(ValueError, match="smaller"):
                compiled.closeness(first, lines, steps, of_size, bits, 0)
        with pytest.raises(ValueError, match="smaller"):
            compiled.closeness(np.zeros((8, 16), "u1"), lines[:-1], (16, 8), size, 10, 2)
        with pytest.raises(ValueError, match="smaller"):
            compiled.closeness(np.zeros((8, 16), "u1"), lines, (16, 8), size, 10, 3)
