"""Material on which cuts are hard to tell: grain, pans, zooms, flashes, fades, dissolves, and look-alikes in a row."""

from __future__ import annotations

from dataclasses import dataclass, field
from fractions import Fraction
from functools import lru_cache
from pathlib import Path

import av
import numpy as np

WIDTH, HEIGHT = 320, 180


@dataclass
class Restless:
    """Frames as luma arrays, and where hard cuts, dissolves (middle, length) and shots (first frame, kind) lie."""

    frames: list[np.ndarray] = field(default_factory=list)
    cuts: list[int] = field(default_factory=list)
    dissolves: list[tuple[int, int]] = field(default_factory=list)
    kinds: list[tuple[int, str]] = field(default_factory=list)


def _texture(chance: np.random.Generator) -> np.ndarray:
    """A large picture with detail at every scale, as places have."""
    height, width = 360, 640
    picture = np.zeros((height, width))
    for scale in (4, 8, 16, 40, 90):
        coarse = chance.normal(0, scale**0.6, (height // scale + 2, width // scale + 2))
        picture += np.kron(coarse, np.ones((scale, scale)))[:height, :width]
    low, high = np.percentile(picture, (2, 98))
    span = chance.uniform(90, 190)
    picture = np.clip((picture - low) / (high - low), 0, 1) * span + chance.uniform(20, 235 - span)
    return picture.astype(np.float32)


@lru_cache(maxsize=1)
def _noise() -> np.ndarray:
    """A handful of fields of grain; which of them a frame gets is chance."""
    return np.random.default_rng(7).normal(0, 1, (40, HEIGHT, WIDTH)).astype(np.float32)


def _shot(chance: np.random.Generator, texture: np.ndarray, frames: int, kind: str) -> list[np.ndarray]:
    y, x = chance.uniform(60, 120), chance.uniform(100, 220)
    speed = chance.uniform(-7, 7, 2) * (kind == "pan")
    noise = _noise()
    grain = {"grain": 14.0, "still": 0.0}.get(kind, 3.0)
    found = []
    for number in range(frames):
        if kind == "shake":
            speed = chance.uniform(-6, 6, 2)
        y, x = np.clip(y + speed[0] * 0.4, 0, 179), np.clip(x + speed[1], 0, 319)
        size = 1.0 + (0.012 * number if kind == "zoom" else 0)
        rows = (y + np.arange(HEIGHT) / size).astype(int)
        columns = (x + np.arange(WIDTH) / size).astype(int)
        picture = texture[np.ix_(rows, columns)]
        if kind == "thing":
            picture = picture.copy()
            left = abs((number * 9) % (2 * (WIDTH - 80)) - (WIDTH - 80))
            picture[50:150, left : left + 80] = 225
        if kind == "flicker":
            picture = picture * (1 + 0.12 * np.sin(number * 1.9))
        if grain:
            picture = picture + grain * noise[int(chance.integers(len(noise)))]
        found.append(picture)
    if kind == "flash":
        for at in (6, *((17,) if frames > 28 else ())):
            for number in range(at, at + int(chance.integers(1, 4))):
                found[number] = found[number] * 0.15 + 215
    if kind == "fade":
        middle = frames // 2
        for number in range(frames):
            found[number] = 16 + (found[number] - 16) * min(1.0, abs(number - middle) / 9)
    return found


KINDS = ("still", "pan", "grain", "shake", "zoom", "thing", "flicker", "flash", "fade")


def restless(cuts: int, seed: int) -> Restless:
    """Shots of every kind one after another until there are so many hard cuts; some changes dissolve instead."""
    chance = np.random.default_rng(seed)
    made = Restless()
    pool = [_texture(chance) for _ in range(70)]
    texture = pool[0]
    while len(made.cuts) < cuts:
        kind = str(chance.choice(KINDS))
        alike = chance.random()  # the same place from a camera beside it, or a step aside by the same camera
        if alike < 0.15:
            texture = np.roll(texture, (97, 211), (0, 1))
        elif alike < 0.25:
            texture = np.roll(texture, (int(chance.integers(20, 60)), int(chance.integers(30, 90))), (0, 1))
        else:
            others = [one for one in pool if one is not texture]
            texture = others[int(chance.integers(len(others)))]
        shot = _shot(chance, texture, int(chance.integers(18, 32)), kind)
        made.kinds.append((len(made.frames), kind))
        if made.frames and chance.random() < 0.12 and kind != "fade":
            length = int(chance.integers(10, 16))
            tail = made.frames[-length:]
            for number in range(length):
                share = (number + 1) / (length + 1)
                made.frames[-length + number] = tail[number] * (1 - share) + shot[number] * share
            made.dissolves.append((len(made.frames) - length // 2, length))
            made.frames += shot[length:]
        else:
            if made.frames:
                made.cuts.append(len(made.frames))
            made.frames += shot
    return made


_BOXES = ((120, 34, 20, 240), (140, 33, 30, 260), (8, 26, 220, 92), (158, 22, 0, 320), (20, 140, 10, 100))
"""Top, height, left and width of a name strap, a subtitle, a clock, a code strip and a panel."""


def with_straps(appearances: int, seed: int) -> tuple[list[np.ndarray], list[int]]:
    """Still shots, over each of which a strap, subtitle, clock, code strip or panel appears and goes; and the cuts."""
    chance = np.random.default_rng(seed)
    frames: list[np.ndarray] = []
    cuts = []
    for number in range(appearances):
        shot = _shot(chance, _texture(chance), 40, ("still", "grain", "still")[number % 3])
        box = (
            (120, 34, 20, 240),
            (140, 33, 30, 260),
            (8, 26, 220, 92),
            (158, 22, 0, 320),
            (20, 140, 10, 100),
        )[number % 5]
        ground = float(chance.choice((16, 40, 200, 235)))
        for at in range(14, 30):
            picture = shot[at].copy()
            top, height, left, width = box
            if number % 5 != 1:  # a subtitle has no ground
                picture[top : top + height, left : left + width] = ground
            letters = (np.arange(left, left + width) // 5 + at * (number % 5 in (2, 3))) % 2 == 0
            picture[top + 5 : top + height - 5, left : left + width][:, letters] = 251 - ground
            shot[at] = picture
        if frames:
            cuts.append(len(frames))
        frames += shot
    return frames, cuts


def walked_through(speed: float, seed: int) -> list[np.ndarray]:
    """One place while the camera drifts by so many pixels a frame, the light changes and somebody walks by."""
    place = _texture(np.random.default_rng(seed))
    frames = []
    for number in range(300):
        across = int(number * speed)
        picture = place[60 : 60 + HEIGHT, across : across + WIDTH] * (1 + 0.2 * np.sin(number / 30))
        left = number * 3 % (WIDTH + 200) - 200
        picture[20:, max(0, left) : max(0, left + 100)] = 90
        frames.append(picture)
    return frames


def write_restless(made: Restless, path: Path) -> None:
    """Encode the frames as one H.264 file."""
    with av.open(str(path), "w") as container:
        stream = container.add_stream("libx264", rate=25, options={"preset": "ultrafast", "crf": "18"})
        stream.width, stream.height, stream.pix_fmt = WIDTH, HEIGHT, "yuv420p"
        for number, luma in enumerate(made.frames):
            planes = np.full((HEIGHT * 3 // 2, WIDTH), 128, np.uint8)
            planes[:HEIGHT] = np.clip(luma, 16, 235)
            frame = av.VideoFrame.from_ndarray(planes, format="yuv420p")
            frame.pts, frame.time_base = number, Fraction(1, 25)
            container.mux(stream.encode(frame))
        container.mux(stream.encode(None))


def score(found: list[int], wanted: list[int], others: list[tuple[int, int]]) -> tuple[float, float]:
    """(precision, recall) of hard cuts, to the frame; what was found inside a dissolve is neither right nor wrong."""
    right = len(set(found) & set(wanted))
    wrong = [
        frame
        for frame in set(found) - set(wanted)
        if not any(abs(frame - middle) <= length for middle, length in others)
    ]
    return right / max(1, right + len(wrong)), right / len(wanted)
