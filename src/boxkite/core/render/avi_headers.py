"""Headers of AVI files set right after writing: audio whose packets are frames of a codec is counted by packets."""

from __future__ import annotations

import struct
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import BinaryIO

_BY_FRAMES = frozenset({0x50, 0x55, 0xFF, 0x1600, 0x1610, 0x2000, 0x2001})
"""Format tags of MPEG audio, AAC, AC-3 and DTS (RFC 2361)."""
_LENGTH_AT, _SAMPLE_SIZE_AT = 32, 44
"""Of dwLength and dwSampleSize in a stream header; a size of 0 says that every packet lasts one tick."""
_MOST_HEADER_BYTES = 1 << 20


def count_audio_by_packets(path: Path, packets: Mapping[int, int]) -> None:
    """Let no stream of coded audio be counted by its bytes, as readers do where the header states a size of samples.

    The muxer copies that size from the source's block size, of which coded audio has none. packets: how many each
    stream has, by its place. Raises OSError.
    """
    with path.open("r+b") as file:
        for stream, header in _coded_audio(file):
            file.seek(header + _LENGTH_AT)
            file.write(struct.pack("<I", packets.get(stream, 0)))
            file.seek(header + _SAMPLE_SIZE_AT)
            file.write(bytes(4))


def _coded_audio(file: BinaryIO) -> list[tuple[int, int]]:
    """(place among the streams, where its header begins) of the streams of coded audio in a file."""
    content = file.read(_MOST_HEADER_BYTES)
    found, header, stream = [], None, -1
    for kind, start, size in _chunks(content, 12, len(content)):
        if kind != b"LIST" or content[start : start + 4] != b"hdrl":
            continue
        for inner, at, length in _chunks(content, start + 4, start + size):
            if inner != b"LIST" or content[at : at + 4] != b"strl":
                continue
            for name, begin, _ in _chunks(content, at + 4, at + length):
                if name == b"strh":
                    stream += 1
                    header = begin if content[begin : begin + 4] == b"auds" else None
                elif name == b"strf" and header is not None:
                    (tag,) = struct.unpack_from("<H", content, begin)
                    found += [(stream, header)] if tag in _BY_FRAMES else []
        break
    return found


def _chunks(content: bytes, start: int, end: int) -> Iterator[tuple[bytes, int, int]]:
    """(name, where it begins, how long it is) of the chunks in a part of a RIFF file."""
    while start + 8 <= min(end, len(content)):
        name, size = struct.unpack_from("<4sI", content, start)
        yield name, start + 8, size
        start += 8 + size + size % 2
