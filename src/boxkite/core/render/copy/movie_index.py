"""The index of a MOV or MP4 file that was written with small stand-ins for its pictures, made true for the pictures.

Sizes, places and the bit rate are all that an index says of what a picture's packet holds (ISO/IEC 14496-12, 8.5.2.2,
8.7); they are written anew, everything else stays as the codec library wrote it. The pictures are then as in files that
the library writes of large packets: each is a chunk of its own.
"""

from __future__ import annotations

import struct
from collections.abc import Callable, Iterator
from fractions import Fraction
from typing import BinaryIO, NamedTuple

import numpy as np
from msgspec import Struct

from boxkite.core.errors import VerificationError
from boxkite.core.files.boxes import (
    HEADER_BYTES,
    BrokenBoxesError,
    boxes,
    boxes_of_file,
    child_of,
    children,
    kind_of,
    new_box,
    new_head,
    replaced,
)

_FULL = HEADER_BYTES + 4
"""Bytes before the fields of a box that has a version and flags."""
_TABLES = (b"mdia", b"minf", b"stbl")
_BEFORE_BOXES_OF_PICTURE = 86
"""Bytes of a visual sample entry (12.1.3)."""
_FIRST_FAR = 1 << 32
_MOST_INDEX_BYTES = 1 << 28
"""Of a source, to be read at once: some many hours of pictures and audio."""


class Piece(NamedTuple):
    """A part of the file to be: a picture by its number, or bytes of the small file."""

    picture: int
    """-1 for bytes of the small file."""
    start: int
    """Of those, there."""
    length: int


class Layout(Struct, frozen=True):
    """A file to be: what goes before its media, and what that is made of."""

    head: bytes
    pieces: list[Piece]


def layout_of(small: BinaryIO, sizes: np.ndarray) -> Layout:
    """The layout of a file by the small one. sizes: bytes of each picture, in the order of storing.

    Raises VerificationError where the small file is not as the codec library writes it.
    """
    top = {found.kind: found for found in boxes_of_file(small)}
    if not {b"ftyp", b"mdat", b"moov"} <= top.keys():
        raise VerificationError("its index cannot be written")
    brand, index = (_read(small, top[kind].start, top[kind].end) for kind in (b"ftyp", b"moov"))
    tracks = [_Track.of(child, sizes) for child in children(index) if kind_of(child) == b"trak"]
    pictures = [track for track in tracks if track.is_picture]
    if len(pictures) != 1 or len(pictures[0].lengths) != len(sizes):
        raise VerificationError("its index lists other pictures than were copied")
    starts = np.concatenate([track.starts for track in tracks])
    order = np.argsort(starts, kind="stable")
    lengths = np.concatenate([track.lengths for track in tracks])[order]
    places = np.empty(len(order), dtype=np.int64)
    places[order] = np.cumsum(lengths) - lengths
    media_head = new_head(b"mdat", int(lengths.sum()))
    for form in (">u4", ">u8"):
        before = len(brand) + len(_with_places(index, tracks, places, form)) + len(media_head)
        if form == ">u8" or before + int(lengths.sum()) < _FIRST_FAR:
            break
    head = brand + _with_places(index, tracks, places + before, form) + media_head
    numbers = np.concatenate(
        [
            np.arange(len(track.starts)) if track.is_picture else np.full(len(track.starts), -1)
            for track in tracks
        ]
    )[order]
    return Layout(
        head, [Piece(*map(int, piece)) for piece in zip(numbers, starts[order], lengths, strict=True)]
    )


def describes_pictures_once(file: BinaryIO) -> bool:
    """Whether all pictures of each track of a file are described in the same way; stand-ins do not say otherwise."""
    try:
        found = next((box for box in boxes_of_file(file) if box.kind == b"moov"), None)
    except BrokenBoxesError:
        return False
    if found is None or found.end - found.start > _MOST_INDEX_BYTES:
        return False
    index = _read(file, found.start, found.end)
    media = [child_of(track, b"mdia") for track in children(index) if kind_of(track) == b"trak"]
    described = [
        child_of(child_of(child_of(one, b"minf"), b"stbl"), b"stsd") for one in media if _is_of_pictures(one)
    ]
    return bool(described) and all(table[_FULL : _FULL + 4] == b"\0\0\0\1" for table in described)


def _is_of_pictures(media: bytes) -> bool:
    """By its handler (8.4.3)."""
    return child_of(media, b"hdlr")[_FULL + 4 : _FULL + 8] == b"vide"


def _read(file: BinaryIO, start: int, end: int) -> bytes:
    file.seek(start)
    return file.read(end - start)


class _Track(Struct, frozen=True):
    """What is stored of a track: its chunks, or its single pictures."""

    is_picture: bool
    starts: np.ndarray
    """Where each begins in the small file."""
    lengths: np.ndarray
    """Bytes of each in the file to be."""
    seconds: Fraction

    @classmethod
    def of(cls, track: bytes, sizes: np.ndarray) -> _Track:
        media = child_of(track, b"mdia")
        tables = child_of(child_of(media, b"minf"), b"stbl")
        is_picture = _is_of_pictures(media)
        far, near = child_of(tables, b"co64"), child_of(tables, b"stco")
        chunks = _numbers(far, ">u8") if far else _numbers(near, ">u4")
        counts = _samples_in_chunks(child_of(tables, b"stsc"), len(chunks))
        own = _sample_sizes(child_of(tables, b"stsz"))
        before = np.cumsum(counts) - counts
        if isinstance(own, int):
            lengths = counts * own
        else:
            if len(own) != counts.sum():
                raise VerificationError("its index contradicts itself")
            lengths = np.add.reduceat(own, before) if len(own) else own
        if not is_picture:
            return cls(False, chunks, lengths, Fraction(0))
        samples = np.full(counts.sum(), own) if isinstance(own, int) else own
        within = np.cumsum(samples) - samples
        starts = np.repeat(chunks - within[before], counts) + within if len(samples) else samples
        return cls(True, starts, np.asarray(sizes, dtype=np.int64), _seconds(child_of(media, b"mdhd")))


def _numbers(table: bytes, form: str) -> np.ndarray:
    """The entries of a table that begins with their count."""
    (count,) = struct.unpack_from(">I", table, _FULL)
    return np.frombuffer(table, form, count, _FULL + 4).astype(np.int64)


def _samples_in_chunks(table: bytes, chunks: int) -> np.ndarray:
    """How many samples each chunk has (8.7.4)."""
    (count,) = struct.unpack_from(">I", table, _FULL)
    runs = np.frombuffer(table, ">u4", 3 * count, _FULL + 4).astype(np.int64).reshape(count, 3)
    if (runs[:, 2] != 1).any():
        raise VerificationError("its pictures are described in several ways")
    if not count:
        return runs[:, 1]
    ends = np.append(runs[1:, 0] - 1, chunks)
    return np.repeat(runs[:, 1], ends - (runs[:, 0] - 1))


def _sample_sizes(table: bytes) -> np.ndarray | int:
    """The bytes of each sample, or of all of them (8.7.3.2)."""
    (same,) = struct.unpack_from(">I", table, _FULL)
    if same:
        return int(same)
    (count,) = struct.unpack_from(">I", table, _FULL + 4)
    return np.frombuffer(table, ">u4", count, _FULL + 8).astype(np.int64)


def _seconds(header: bytes) -> Fraction:
    """How long a track is by its header (8.4.2)."""
    form, after = (">IQ", 16) if header[HEADER_BYTES] else (">II", 8)
    scale, length = struct.unpack_from(form, header, _FULL + after)
    return Fraction(length, scale) if scale else Fraction(0)


def _with_places(index: bytes, tracks: list[_Track], places: np.ndarray, form: str) -> bytes:
    """The index with the places of everything. form: of a place, 32 or 64 bits."""
    left = iter(tracks)
    taken = 0

    def changed(child: bytes) -> bytes:
        nonlocal taken
        if kind_of(child) != b"trak":
            return child
        track = next(left)
        own = places[taken : taken + len(track.starts)]
        taken += len(own)
        return _in(child, _TABLES, lambda tables: _with_tables(tables, track, own.astype(form)))

    return new_box(b"moov", *map(changed, children(index)))


def _in(parent: bytes, path: tuple[bytes, ...], change: Callable[[bytes], bytes]) -> bytes:
    if not path:
        return change(parent)
    return replaced(parent, path[0], lambda child: _in(child, path[1:], change))


def _with_tables(tables: bytes, track: _Track, places: np.ndarray) -> bytes:
    def changed() -> Iterator[bytes]:
        for child in children(tables):
            match kind_of(child):
                case b"stco" | b"co64":
                    kind = b"co64" if places.itemsize == 8 else b"stco"
                    yield new_box(kind, bytes(4), struct.pack(">I", len(places)), places.tobytes())
                case b"stsc" if track.is_picture:
                    yield new_box(b"stsc", bytes(4), struct.pack(">4I", 1, 1, 1, 1))
                case b"stsz" if track.is_picture:
                    count = struct.pack(">2I", 0, len(track.lengths))
                    yield new_box(b"stsz", bytes(4), count, track.lengths.astype(">u4").tobytes())
                case b"stsd" if track.is_picture and track.seconds:
                    yield _with_bit_rate(child, int(int(track.lengths.sum()) * 8 / track.seconds))
                case _:
                    yield child

    return new_box(b"stbl", *changed())


def _with_bit_rate(descriptions: bytes, rate: int) -> bytes:
    """The description of pictures with a bit rate where it tells one (8.5.2.2)."""
    changed = bytearray(descriptions)
    entry = _FULL + 4
    for found in boxes(descriptions, entry + _BEFORE_BOXES_OF_PICTURE, len(descriptions)):
        if found.kind == b"btrt":
            (_, most, _) = struct.unpack_from(">3I", descriptions, found.body)
            struct.pack_into(">2I", changed, found.body + 4, max(most, rate), rate)
    return bytes(changed)
