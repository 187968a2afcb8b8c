"""The floor: the codec library with no tool around it.

Usage: floor.py web|review|decode|remux|remux-to-disk IN [OUT] [THREADS] [FIRST-END…]. The same decode, scaling, encoder
and muxer settings as the presets `web` and `review` and as copying; nothing is planned, cut to the sample, lettered or
verified. FIRST-END: a shot's first frame and the one after its last; OUT is a folder then, for a file of each.
Only remux-to-disk waits, as copying does, until all of the file has reached the disk.
"""

from __future__ import annotations

import os
import sys
from collections.abc import Iterator
from fractions import Fraction
from pathlib import Path
from typing import Any, cast

import av
import av.filter
from av.audio.stream import AudioStream
from av.container import InputContainer
from av.video.stream import VideoStream

OPTIONS = {
    "web": {"preset": "faster", "crf": "21", "profile": "high"},
    "review": {"preset": "veryfast", "crf": "26", "profile": "high"},
}
AUDIO_BITS = {"web": 192_000, "review": 128_000}


def transcode(kind: str, source: str, target: str, threads: int, shot: tuple[int, int] | None = None) -> None:
    """shot: its first frame and the one after its last; None for all there is."""
    with (
        av.open(source) as incoming,
        av.open(target, "w", format="mp4", options={"movflags": "+faststart"}) as outgoing,
    ):
        picture_in = incoming.streams.video[0]
        picture_in.thread_type = "AUTO"
        picture_in.codec_context.thread_count = threads
        rate = cast(Fraction, picture_in.average_rate)
        options = {**OPTIONS[kind], "g": str(round(2 * rate))}
        picture_out = outgoing.add_stream("libx264", rate=rate, options=options)
        share = 2 if kind == "review" else 1
        picture_out.width, picture_out.height = picture_in.width // share, picture_in.height // share
        picture_out.pix_fmt = "yuv420p"
        picture_out.codec_context.thread_type = "AUTO"
        picture_out.codec_context.thread_count = threads
        audio_out = None
        streams: list[VideoStream | AudioStream] = [picture_in]
        if incoming.streams.audio:
            audio_out = outgoing.add_stream("aac", rate=48_000, layout="stereo")
            audio_out.bit_rate = AUDIO_BITS[kind]
            streams.append(incoming.streams.audio[0])
        graph = None
        for frame in decoded(incoming, streams, rate, shot):
            if isinstance(frame, av.VideoFrame):
                picture: Any = frame
                if share > 1:
                    graph = graph or scaler(picture_in, share)
                    graph.push(frame)
                    picture = graph.pull()
                picture.pict_type = 0
                outgoing.mux(picture_out.encode(picture))
            elif isinstance(frame, av.AudioFrame) and audio_out:
                outgoing.mux(audio_out.encode(frame))
        outgoing.mux(picture_out.encode(None))
        if audio_out:
            outgoing.mux(audio_out.encode(None))


def decoded(
    incoming: InputContainer,
    streams: list[VideoStream | AudioStream],
    rate: Fraction,
    shot: tuple[int, int] | None,
) -> Iterator[Any]:
    """Pictures and sounds; those of a shot with times that begin with it, found by seeking."""
    if not shot:
        yield from (frame for packet in incoming.demux(*streams) for frame in packet.decode())
        return
    start, end = shot
    incoming.seek(int(start / rate / cast(Fraction, streams[0].time_base)), stream=streams[0])
    for packet in incoming.demux(*streams):
        for frame in cast("list[Any]", packet.decode()):
            moment = frame.pts * frame.time_base * rate
            if moment >= end and isinstance(frame, av.VideoFrame):
                return
            if start <= moment < end:
                frame.pts = round((moment - start) / rate / frame.time_base)
                yield frame


def scaler(stream: VideoStream, share: int) -> av.filter.Graph:
    graph = av.filter.Graph()
    source = graph.add_buffer(template=stream)
    scale = graph.add("scale", f"{stream.width // share}:{stream.height // share}:flags=bicubic")
    sink = graph.add("buffersink")
    source.link_to(scale)
    scale.link_to(sink)
    graph.configure()
    return graph


def decode(source: str) -> None:
    with av.open(source) as container:
        stream = container.streams.video[0]
        stream.thread_type = "AUTO"
        for _ in container.decode(stream):
            pass


def remux(source: str, target: str) -> None:
    with (
        av.open(source) as incoming,
        av.open(target, "w", format="mov", options={"moov_size": "1000000"}) as outgoing,
    ):
        streams = {stream.index: outgoing.add_stream_from_template(stream) for stream in incoming.streams}
        for packet in incoming.demux():
            if packet.size:
                packet.stream = streams[packet.stream_index]
                outgoing.mux(packet)


if __name__ == "__main__":
    what, *rest = sys.argv[1:]
    if what == "decode":
        decode(rest[0])
    elif what == "remux":
        remux(rest[0], rest[1])
    elif what == "remux-to-disk":
        remux(rest[0], rest[1])
        with Path(rest[1]).open("rb") as written:
            os.fsync(written.fileno())
    elif len(rest) > 3:
        for place, word in enumerate(rest[3:]):
            first, end = map(int, word.split("-"))
            transcode(what, rest[0], str(Path(rest[1]) / f"{place}.mp4"), int(rest[2]), (first, end))
    else:
        transcode(what, rest[0], rest[1], int(rest[2]) if len(rest) > 2 else 0)
