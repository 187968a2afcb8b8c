"""Footage for measuring: drawn pictures with grain, so that a codec has as much to do as on a camera's."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path

import av
import numpy as np
from av.audio.frame import AudioFrame

from boxkite.core.edit.edl.markers import write_edl_markers
from boxkite.core.picture.pixel_layout import PixelLayout
from boxkite.core.picture.stamp import plane_array
from boxkite.core.timebase import FrameRate, Timecode
from boxkite.demo.barcode import draw_barcode
from boxkite.demo.pictures import BEATER, COUCH, LOFT, PRESS, VAT, draw_picture
from boxkite.demo.ticks import draw_audio

RATE = FrameRate(Fraction(25))
PLACES = (BEATER, VAT, COUCH, PRESS, LOFT)


def write_grainy(path: Path, seconds: int, width: int, height: int, keyframe_every: int = 50) -> None:
    frames = seconds * 25
    grain = np.random.default_rng(7).normal(0, 1.2, (height + 64, width + 64)).astype(np.int16)
    with av.open(str(path), "w") as container:
        options = {"preset": "ultrafast", "crf": "20", "g": str(keyframe_every), "bf": "2"}
        stream = container.add_stream("libx264", rate=25, options=options)
        stream.width, stream.height, stream.pix_fmt = width, height, "yuv420p"
        stream.metadata["timecode"] = "01:00:00:00"
        sound = container.add_stream("pcm_s16le", rate=48_000, layout="stereo")
        wave = draw_audio(frames, RATE, 48_000).astype(np.float32)
        for number in range(frames):
            picture = draw_picture(PLACES[number // 100 % len(PLACES)], 1, number, width, height)
            luma = plane_array(picture.planes[0], PixelLayout(8, 1, 1))
            y, x = number * 37 % 64, number * 53 % 64
            luma[:] = np.clip(luma + grain[y : y + height, x : x + width], 16, 235)
            draw_barcode(luma, 1, number)
            picture.pts, picture.time_base = number, Fraction(1, 25)
            container.mux(stream.encode(picture))
            part = np.repeat(wave[None, number * 1920 : (number + 1) * 1920], 2, axis=0)
            heard = AudioFrame.from_ndarray(np.ascontiguousarray(part), format="fltp", layout="stereo")
            heard.sample_rate, heard.pts, heard.time_base = 48_000, number * 1920, Fraction(1, 48_000)
            container.mux(sound.encode(heard))
        container.mux(stream.encode(None))
        container.mux(sound.encode(None))


def write_marks(path: Path, seconds: int, shots: int) -> None:
    start = Timecode.parse("01:00:00:00", RATE)
    frames = seconds * 25
    starts = [start + frames * index // shots for index in range(shots)]
    marks = [(first, "RED", f"shot {index}") for index, first in enumerate(starts, start=1)]
    write_edl_markers(path, "measured", start, start + frames, marks)


def write_cube(path: Path, size: int = 17) -> Path:
    """A contrasty look, as display looks for flat camera pictures are."""
    steps = np.linspace(0, 1, size)
    blue, green, red = np.meshgrid(steps, steps, steps, indexing="ij")
    bent = [np.clip((one - 0.08) * 1.5, 0, 1) ** 0.9 for one in (red, green, blue)]
    rows = np.stack(bent, axis=-1).reshape(-1, 3)
    lines = "\n".join(" ".join(f"{value:.6f}" for value in row) for row in rows)
    path.write_text(f"LUT_3D_SIZE {size}\n{lines}\n")
    return path


def write_large(path: Path, size_bytes: int) -> None:
    """A long ProRes file of about a size: the packets of two drawn seconds, over and over."""
    drawn = Path(f"{path}.short.mov")
    with av.open(str(drawn), "w") as short:
        stream = short.add_stream("prores", rate=25, options={"profile": "3"})
        stream.width, stream.height, stream.pix_fmt = 1920, 1080, "yuv422p10le"
        grain = np.random.default_rng(7).integers(0, 40, (1080, 1920)).astype(np.uint8)
        for number in range(50):
            picture = draw_picture(PLACES[0], 1, number, 1920, 1080)
            plane_array(picture.planes[0], PixelLayout(8, 1, 1))[:] += grain // 4
            picture = picture.reformat(format="yuv422p10le")
            picture.pts, picture.time_base = number, Fraction(1, 25)
            short.mux(stream.encode(picture))
        short.mux(stream.encode(None))
    write_repeated(drawn, path, -(-size_bytes // drawn.stat().st_size), 2)
    drawn.unlink()


def write_repeated(short: Path, path: Path, loops: int, seconds: int) -> None:
    """A film of the packets of a short one that lasts whole seconds, over and over."""
    with av.open(str(short)) as loop, av.open(str(path), "w") as film:
        heard = [stream for stream in loop.streams if stream.type in ("video", "audio")]
        streams = {stream.index: film.add_stream_from_template(stream) for stream in heard}
        packets = [packet for packet in loop.demux(*heard) if packet.size]
        times = [
            (packet.pts or 0, packet.dts or 0, packet.time_base, packet.stream_index) for packet in packets
        ]
        for number in range(loops):
            for packet, (pts, dts, base, index) in zip(packets, times, strict=True):
                shift = round(number * seconds / base)
                packet.time_base, packet.pts, packet.dts = base, pts + shift, dts + shift
                packet.stream = streams[index]
                film.mux(packet)
