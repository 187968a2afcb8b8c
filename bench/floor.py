"""The floor: the codec library decoding and encoding a file with no tool around it. Usage: floor.py IN OUT

The same encoder and muxer settings as the `web` preset; nothing is planned, cut to the sample or proved.
"""

from __future__ import annotations

import sys
from fractions import Fraction
from typing import cast

import av
from av.audio.stream import AudioStream
from av.video.stream import VideoStream

OPTIONS = {"preset": "faster", "crf": "21", "profile": "high"}


def transcode(source: str, target: str) -> None:
    with (
        av.open(source) as incoming,
        av.open(target, "w", format="mp4", options={"movflags": "+faststart"}) as outgoing,
    ):
        picture_in = incoming.streams.video[0]
        picture_in.thread_type = "AUTO"
        rate = cast(Fraction, picture_in.average_rate)
        options = {**OPTIONS, "g": str(round(2 * rate))}
        picture_out = outgoing.add_stream("libx264", rate=rate, options=options)
        picture_out.width, picture_out.height = picture_in.width, picture_in.height
        picture_out.pix_fmt = "yuv420p"
        picture_out.codec_context.thread_type = "AUTO"
        sound_out = None
        streams: list[VideoStream | AudioStream] = [picture_in]
        if incoming.streams.audio:
            sound_out = outgoing.add_stream("aac", rate=48_000, layout="stereo")
            sound_out.bit_rate = 192_000
            streams.append(incoming.streams.audio[0])
        for packet in incoming.demux(*streams):
            for frame in packet.decode():
                if isinstance(frame, av.VideoFrame):
                    frame.pict_type = 0
                    outgoing.mux(picture_out.encode(frame))
                elif isinstance(frame, av.AudioFrame) and sound_out:
                    outgoing.mux(sound_out.encode(frame))
        outgoing.mux(picture_out.encode(None))
        if sound_out:
            outgoing.mux(sound_out.encode(None))


if __name__ == "__main__":
    transcode(sys.argv[1], sys.argv[2])
