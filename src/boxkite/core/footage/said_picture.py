"""What the header of a stream says of its picture, so that no frame need be decoded to learn that."""

from __future__ import annotations

from fractions import Fraction

from av.audio.codeccontext import AudioCodecContext
from av.container import InputContainer
from msgspec import Struct

from boxkite.core.footage.bitstream.bits import BitReader
from boxkite.core.footage.bitstream.h264_sets import SequenceSet
from boxkite.core.footage.bitstream.nal_units import AvcHeader
from boxkite.core.footage.bitstream.obstacles import NotSpliceableError

_SAMPLING = {1: "420", 2: "422", 3: "444"}
"""By chroma_format_idc."""
_RGB_MATRIX = 0
_UNSAID = 2, 2, 2
_AAC_LC, _AAC_RATES_HZ = 2, (96000, 88200, 64000, 48000, 44100, 32000)
"""The plain kind of AAC, and rates by their index (ISO/IEC 14496-3, 1.6.3): of lower ones decoders may make twice."""
PROGRESSIVE = 1


class SaidPicture(Struct, frozen=True):
    """What a decoder would say of the picture of a stream."""

    pixel_format: str
    """The codec library's name."""
    full_range: bool | None
    """None where the stream does not say."""
    colours: tuple[int, int, int] | None
    """Code points of primaries, transfer and matrix; None where the stream does not say."""


def said_picture(container: InputContainer) -> SaidPicture | None:
    """What a decoder would say of the only picture of a MOV or MP4 file; None where only a decoder can tell.

    It can be told of H.264 whose pictures are all frames of 8 bits, beside audio that its container describes, where
    the container does not say otherwise. With more bits a message among the pictures may name another transfer.
    """
    streams = container.streams
    if len(streams.video) != 1 or not all(_is_said_whole(stream.codec_context) for stream in streams.audio):
        return None
    picture = streams.video[0]
    context = picture.codec_context
    if not context or context.name != "h264":
        return None
    if not (picture.frames and picture.average_rate):  # of a fragmented file: its packets tell
        return None
    try:
        header = AvcHeader.read(bytes(context.extradata or b""))
        (unit,) = header.sequence_sets
        sequence = SequenceSet.read(unit)
        appearance = sequence.appearance
    except (NotSpliceableError, ValueError):
        return None
    sampling = _SAMPLING.get(sequence.chroma_format)
    is_usual = sequence.frames_only and not sequence.planes_apart and sequence.depth_bits == (8, 8)
    if not sampling or not is_usual or sequence.size_px != (context.width, context.height):
        return None
    colours, ratio, own = appearance.colours, appearance.ratio, picture.sample_aspect_ratio
    if ratio and Fraction(*ratio) != (Fraction(own.numerator, own.denominator) if own else 1):
        return None
    of_container = int(context.color_primaries), int(context.color_trc), int(context.colorspace)
    if colours and (colours[2] == _RGB_MATRIX or of_container not in (_UNSAID, colours)):
        return None
    full_range, by_container = appearance.full_range, {1: False, 2: True}.get(int(context.color_range))
    if full_range is None:
        full_range = by_container
    elif by_container not in (None, full_range):
        return None
    return SaidPicture(f"yuv{'j' if full_range else ''}{sampling}p", full_range, colours)


def _is_said_whole(context: AudioCodecContext | None) -> bool:
    """Whether a container describes audio as its decoder would."""
    if context is None or context.name.startswith("pcm_"):
        return context is not None
    if context.name != "aac":
        return False
    try:
        bits = BitReader(bytes(context.extradata or b""))
        kind, rate, channels = bits.bits(5), bits.bits(4), bits.bits(4)
    except NotSpliceableError:
        return False
    is_known = kind == _AAC_LC and rate < len(_AAC_RATES_HZ) and context.sample_rate == _AAC_RATES_HZ[rate]
    return is_known and 1 <= channels == context.channels
