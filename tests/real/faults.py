"""Frames of clips that nobody here made, put out of order: `verify --deep` names what is wrong, and nothing else."""

from __future__ import annotations

import json
import shutil
import statistics
import subprocess
import sys
import tempfile
from collections.abc import Callable, Sequence
from fractions import Fraction
from itertools import islice, pairwise
from pathlib import Path

import av
import numpy as np

FRAMES, RATE, LARGEST_PX = 65, 25, 1280
PRESETS = ("web", "web-small", "proxy", "stock", "web-vp9")
BOXKITE = (sys.executable, "-m", "boxkite")
ORDERS: dict[str, Callable[[int], int]] = {
    "swapped": lambda number: {30: 31, 31: 30}.get(number, number),
    "misplaced": lambda number: min(number + 1, FRAMES - 1),
    "frozen": lambda number: 40 if 40 <= number < 60 else number,
}
ALSO = {"misplaced": [("file-other-pictures",)], "frozen": [("file-frozen", "file-misplaced")]}
"""Where the source itself stands still now and then, frames may be misplaced in several short runs."""
BYTES = {"file-other-bytes", "file-other-size", "file-truncated"}
_LEAST_MOVED_DB = 36.0
"""Frames that are closer to each other than this cannot be told apart once they are encoded."""


def try_faults(clip: Path) -> str:
    """What `verify --deep` does not name, or names wrongly; empty if nothing, or where the clip hardly moves."""
    frames = _frames_of(clip)
    if len(frames) < FRAMES:
        return ""
    moved = [_psnr_db(one, two) for one, two in pairwise(frames)]
    if max(moved[30], statistics.median(moved)) > _LEAST_MOVED_DB:
        return ""
    try:
        return _not_named(frames)
    except subprocess.CalledProcessError as error:
        return f"it cannot be made: {error.stderr[-200:]}"


def _not_named(frames: Sequence[np.ndarray]) -> str:
    with tempfile.TemporaryDirectory() as name:
        place = Path(name)
        made = _made(place, "source", frames, range(FRAMES))
        if wrong := _named(place) - {(preset, ()) for preset in PRESETS}:
            return f"of whole files it names {sorted(wrong)}"
        for fault, order in ORDERS.items():
            others = _made(place, fault, frames, [order(number) for number in range(FRAMES)])
            kept = {path: path.read_bytes() for path in made}
            for path, other in zip(made, others, strict=True):
                shutil.copy(other, path)
            right = {
                (preset, kinds) for preset in PRESETS for kinds in [(f"file-{fault}",), *ALSO.get(fault, [])]
            }
            if wrong := _named(place) - right:
                return f"of {fault} frames it names {sorted(wrong)}"
            for path, content in kept.items():
                path.write_bytes(content)
    return ""


def _frames_of(clip: Path) -> list[np.ndarray]:
    try:
        with av.open(str(clip), metadata_errors="replace") as container:
            found = [
                frame.reformat(format="yuv420p", width=frame.width // 2 * 2, height=frame.height // 2 * 2)
                for frame in islice(container.decode(video=0), FRAMES)
            ]
    except (av.error.FFmpegError, ValueError, IndexError):
        return []
    if not found or len({(one.width, one.height) for one in found}) > 1 or found[0].width > LARGEST_PX:
        return []
    return [one.to_ndarray() for one in found]


def _psnr_db(first: np.ndarray, second: np.ndarray) -> float:
    error = np.square(first.astype(np.float32) - second).mean()
    return float(10 * np.log10(255**2 / max(float(error), 1e-6)))


def _made(place: Path, name: str, frames: Sequence[np.ndarray], order: Sequence[int]) -> list[Path]:
    """What the presets make of a lossless clip of these frames, in the order of the presets."""
    source = place / name / "clip.mkv"
    source.parent.mkdir()
    with av.open(str(source), "w") as container:
        stream = container.add_stream("ffv1", rate=RATE)
        stream.height, stream.width = frames[0].shape[0] * 2 // 3, frames[0].shape[1]
        stream.pix_fmt, stream.codec_context.gop_size = "yuv420p", 1
        for number, shown in enumerate(order):
            frame = av.VideoFrame.from_ndarray(frames[shown], format="yuv420p")
            frame.pts, frame.time_base = number, Fraction(1, RATE)
            container.mux(stream.encode(frame))
        container.mux(stream.encode(None))
    outputs = [word for one in PRESETS for word in ("--to", f"{one}:{place / 'made' / name / one}")]
    done = subprocess.run(
        [*BOXKITE, "run", str(source), "--by", "files", *outputs, "--json"],
        capture_output=True,
        text=True,
        check=True,
    )
    by_preset = {file["preset"]: Path(file["path"]) for file in json.loads(done.stdout)["files"]}
    return [by_preset[preset] for preset in PRESETS]


def _named(place: Path) -> set[tuple[str, tuple[str, ...]]]:
    """The kinds of fault that each preset's file has but for its bytes."""
    words = [*BOXKITE, "verify", str(place / "made" / "source"), "--deep", "--json"]
    files = json.loads(subprocess.run(words, capture_output=True, text=True, check=False).stdout)["files"]
    return {
        (Path(file["path"]).parent.name, tuple(sorted({one["kind"] for one in file["faults"]} - BYTES)))
        for file in files
    }
