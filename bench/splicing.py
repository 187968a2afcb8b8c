"""What exact cuts cost: against a copy from keyframe to keyframe, and against encoding the same shots whole.

    python bench/splicing.py [minutes of the film, default 20]

A 1080p film with grain, H.264 at 8 Mbit/s with a keyframe every two seconds. Every figure is of one run.
"""

from __future__ import annotations

import os
import sys
import tempfile
import time
from collections.abc import Sequence
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

import av
import numpy as np
from msgspec.structs import replace

sys.path.insert(0, str(Path(__file__).parents[1]))

import boxkite
from boxkite.core.plan.rows import Row
from boxkite.core.render.making import make_files
from boxkite.core.timebase import FrameRate
from boxkite.demo.movies import Movie, write_movie
from boxkite.demo.pictures import VAT, draw_picture

LOOP_FRAMES, RATE = 500, FrameRate.parse("25")
OPTIONS = {"preset": "veryfast", "b": "8M", "maxrate": "9M", "bufsize": "9M",
           "x264-params": "keyint=50:min-keyint=50:scenecut=0:bframes=3"}  # fmt: skip
LONG, SHORT, SHORT_FRAMES = 1500, 24, 125
"""Frames of the long shot; how many short ones, and their length."""


def write_film(path: Path, minutes: int) -> int:
    """Loops of 20 s, every frame of a loop with grain of its own; the frames there are."""
    chance = np.random.default_rng(1)

    def grainy(frame: int) -> av.VideoFrame:
        planes = draw_picture(VAT, 1, frame, 1920, 1080).to_ndarray()
        grain = chance.integers(-12, 13, (1080, 1920))
        planes[:1080] = np.clip(planes[:1080].astype(np.int16) + grain, 16, 235)
        return av.VideoFrame.from_ndarray(planes, format="yuv420p")

    loop = path.with_name("loop.mp4")
    write_movie(Movie(loop, LOOP_FRAMES, RATE, ((0, VAT),), width=1920, height=1080, options=OPTIONS,
                      audio_tracks=0, picture_at=grainy))  # fmt: skip
    loops = minutes * 60 * 25 // LOOP_FRAMES
    with av.open(str(loop)) as incoming, av.open(str(path), "w") as outgoing:
        stream = outgoing.add_stream_from_template(incoming.streams.video[0], opaque=True)
        packets = [packet for packet in incoming.demux(video=0) if packet.size]
        stored = [(bytes(one), one.pts or 0, one.dts or 0, one.is_keyframe) for one in packets]
        base = packets[0].time_base
        for number in range(loops):
            shift = round(number * LOOP_FRAMES / 25 / base)
            for content, pts, dts, is_key in stored:
                packet = av.Packet(content)
                packet.pts, packet.dts, packet.time_base = pts + shift, dts + shift, base
                packet.is_keyframe, packet.stream = is_key, stream
                outgoing.mux(packet)
    return loops * LOOP_FRAMES


def planned(film: Path, spans: Sequence[tuple[int, int]], *, exact: bool) -> list[Row]:
    """The rows of a copy of spans."""
    marks = film.with_name("marks.csv")
    marks.write_text("name,in,out\n" + "".join(f"s{start},{start},{end}\n" for start, end in spans))
    job = boxkite.Job(str(film), [boxkite.Output("copy", str(film.with_name("out")))], by=["ranges"],
                      marks=str(marks), names="@marker", exact_cuts=exact)  # fmt: skip
    return list(boxkite.plan(job).rows)


def made(unit: tuple[Row, Path, int]) -> str:
    """Make one file; why it failed."""
    row, partial, threads = unit
    (result,) = make_files([row], [partial], threads=threads)
    partial.unlink(missing_ok=True)
    return result.failure or " ".join(map(str, result.warnings))


def took(pool: ProcessPoolExecutor, rows: Sequence[Row], folder: Path, threads: int) -> float:
    """Seconds to make rows, two at a time."""
    started = time.monotonic()
    for problem in pool.map(made, [(row, folder / f"{row.number}.mp4", threads) for row in rows]):
        assert not problem, problem
    return time.monotonic() - started


def main(minutes: int) -> None:
    """Measure and print."""
    with tempfile.TemporaryDirectory() as name, ProcessPoolExecutor(2) as pool:
        folder = Path(name)
        os.environ |= {"BOXKITE_STATE": f"{name}/state", "BOXKITE_CACHE": f"{name}/cache"}
        film = folder / "film.mp4"
        frames = write_film(film, minutes)
        print(f"{minutes} min of 1080p, {film.stat().st_size / 1e6:.0f} MB")
        begin = frames // 2 + 13
        step = frames // SHORT
        short = [
            (at, at + SHORT_FRAMES) for at in (number * step + 7 * number for number in range(SHORT - 1))
        ]
        for what, spans, threads in (
            ("one shot of 1 min", [(begin, begin + LONG)], 2),
            ("shots of 5 s", short, 1),
        ):
            took(
                pool, planned(film, short[:2], exact=False), folder, 1
            )  # both workers have what they need loaded
            plain = took(pool, planned(film, spans, exact=False), folder, threads)
            rows = planned(film, spans, exact=True)
            exact = took(pool, rows, folder, threads)
            part = rows[:: max(1, len(rows) // 6)]
            whole = (
                took(pool, [replace(row, splice=None) for row in part], folder, threads)
                * len(rows)
                / len(part)
            )
            share = sum(row.splice.encoded for row in rows if row.splice) / sum(row.frames for row in rows)
            print(
                f"{what}: exact {exact:.1f} s, {exact / plain:.2f} of a plain copy, {whole / exact:.1f} times as fast"
                f" as encoding; {100 * share:.0f} % of the frames are encoded",
                flush=True,
            )


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 20)
