"""Values of a catalogue written into MOV and MP4 files: the index is rewritten, frames and audio stay as they are.

MP4: the item list of moov/udta/meta, which every player reads. MOV: keys and item list of a meta atom (QuickTime File
Format, “Metadata”). Chunk offsets (ISO/IEC 14496-12, 8.7.5) follow where the index stands before the media.
"""

from __future__ import annotations

import os
import struct
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import BinaryIO

from boxkite.core.errors import RequestError
from boxkite.core.files.boxes import Box, BrokenBoxesError, boxes, boxes_of_file, child_of, new_box, replaced

_MP4_ITEMS = {"title": b"\xa9nam", "description": b"desc", "keywords": b"keyw", "creator": b"\xa9ART",
              "rights": b"cprt", "date": b"\xa9day"}  # fmt: skip
_MOV_KEYS = {"title": "title", "description": "description", "keywords": "keywords", "creator": "author",
             "rights": "copyright", "date": "creationdate", "location": "location.name", "scene": "scene"}  # fmt: skip
_MOV_PREFIX = "com.apple.quicktime."
_PARENTS = (b"moov", b"trak", b"mdia", b"minf", b"stbl")
_MOST_INDEX_BYTES = 1 << 28
_AT_A_TIME = 1 << 20
SUFFIXES = (".mov", ".mp4", ".m4v", ".m4a")


def takes_values(path: Path) -> bool:
    """Whether values are embedded into such a file."""
    return path.suffix.lower() in SUFFIXES and path.is_file()


def embedded(path: Path, target: BinaryIO, values: Mapping[str, str]) -> bool:
    """Write a file with values embedded; False where it has them already, and then nothing was written.

    values: by columns.EMBEDDED. Raises RequestError for a file whose index cannot be rewritten, OSError.
    """
    with path.open("rb") as source:
        top = _top_boxes(source, path)
        moov = next((box for box in top if box.kind == b"moov"), None)
        if moov is None or any(box.kind == b"moof" for box in top):
            raise RequestError("its index cannot be rewritten", path=path, hint="the sidecar has the values")
        if moov.end - moov.start > _MOST_INDEX_BYTES:
            raise RequestError("its index is too large", path=path)
        source.seek(moov.start)
        old = source.read(moov.end - moov.start)
        is_mov = _is_mov(source, top)
        new = _with_values(old, values, is_mov=is_mov)
        if new == old:
            return False
        grown = len(new) - len(old)
        after = next((box for box in top if box.start == moov.end), None)
        room = 0
        if after and after.kind in (b"free", b"skip") and (after.end - after.start) - grown >= 8:
            room = after.end - after.start - grown
            new += struct.pack(">I4s", room, after.kind) + bytes(room - 8)
        elif any(box.kind == b"mdat" and box.start > moov.start for box in top):
            new = _with_offsets(new, grown, moov.start, path)
        _copy(source, target, 0, moov.start)
        target.write(new)
        _copy(source, target, after.end if room and after else moov.end, os.fstat(source.fileno()).st_size)
    return True


def _top_boxes(file: BinaryIO, path: Path) -> list[Box]:
    try:
        return list(boxes_of_file(file))
    except BrokenBoxesError:
        raise RequestError("its boxes are broken", path=path) from None


def _is_mov(file: BinaryIO, top: list[Box]) -> bool:
    """Whether a file says that it is a MOV; one without any brand is."""
    brand = next((box for box in top if box.kind == b"ftyp"), None)
    if brand is None:
        return True
    file.seek(brand.body)
    return file.read(4) == b"qt  "


def _with_values(moov: bytes, values: Mapping[str, str], *, is_mov: bool) -> bytes:
    if is_mov:
        named = {
            f"{_MOV_PREFIX}{_MOV_KEYS[kind]}": text for kind, text in values.items() if kind in _MOV_KEYS
        }
        if b"mdta" in child_of(child_of(moov, b"udta"), b"meta")[:48]:  # as the codec library writes it
            return replaced(
                moov, b"udta", lambda udta: replaced(udta, b"meta", lambda old: _mov_meta(old, named))
            )
        return replaced(moov, b"meta", lambda old: _mov_meta(old, named))
    items = {_MP4_ITEMS[kind]: text for kind, text in values.items() if kind in _MP4_ITEMS}

    def with_items(udta: bytes) -> bytes:
        return replaced(udta or new_box(b"udta"), b"meta", lambda old: _mp4_meta(old, items))

    return replaced(moov, b"udta", with_items)


def _mp4_meta(old: bytes, items: Mapping[bytes, str]) -> bytes:
    kept = []
    others = [new_box(b"hdlr", bytes(8), b"mdirappl", bytes(9))]
    if old:
        inside = list(boxes(old, 12, len(old)))
        others = [old[box.start : box.end] for box in inside if box.kind not in (b"ilst", b"free")] or others
        for lists in (box for box in inside if box.kind == b"ilst"):
            kept += [
                old[box.start : box.end] for box in boxes(old, lists.body, lists.end) if box.kind not in items
            ]
    own = [new_box(kind, _data(text)) for kind, text in sorted(items.items())]
    return new_box(b"meta", bytes(4), *others, new_box(b"ilst", *kept, *own))


def _mov_meta(old: bytes, named: Mapping[str, str]) -> bytes:
    known: dict[str, bytes] = {}
    begin = 12 if old[16:20] == b"hdlr" else 8  # some write it with a version, as ISO files do
    if old:
        inside = {box.kind: box for box in boxes(old, begin, len(old))}
        if b"keys" in inside and b"ilst" in inside:
            names = _keys(old, inside[b"keys"])
            for box in boxes(old, inside[b"ilst"].body, inside[b"ilst"].end):
                number = int.from_bytes(box.kind, "big")
                if 1 <= number <= len(names):
                    known[names[number - 1]] = old[box.body : box.end]
    known |= {name: _data(text) for name, text in named.items()}
    handler = new_box(b"hdlr", bytes(8), b"mdta", bytes(13))
    keys = [new_box(b"mdta", name.encode("utf-8", "surrogateescape")) for name in known]
    items = [
        new_box(number.to_bytes(4, "big"), content) for number, content in enumerate(known.values(), start=1)
    ]
    return new_box(
        b"meta",
        handler,
        new_box(b"keys", bytes(4), struct.pack(">I", len(keys)), *keys),
        new_box(b"ilst", *items),
    )


def _keys(data: bytes, box: Box) -> list[str]:
    return [
        data[one.body : one.end].decode("utf-8", "surrogateescape")
        for one in boxes(data, box.body + 8, box.end)
    ]


def _data(text: str) -> bytes:
    """A value in UTF-8."""
    return new_box(b"data", struct.pack(">II", 1, 0), text.encode("utf-8", "replace"))


def _with_offsets(moov: bytes, grown: int, after: int, path: Path) -> bytes:
    """The index with every chunk after it further on. Raises RequestError where 32 bits do not hold that."""
    changed = bytearray(moov)
    for box in _tables(moov, 8, len(moov)):
        (count,) = struct.unpack_from(">I", moov, box.body + 4)
        kind = ">I" if box.kind == b"stco" else ">Q"
        width = struct.calcsize(kind)
        if box.body + 8 + count * width > box.end:
            raise RequestError("its index is broken", path=path)
        for place in range(box.body + 8, box.body + 8 + count * width, width):
            (offset,) = struct.unpack_from(kind, moov, place)
            if offset <= after:
                continue
            if width == 4 and offset + grown >= 1 << 32:
                raise RequestError(
                    "its index has no room for that", path=path, hint="the sidecar has the values"
                )
            struct.pack_into(kind, changed, place, offset + grown)
    return bytes(changed)


def _tables(data: bytes, start: int, end: int) -> Iterator[Box]:
    """The tables of chunk offsets of all tracks."""
    for box in boxes(data, start, end):
        if box.kind in (b"stco", b"co64"):
            yield box
        elif box.kind in _PARENTS:
            yield from _tables(data, box.body, box.end)


def _copy(source: BinaryIO, target: BinaryIO, start: int, end: int) -> None:
    source.seek(start)
    left = end - start
    while left > 0:
        part = source.read(min(left, _AT_A_TIME))
        if not part:
            raise OSError(5, "the file ends before its end")
        target.write(part)
        left -= len(part)
