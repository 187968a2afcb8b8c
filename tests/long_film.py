"""A film of hours, made in seconds: the packets of ten drawn seconds, over and over."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path

import av

from boxkite.core.timebase import FrameRate
from boxkite.demo.movies import Movie, write_movie
from boxkite.demo.pictures import VAT

RATE = FrameRate.parse("23.976")
LOOP_FRAMES = 240
LOOP_SECONDS = Fraction(240 * 1001, 24000)


def write_long_film(path: Path, loops: int) -> int:
    """Write a film of so many loops of 10.01 s and return its frames; the bar code counts from 0 in each loop."""
    short = path.with_name("loop.mkv")
    options = {"preset": "ultrafast", "g": str(LOOP_FRAMES), "crf": "24"}
    write_movie(Movie(short, LOOP_FRAMES, RATE, ((0, VAT),), width=160, height=96, options=options,
                      sample_rate=8000, layout="mono"))  # fmt: skip
    with av.open(str(short)) as loop, av.open(str(path), "w") as film:
        packets = [packet for packet in loop.demux() if packet.size]
        streams = {stream.index: film.add_stream_from_template(stream) for stream in loop.streams}
        own = [(packet.pts, packet.dts, packet.time_base, packet.stream_index) for packet in packets]
        for number in range(loops):
            for packet, (pts, dts, base, index) in zip(packets, own, strict=True):
                shift = number * LOOP_SECONDS
                packet.time_base = base
                packet.pts = round((pts * base + shift) / base)
                packet.dts = round((dts * base + shift) / base)
                packet.stream = streams[index]
                film.mux(packet)
    short.unlink()
    return loops * LOOP_FRAMES
