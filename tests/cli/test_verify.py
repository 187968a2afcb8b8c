"""Finished files checked: each way a file goes wrong is named, and nothing else."""

from __future__ import annotations

import os
import shutil
import signal
import subprocess
from collections.abc import Callable
from fractions import Fraction
from pathlib import Path

import av
import numpy as np
import psutil
import pytest

from boxkite.core.presets import library
from tests.verification import PROGRAM, Run, boxkite, kinds

pytestmark = pytest.mark.xdist_group("verify")
FRAMES, RATE, SIZE = 75, 25, (320, 192)
EVERY = (
    sorted(path.stem for path in Path(library.__file__).with_name("builtin").glob("*.toml"))
    if "BOXKITE_EVERY_CODEC" in os.environ
    else []
)
PRESETS = EVERY or ["web-720", "copy", "audio-wav"]
IMAGES = ("frames-dpx", "frames-exr", "frames-jpeg", "frames-png", "frames-tiff")


def picture(number: float) -> np.ndarray:
    """Discs that wander over a textured ground, so that every frame is another."""
    width, height = SIZE
    y, x = np.mgrid[0:height, 0:width]
    ground = 120 + 40 * np.sin(x / 9 + number / 5) + 30 * np.cos(y / 7 - number / 9)
    for place in range(4):
        centre = (60 + 60 * place + 40 * np.sin(number / 6 + place), 96 + 60 * np.cos(number / 8 + 2 * place))
        ground = np.where((x - centre[0]) ** 2 + (y - centre[1]) ** 2 < 500, 60 + 45 * place, ground)
    return ground.clip(20, 235).astype(np.uint8)


def write(
    path: Path,
    order: Callable[[int], float] = lambda number: number,
    *,
    late: int = 0,
    steady: bool = False,
    change: Callable[[np.ndarray, int], np.ndarray] = lambda drawn, _: drawn,
    silent: bool = False,
) -> None:
    """A lossless clip: frames in some order, clicks in the audio that may come some frames late."""
    with av.open(str(path), "w") as container:
        video = container.add_stream("ffv1", rate=RATE)
        video.width, video.height, video.pix_fmt = *SIZE, "yuv420p"
        video.codec_context.gop_size = 1
        audio = container.add_stream("pcm_s16le", rate=48_000, layout="stereo")
        for number in range(FRAMES):
            luma = change(picture(order(number)), number)
            planes = np.concatenate([luma, np.full((SIZE[1] // 2, SIZE[0]), 128, np.uint8)])
            frame = av.VideoFrame.from_ndarray(planes, format="yuv420p")
            frame.pts, frame.time_base = number, Fraction(1, RATE)
            container.mux(video.encode(frame))
            heard = number - late
            sound = np.zeros((1, 2 * 1920), np.int16)
            if steady and heard >= 0:
                sound[0, :] = np.repeat((5000 * np.sin(np.arange(1920) * 0.131)).astype(np.int16), 2)
            elif not silent and heard % 9 in (2, 3, 6) and heard >= 0:
                sound[0, :1200] = 9000 * np.sin(np.arange(1200) * (0.1 + heard % 5 / 20))
            block = av.AudioFrame.from_ndarray(sound, format="s16", layout="stereo")
            block.sample_rate, block.pts, block.time_base = 48_000, number * 1920, Fraction(1, 48_000)
            container.mux(audio.encode(block))
        container.mux(video.encode(None))
        container.mux(audio.encode(None))


def swapped(number: int) -> int:
    return {30: 33, 33: 30}.get(number, number)


def coarse(drawn: np.ndarray, number: int) -> np.ndarray:
    blocks = drawn.reshape(SIZE[1] // 8, 8, SIZE[0] // 8, 8).mean(axis=(1, 3))
    return np.kron(blocks, np.ones((8, 8))).astype(np.uint8)


def dark(drawn: np.ndarray, number: int) -> np.ndarray:
    return np.full_like(drawn, 16) if 40 <= number < 60 else drawn


WRONG: dict[str, dict] = {
    "swapped": {"order": swapped},
    "late": {"late": 3},
    "poor": {"change": coarse},
    "black": {"change": dark},
    "frozen": {"order": lambda number: 40 if 40 <= number < 60 else number},
    "silent": {"silent": True},
}
NAMED = {
    "swapped": {"file-swapped"}, "late": {"file-audio-moved"}, "poor": {"file-poor", "file-other-pictures"},
    "black": {"file-black", "file-other-pictures"}, "frozen": {"file-frozen", "file-other-pictures", "file-misplaced"},
    "silent": {"file-silent"},
}  # fmt: skip
"""The kinds of fault that may name each; one at least must."""
BYTES = {"file-other-bytes", "file-other-size", "file-truncated"}


@pytest.fixture(scope="module")
def clips(tmp_path_factory: pytest.TempPathFactory) -> Path:
    place = tmp_path_factory.mktemp("verify")
    write(place / "vat.mkv")
    for name, how in WRONG.items():
        (place / name).mkdir()
        write(place / name / "vat.mkv", **how)
    return place


def run_all(place: Path, source: str, into: str) -> Run:
    to = [f"{preset}:{into}/{preset}" for preset in PRESETS]
    words = [word for one in to for word in ("--to", one)]
    done = boxkite("run", source, "--by", "files", *words, "--json", cwd=place)
    assert done.status == 0, done.err
    return done


def faults(checked: Run) -> dict[str, list[str]]:
    """The kinds of fault of each file that has some, by its path."""
    return {one["path"]: kinds(one["faults"]) for one in checked.json["files"] if one["faults"]}


@pytest.fixture(scope="module")
def made(clips: Path) -> dict[str, Path]:
    """The file of each preset, by its name."""
    done = run_all(clips, "vat.mkv", "out")
    return {file["preset"]: Path(file["path"]) for file in done.json["files"]}


def test_whole_files_have_no_fault_and_every_frame_is_compared(clips: Path, made: dict[str, Path]) -> None:
    checked = boxkite("verify", "last", "--deep", "--json", cwd=clips)
    assert (checked.status, faults(checked), checked.json["faults"]) == (0, {}, 0)
    assert all(not one["notices"] for one in checked.json["files"]), checked.json["files"]
    quality = {Path(one["path"]): one["quality"] for one in checked.json["files"]}
    assert all(quality[path]["psnr_db"] > 30 for name, path in made.items() if name != "audio-wav")
    assert quality[made["copy"]]["psnr_db"] == 100 and quality[made["copy"]]["ssim"] == 1


@pytest.fixture(scope="module")
def several(clips: Path) -> Path:
    """Files of four sources, which are decoded side by side."""
    done = boxkite("run", clips, "--by", "files", "--only", "number:1-4", "--names", "@clip[_@again]",
                   "--to", f"web-720:{clips}/several")  # fmt: skip
    assert done.status == 0, done.err
    return clips / "several"


@pytest.mark.parametrize("number", [signal.SIGKILL, signal.SIGINT, signal.SIGTERM])
def test_no_process_that_decodes_outlives_the_one_that_was_ended(several: Path, number: int) -> None:
    """Whether they are amid a file or have just begun: an end that is asked for waits for none."""
    process = subprocess.Popen([PROGRAM, "verify", several, "--deep"], stdout=subprocess.DEVNULL)
    children, numbers = Path(f"/proc/{process.pid}/task/{process.pid}/children"), []
    while len(numbers) < 2 and process.poll() is None:
        numbers = children.read_text().split()  # at once: the second one is hardly known to the first
    assert len(numbers) >= 2, "all was decoded before it could be ended"
    begun = [psutil.Process(int(one)) for one in numbers]
    if number != signal.SIGKILL:
        for one in begun:
            one.suspend()
    process.send_signal(number)
    process.wait(timeout=10)
    _, alive = psutil.wait_procs(begun, timeout=5)
    assert not alive


@pytest.mark.parametrize("wrong", WRONG)
def test_what_is_wrong_with_frames_or_audio_is_named_and_nothing_else(
    clips: Path, made: dict[str, Path], tmp_path: Path, wrong: str
) -> None:
    """Files are exchanged for such as the same presets make of another source."""
    run_all(clips, f"{wrong}/vat.mkv", f"{tmp_path}/other")
    kept = tmp_path / "kept"
    for name, path in made.items():
        kept.mkdir(exist_ok=True)
        path.rename(kept / name)
        shutil.move(tmp_path / "other" / name / path.name, path)
    try:
        checked = boxkite("verify", "out", "--deep", "--json", cwd=clips)
        found = faults(checked)
    finally:
        for name, path in made.items():
            shutil.rmtree(path) if path.is_dir() else path.unlink()
            (kept / name).rename(path)
    for name, path in made.items():
        kinds_found = set(found.get(str(path), []))
        has_it = not (name == "audio-wav" and wrong not in ("late", "silent")) and not (
            wrong in ("late", "silent") and (name in IMAGES or name == "picture")
        )
        named = kinds_found - BYTES
        assert bool(named) == has_it and (not named or kinds_found & BYTES), (name, kinds_found)
        assert named <= NAMED[wrong], (name, named)
    assert checked.status == 1


def test_footage_that_hardly_moves_and_a_steady_tone_tell_as_much(tmp_path: Path) -> None:
    def made(name: str, order: Callable[[int], int] = lambda number: number, late: int = 0) -> list[Path]:
        (tmp_path / name).mkdir()
        write(tmp_path / name / "vat.mkv", lambda number: order(number) / 9, late=late, steady=True)
        outputs = ("--to", f"web-720:{name}/out/a", "--to", f"proxy:{name}/out/b")
        done = boxkite("run", f"{name}/vat.mkv", "--by", "files", *outputs, "--json", cwd=tmp_path)
        return [Path(file["path"]) for file in done.json["files"]]

    files = made("whole")
    assert boxkite("verify", "last", "--deep", cwd=tmp_path).status == 0
    for name, how in {
        "file-swapped": {"order": lambda number: {30: 31, 31: 30}.get(number, number)},
        "file-misplaced": {"order": lambda number: min(number + 1, FRAMES - 1)},
        "file-audio-moved": {"late": 3},
    }.items():
        for path, other in zip(files, made(name, **how), strict=True):
            shutil.copy(other, path)
        checked = boxkite("verify", "whole/out", "--deep", "--json", cwd=tmp_path)
        found = {Path(path).parent.name: set(kinds) - BYTES for path, kinds in faults(checked).items()}
        assert found == {"a": {name}, "b": {name}}


def test_what_a_limit_of_bits_makes_of_noise_is_no_fault(tmp_path: Path) -> None:
    chance = np.random.default_rng(4)
    write(
        tmp_path / "vat.mkv", change=lambda drawn, _: chance.integers(20, 230, drawn.shape).astype(np.uint8)
    )
    done = boxkite("run", "vat.mkv", "--by", "files", "--to", "web-small:out", cwd=tmp_path)
    checked = boxkite("verify", "out", "--deep", "--json", cwd=tmp_path)
    assert (done.status, checked.status) == (0, 0)
    assert checked.json["files"][0]["quality"]["psnr_db"] < 20


def test_bytes_that_changed_and_files_that_went_or_came_are_named_and_nothing_is_written(
    clips: Path, made: dict[str, Path], tmp_path: Path
) -> None:
    place = tmp_path / "out"
    done = boxkite("run", clips / "vat.mkv", "--by", "files", *(
        word for name in "abcd" for word in ("--to", f"copy:{place}/{name}")
    ), cwd=tmp_path)  # fmt: skip
    assert done.status == 0
    paths = {name: place / name / "vat.mkv" for name in "abcd"}
    content = bytearray(paths["a"].read_bytes())
    content[len(content) // 2] ^= 1
    paths["a"].write_bytes(content)
    paths["b"].unlink()
    os.truncate(paths["c"], 9000)
    (place / "d" / "strange.mov").write_bytes(b"?")
    before = {path: path.stat().st_mtime_ns for path in place.rglob("*")}
    for what in ("last", f"{place}"):
        checked = boxkite("verify", what, "--json", cwd=tmp_path)
        named = {Path(path).relative_to(place).as_posix(): found for path, found in faults(checked).items()}
        assert checked.status == 1 and named == {
            "a/vat.mkv": ["file-other-bytes"], "b/vat.mkv": ["file-missing"], "c/vat.mkv": ["file-truncated"],
            "d/strange.mov": ["file-extra"],
        }  # fmt: skip
    assert {path: path.stat().st_mtime_ns for path in place.rglob("*")} == before
    shown = boxkite("verify", "last", cwd=tmp_path)
    assert (
        shown.status == 1
        and "fault: b/vat.mkv: it is not there" in shown.out
        and "5 files, 4 with" in shown.out
    )


def test_what_nobody_knows_is_decoded_to_its_end(clips: Path, tmp_path: Path) -> None:
    (tmp_path / "in").mkdir()
    shutil.copy(clips / "vat.mkv", tmp_path / "in")
    write(tmp_path / "in" / "frozen.mkv", order=lambda number: min(number, 30))
    whole = boxkite("verify", "in", "--json", cwd=tmp_path, env={"BOXKITE_STATE": str(tmp_path / "none")})
    assert whole.status == 0 and not (tmp_path / "none").exists()
    assert {one["frames"] for one in whole.json["files"]} == {FRAMES}
    noted = {Path(one["path"]).name: kinds(one["notices"]) for one in whole.json["files"]}
    assert noted == {"frozen.mkv": ["file-frozen-alone"], "vat.mkv": []}
    os.truncate(tmp_path / "in" / "vat.mkv", (tmp_path / "in" / "vat.mkv").stat().st_size // 2)
    broken = boxkite("verify", "in", cwd=tmp_path, env={"BOXKITE_STATE": str(tmp_path / "none")})
    assert (
        broken.status == 1
        and "fault: vat.mkv" in broken.out
        and "neither a record nor a manifest" in broken.out
    )


def test_a_source_that_has_gone_or_changed_is_reported_and_the_file_is_still_decoded(
    clips: Path, tmp_path: Path
) -> None:
    shutil.copy(clips / "vat.mkv", tmp_path)
    assert boxkite("run", "vat.mkv", "--by", "files", "--to", "web-720:out", cwd=tmp_path).status == 0
    (tmp_path / "vat.mkv").unlink()
    checked = boxkite("verify", "last", "--deep", "--json", cwd=tmp_path)
    (file,) = checked.json["files"]
    assert (checked.status, file["frames"], kinds(file["notices"])) == (0, FRAMES, ["file-not-compared"])
    assert (
        boxkite("verify", "last", "--deep", "--chart", "q.png", cwd=tmp_path).status == 2
    )  # nothing to draw
    shutil.copy(clips / "vat.mkv", tmp_path)
    assert boxkite("run", "vat.mkv", "--by", "files", "--to", "web-720:two", cwd=tmp_path).status == 0
    for status in (0, 2):  # it is not written over
        assert boxkite("verify", "last", "--deep", "--chart", "q.png", cwd=tmp_path).status == status
