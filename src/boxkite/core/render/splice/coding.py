"""How the edges of a stream are coded, whatever its codec."""

from __future__ import annotations

from collections.abc import Sequence
from fractions import Fraction
from typing import Any, Protocol

import av
from av.codec.context import Flags
from av.video.codeccontext import VideoCodecContext
from av.video.frame import VideoFrame

from boxkite.core.footage.bitstream.nal_units import StreamHeader

TICK = Fraction(1, 1000)
"""Of the encoder's own time; its frames are told by their order."""
MOST_REFERENCES = 3


class EdgeCoding(Protocol):
    """Frames encoded to stand in one stream, and the order a decoder shows that stream in."""

    @property
    def header(self) -> StreamHeader:
        """Of the stream, without what is added for edges."""

    @property
    def depth(self) -> int:
        """By how many frames pictures are reordered at most."""

    def to_encode(self, frame: VideoFrame) -> VideoFrame:
        """A decoded frame as the encoder takes it."""

    def encoder(self, frame: VideoFrame, threads: int) -> VideoCodecContext:
        """An encoder for frames like this one. Raises NotSpliceableError where there is none."""

    def placed(
        self, own: StreamHeader, packets: Sequence[Sequence[bytes]], neighbour: Any
    ) -> tuple[bytes, list[list[bytes]]]:
        """The picture set to add, and the slices of each picture under the stream's sequence set.

        own: of the encoder's stream; packets: slices of each of its pictures; neighbour: an IDR picture that may stand
        beside them. Raises NotSpliceableError where they cannot be read so.
        """

    def check_order(self, pictures: Sequence[Any], wanted: Sequence[int]) -> None:
        """Make sure that pictures, in the order of storing, are shown in that of the wanted places.

        Raises NotSpliceableError.
        """


def encoder_of(
    name: str, frame: VideoFrame, threads: int, options: dict[str, str], private: tuple[str, dict[str, Any]]
) -> VideoCodecContext:
    """An encoder for frames like this one. private: the name of the option for its own parameters, and these."""
    context = av.CodecContext.create(name, "w")
    assert isinstance(context, VideoCodecContext)
    context.width, context.height, context.pix_fmt = frame.width, frame.height, frame.format.name
    context.time_base, context.framerate = TICK, 1 / TICK
    context.flags |= Flags.global_header
    context.thread_count = threads
    key, parameters = private
    context.options = {**options, key: ":".join(f"{name}={value}" for name, value in parameters.items())}
    return context
