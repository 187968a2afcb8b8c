"""A finished file is named only when it holds what it should: each kind of fault is caught."""

from __future__ import annotations

from array import array
from collections.abc import Iterator
from fractions import Fraction
from pathlib import Path

import av
import av.logging
import numpy as np
import pytest
from msgspec.structs import replace

from boxkite.core.errors import VerificationError
from boxkite.core.footage.frame_index import measure_frames
from boxkite.core.footage.probe import read_source
from boxkite.core.job.job import Output
from boxkite.core.picture import compiled
from boxkite.core.render import thumbnails, verifying
from boxkite.core.render.copy import checking
from boxkite.core.render.copy.checking import Copied, check_copy
from boxkite.core.render.envelope import Envelope
from boxkite.core.render.frame_prints import FramePrints, print_of
from boxkite.core.render.thumbnails import thumbnail_of
from boxkite.core.render.verifying import Expected, verify
from boxkite.core.shots.placing import index_source
from boxkite.core.timebase import FrameRate
from boxkite.demo.movies import Movie, write_movie
from boxkite.demo.pictures import LOFT, PRESS, VAT, draw_picture
from tests.builders import make_shots, needs_compiled, planned

RATE = FrameRate.parse("25")
FRAMES = 60


@pytest.fixture(scope="module")
def film(tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = tmp_path_factory.mktemp("verifying") / "film.mov"
    write_movie(Movie(path, FRAMES, RATE, ((0, VAT), (30, LOFT)), width=320, height=180))
    return path


def expected(**changes) -> Expected:
    first, last = draw_picture(VAT, 1, 0, 320, 180), draw_picture(LOFT, 1, FRAMES - 1, 320, 180)
    whole = Expected(FRAMES, RATE, 320, 180, ((FRAMES * 1920, 48_000, 0),), first, last, "mov")
    return replace(whole, **changes)


def test_a_complete_file_is_verified_and_counted(film: Path) -> None:
    verification = verify(film, expected())
    assert (verification.frames, verification.audio_tracks, verification.size_bytes) == (
        60,
        1,
        film.stat().st_size,
    )


@pytest.mark.parametrize(("codec", "frame"), [("aac", 1024), ("libmp3lame", 1152)])
def test_the_last_frame_of_a_lossy_codec_may_be_filled_up_and_no_more_than_that(
    codec: str, frame: int, tmp_path: Path
) -> None:
    path = tmp_path / "film.mp4"
    write_movie(Movie(path, FRAMES, RATE, ((0, VAT),), width=320, height=180, audio_codec=codec))
    first, last = (draw_picture(VAT, 1, number, 320, 180) for number in (0, FRAMES - 1))
    for samples, is_whole in (
        (0, True),
        (900, True),
        (-900, True),
        (frame + 50, False),
        (-frame - 50, False),
    ):
        tracks = ((FRAMES * 1920 + samples, 48_000, 0),)
        wanted = expected(samples=tracks, first_frame=first, last_frame=last, container="mp4")
        if is_whole:
            verify(path, wanted)
            continue
        with pytest.raises(VerificationError, match="audio track ends"):
            verify(path, wanted)


def test_opening_a_finished_file_leaves_no_warning_that_would_stand_in_the_log(
    film: Path, capfd: pytest.CaptureFixture[str]
) -> None:
    av.logging.set_libav_level(av.logging.WARNING)
    av.logging.restore_default_callback()  # as in workers, whose output is kept
    try:
        verify(film, expected())
    finally:
        av.logging.set_level(None)
    assert capfd.readouterr().err == ""


@pytest.mark.parametrize(
    ("changes", "says"),
    [
        ({"frames": 61}, "holds 60 frames, it should hold 61"),
        ({"rate": FrameRate.parse("24")}, "wrong time"),
        ({"width_px": 322}, "not as planned"),
        ({"samples": ()}, "audio tracks"),
        ({"samples": ((FRAMES * 1920 + 1, 48_000, 0),)}, "audio track ends"),
        ({"first_frame": draw_picture(PRESS, 1, 0, 320, 180)}, "the first frame"),
        ({"last_frame": draw_picture(VAT, 1, FRAMES - 1, 320, 180)}, "the last frame"),
    ],
)
def test_what_differs_from_the_plan_is_named(changes: dict, says: str, film: Path) -> None:
    with pytest.raises(VerificationError, match=says):
        verify(film, expected(**changes))


@pytest.mark.parametrize(
    ("swapped", "seconds", "says"),
    [
        ((), 1000.0, ""),
        ((4, 5, 6), 1000.0, "frame 4 of the finished file is not the picture"),
        (tuple(range(52, 59)), 0.0, r"frame 5\d of the finished file is not the picture"),
        ((0,), 0.0, "frame 0 of the finished file is not the picture"),
        ((FRAMES - 1,), 0.0, "frame 59 of the finished file is not the picture"),
    ],
)
def test_frames_in_the_middle_are_compared_with_those_that_were_encoded(
    film: Path, swapped: tuple[int, ...], seconds: float, says: str
) -> None:
    """Those that the last frame needs without any time for others."""
    prints = FramePrints()
    for number in range(FRAMES):
        place = PRESS if number in swapped else VAT if number < 30 else LOFT
        prints.add(draw_picture(place, 1, number, 320, 180))
    assert len(prints) == FRAMES
    if not says:
        verify(film, expected(prints=prints, spent_seconds=seconds))
        return
    with pytest.raises(VerificationError, match=says):
        verify(film, expected(prints=prints, spent_seconds=seconds))


def test_ends_are_compared_where_the_prints_are_of_frames_of_another_format(film: Path) -> None:
    prints = FramePrints()
    for number in range(FRAMES):
        prints.add(draw_picture(VAT if number < 30 else LOFT, 1, number, 320, 180).reformat(format="yuv444p"))
    verify(film, expected(prints=prints))
    for which in ("first", "last"):
        other = {f"{which}_frame": draw_picture(PRESS, 1, 0, 320, 180)}
        with pytest.raises(VerificationError, match=f"the {which} frame"):
            verify(film, expected(prints=prints, **other))


def test_what_differs_without_deblocking_is_looked_at_once_more(
    film: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    looks = []

    def compare(picture: av.VideoFrame, wanted: av.VideoFrame, which: str, most: float = 10.0) -> None:
        looks.append(which)
        if looks == [which]:
            raise VerificationError(f"{which} differs")

    monkeypatch.setattr(thumbnails, "compare_thumbnails", compare)
    assert verify(film, expected()).frames == FRAMES
    assert len(looks) == 3


@pytest.mark.parametrize(("frame", "which"), [(0, "first"), (FRAMES - 1, "last")])
def test_an_end_that_gives_no_picture_is_missed(
    frame: int, which: str, film: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    whole = verifying._Pictures._decoded

    def without_it(self: verifying._Pictures, start: int, wanted: set[int]) -> Iterator[av.VideoFrame]:
        return (one for one in whole(self, start, wanted) if self._numbers[one.pts] != frame)

    monkeypatch.setattr(verifying._Pictures, "_decoded", without_it)
    with pytest.raises(VerificationError, match=f"the {which} frame of the finished file cannot be decoded"):
        verify(film, expected())


def test_a_file_that_breaks_off_is_not_verified(film: Path, tmp_path: Path) -> None:
    data = film.read_bytes()
    for share in (0.1, 0.5, 0.95):
        (tmp_path / "broken.mov").write_bytes(data[: int(len(data) * share)])
        with pytest.raises(VerificationError):
            verify(tmp_path / "broken.mov", expected())


def test_a_picture_lost_in_the_middle_is_missed_in_the_count(film: Path, tmp_path: Path) -> None:
    import av

    with av.open(str(film)) as incoming, av.open(str(tmp_path / "gap.mov"), "w") as outgoing:
        copies = {
            stream.index: outgoing.add_stream_from_template(stream)
            for stream in (incoming.streams.video[0], incoming.streams.audio[0])
        }
        for number, packet in enumerate(incoming.demux(incoming.streams.video[0], incoming.streams.audio[0])):
            if packet.dts is not None and not (packet.stream.type == "video" and number == 50):
                packet.stream = copies[packet.stream.index]
                outgoing.mux(packet)
    with pytest.raises(VerificationError, match=r"59 frames|wrong time"):
        verify(tmp_path / "gap.mov", expected())


def test_looks_tell_scenes_apart_but_not_pixel_formats() -> None:
    picture = draw_picture(VAT, 1, 7, 640, 360)
    same = thumbnail_of(picture.reformat(format="yuv422p10le"))
    other = thumbnail_of(draw_picture(LOFT, 1, 7, 640, 360))
    assert np.abs(thumbnail_of(picture) - same).mean() < 2
    assert np.abs(thumbnail_of(picture) - other).mean() > 15


def test_looks_go_by_samples_whatever_the_tags_say() -> None:
    """A decoder may tell a matrix or a range that the encoder was never told."""
    green = np.concatenate([np.full((180, 320), 120), np.full((90, 320), 60)]).astype(np.uint8)
    frame = av.VideoFrame.from_ndarray(green, format="yuv420p")
    looks = []
    for matrix, span in ((2, 0), (1, 1), (5, 2), (9, 0)):
        frame.colorspace, frame.color_range = matrix, span
        looks.append(thumbnail_of(frame))
    assert all(np.array_equal(look, looks[0]) for look in looks)


def test_a_copy_is_compared_with_its_source_packet_by_packet_and_at_random(
    film: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(checking, "_SAMPLES", 40)
    options = {"preset": "ultrafast", "g": "10", "crf": "10"}
    source, other = tmp_path / "a.mov", tmp_path / "b.mov"
    for path, between in ((source, VAT), (other, PRESS)):
        places = ((0, VAT), (20, between), (40, LOFT))
        write_movie(Movie(path, FRAMES, RATE, places, width=320, height=180, options=options))
    read = read_source(source)
    shots = make_shots(index_source(read, measure_frames(read), None), (0, FRAMES))
    row = planned(tmp_path, shots, outputs=(Output("copy", tmp_path / "out"),)).rows[0]
    with av.open(str(other)) as container:
        sizes = array("I", (entry.size for entry in container.streams.video[0].index_entries))
    copied = Copied(FRAMES, sizes, [Fraction(0)])
    with pytest.raises(VerificationError, match=r"frame [23]0 of the finished file"):
        check_copy(row, other, copied)
    copied.sizes[7], copied.sizes[8] = copied.sizes[8], copied.sizes[7] + 1
    with pytest.raises(VerificationError, match="in another order"):
        check_copy(row, other, copied)


@pytest.mark.parametrize(
    "kind", ["yuv420p", "yuv422p10le", "rgb24", "gray", "yuv444p12le", "nv12", "rgb48le"]
)
def test_prints_are_the_same_from_compiled_code_and_from_numpy(
    kind: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    chance, made = np.random.default_rng(1), []
    for size in ((64, 36), (131, 75), (320, 6), (16, 5), (15, 9)):
        frame = av.VideoFrame(*size, kind)
        for plane in frame.planes:
            plane.update(chance.integers(0, 4 if "1" in kind else 256, plane.buffer_size, np.uint8).tobytes())
        made.append(frame)
    found = [print_of(frame) for frame in made]
    needs_compiled()
    monkeypatch.setattr(compiled, "print_of", None)
    assert found == [print_of(frame) for frame in made] and found[0]


@pytest.mark.parametrize("is_compiled", [True, False])
@pytest.mark.parametrize("size", [(320, 180), (131, 75), (8, 8)])
def test_psnr_and_ssim_are_those_of_a_second_implementation(
    size: tuple[int, int], is_compiled: bool, monkeypatch: pytest.MonkeyPatch
) -> None:
    """SSIM by windows of 8 × 8 that overlap by half, as the filter documents; PSNR by its definition."""
    from boxkite.core.render.quality import BEST_DB, Closeness, QualityMeter

    chance = np.random.default_rng(5)
    if not is_compiled:
        monkeypatch.setattr(compiled, "closeness", None)
    width, height = size
    allowed = 0.004 if width > 8 else 0.008  # of a single window
    smooth = np.kron(chance.integers(30, 220, (18, 32)), np.ones((10, 10)))[:height, :width]
    meter = QualityMeter()
    for kind, top in (
        ("yuv420p", 255), ("yuv422p10le", 1023), ("yuvj420p", 255), ("yuv444p12le", 4095), ("gray16le", 65535),
    ):  # fmt: skip
        scale = (top + 1) // 256
        wanted = (smooth * scale).astype(np.int64)
        found = (wanted + chance.integers(-9 * scale, 10 * scale, wanted.shape)).clip(0, top)
        frames = []
        for luma in (found, wanted):
            frame = av.VideoFrame(width, height, kind)
            for plane in frame.planes:
                plane.update(bytes(plane.buffer_size))
            samples = luma.astype(np.uint16 if top > 255 else np.uint8)
            lines = np.zeros((height, frame.planes[0].line_size // samples.itemsize), samples.dtype)
            lines[:, :width] = samples
            frame.planes[0].update(lines.tobytes())
            frames.append(frame)
        close = meter.compare(*frames)
        error = np.mean((found - wanted) ** 2)
        assert abs(close.psnr_db - 10 * np.log10(top**2 / error)) < 0.01
        assert abs(close.ssim - _ssim(found.astype(float), wanted.astype(float), top)) < allowed
        if kind in ("yuv420p", "yuv422p10le"):  # luma alone is enough
            bits = 8 if top == 255 else 10
            luma = np.frombuffer(frames[1].planes[0], samples.dtype).reshape(height, -1)[:, :width]
            grey = av.VideoFrame.from_numpy_buffer(luma, format="gray" if bits == 8 else "gray10le")
            assert meter.compare(frames[0], grey) == close
        if fewer_bits := {"yuv444p12le": "yuv444p10le", "yuv422p10le": "yuv420p"}.get(kind):
            # as decoders have what was made of 10 bits, and of 8
            fewer = frames[1].reformat(format=fewer_bits, threads=1)
            again = fewer.reformat(format=kind, threads=1)
            assert meter.compare(again, fewer) == Closeness(BEST_DB, 1.0)
            as_near, nearly = meter.compare(frames[0], fewer), meter.compare(frames[0], again)
            assert abs(as_near.psnr_db - nearly.psnr_db) < 0.001 and abs(as_near.ssim - nearly.ssim) < 1e-6
        same = meter.compare(frames[1], frames[1].reformat(format=kind))
        assert (same.psnr_db, same.ssim) == (BEST_DB, 1.0)


def _ssim(first: np.ndarray, second: np.ndarray, top: int) -> float:
    windows = [
        np.lib.stride_tricks.sliding_window_view(one, (8, 8))[::4, ::4].reshape(-1, 64)
        for one in (first, second)
    ]
    means = [one.mean(axis=1) for one in windows]
    variances = [one.var(axis=1, ddof=1) for one in windows]
    shared = ((windows[0] - means[0][:, None]) * (windows[1] - means[1][:, None])).sum(axis=1) / 63
    c1, c2 = (0.01 * top) ** 2, (0.03 * top) ** 2
    above = (2 * means[0] * means[1] + c1) * (2 * shared + c2)
    return float(np.mean(above / ((means[0] ** 2 + means[1] ** 2 + c1) * (variances[0] + variances[1] + c2))))


@pytest.mark.parametrize(
    "kinds", [(("s16", "stereo"), ("fltp", "mono")), (("fltp", "mono"), ("fltp", "stereo"))]
)
def test_loudness_goes_on_where_the_next_source_has_other_samples_or_channels(
    kinds: tuple[tuple[str, str], ...],
) -> None:
    """As in the audio of a joined file, of which less than a second is of each."""
    envelope = Envelope(48_000)
    for kind, layout in kinds:
        channels = 2 if layout == "stereo" else 1
        half = np.int16(1 << 14) if kind == "s16" else np.float32(0.5)
        shape = (1, 480 * channels) if kind == "s16" else (channels, 480)
        block = av.AudioFrame.from_ndarray(np.full(shape, half), format=kind, layout=layout)
        block.sample_rate = 48_000
        envelope.add(block)
    assert np.allclose(envelope.values(), np.full(8, 0.25))
