"""The coded pictures of a stream of any codec that can be spliced."""

from __future__ import annotations

from boxkite.core.footage.bitstream import h264_pictures, h265_pictures
from boxkite.core.footage.bitstream.nal_units import AvcHeader, StreamHeader

CodedPicture = h264_pictures.CodedPicture | h265_pictures.CodedPicture
PictureReader = h264_pictures.PictureReader | h265_pictures.PictureReader


def reader_of(header: StreamHeader) -> PictureReader:
    """A reader for a stream with this header. Raises NotSpliceableError, with the reason why not."""
    if isinstance(header, AvcHeader):
        return h264_pictures.PictureReader.of(header)
    return h265_pictures.PictureReader.of(header)
