"""The metadata of broadcast wave files: the bext chunk (EBU Tech 3285) and the iXML chunk."""

from __future__ import annotations

import struct
from collections.abc import Iterator
from fractions import Fraction
from pathlib import Path
from typing import TYPE_CHECKING, BinaryIO

from boxkite.core.metadata.value import MetadataValue

if TYPE_CHECKING:
    from xml.etree.ElementTree import Element

_MOST_CHUNKS = 1000
_MOST_BYTES = 4 * 1024 * 1024
_WORDS = {
    "TAPE": "reel",
    "CIRCLED": "circled",
    "NOTE": "note",
    "SCENE": "scene",
    "TAKE": "take",
    "PROJECT": "project",
}
_SKIPPED = frozenset({"BEXT", "TRACK_LIST", "SYNC_POINT_LIST", "HISTORY", "FILE_SET"})


def read_wave(path: Path) -> list[MetadataValue]:
    """Facts of a RIFF, RF64 or BW64 WAV file; none for any other file, damaged chunks skipped."""
    metadata: list[MetadataValue] = []
    sample_rate = 0
    try:
        with path.open("rb") as file:
            for kind, content in _chunks(file, path.stat().st_size):
                if kind == b"fmt " and len(content) >= 8:
                    sample_rate = struct.unpack_from("<I", content, 4)[0]
                elif kind == b"bext":
                    metadata += _bext(content, sample_rate)
                elif kind == b"iXML":
                    metadata += _ixml(content)
    except OSError:
        return []
    return metadata


def _chunks(file: BinaryIO, size: int) -> Iterator[tuple[bytes, bytes]]:
    head = file.read(12)
    if head[:4] not in (b"RIFF", b"RF64", b"BW64") or head[8:] != b"WAVE":
        return
    start = 12
    for _ in range(_MOST_CHUNKS):
        file.seek(start)
        head = file.read(8)
        if len(head) < 8:
            return
        kind, length = struct.unpack("<4sI", head)
        if kind in (b"fmt ", b"bext", b"iXML") and length <= _MOST_BYTES:
            yield kind, file.read(length)
        if kind == b"data" and length == 0xFFFFFFFF:
            return  # of a length that only the ds64 chunk knows; what matters stands before it
        start += 8 + length + length % 2
        if start >= size:
            return


def _text(data: bytes) -> str:
    return data.split(b"\0")[0].decode("utf-8", "replace").strip()


def _bext(data: bytes, sample_rate: int) -> list[MetadataValue]:
    if len(data) < 346:
        return []
    fields = {
        "description": _text(data[:256]),
        "originator": _text(data[256:288]),
        "originator reference": _text(data[288:320]),
        "recorded": f"{_text(data[320:330])} {_text(data[330:338])}".strip(),
    }
    low, high = struct.unpack_from("<II", data, 338)
    since_midnight = low + (high << 32)
    if since_midnight and sample_rate:
        seconds = Fraction(since_midnight, sample_rate)
        whole = int(seconds) % 86_400
        fields["starts at"] = (
            f"{whole // 3600:02d}:{whole // 60 % 60:02d}:{whole % 60:02d}"
            f".{int((seconds - int(seconds)) * 1000):03d}"
        )
    metadata = [MetadataValue(name, value, "bext chunk") for name, value in fields.items()]
    for line in fields["description"].splitlines():  # recorders note key=value pairs there
        key, separator, value = line.partition("=")
        word = _WORDS.get(key.strip().lstrip("sz").upper())
        if separator and word:
            metadata.append(MetadataValue(word, value.strip(), "bext chunk"))
    return metadata


def _ixml(data: bytes) -> list[MetadataValue]:
    from defusedxml import DefusedXmlException
    from defusedxml.ElementTree import ParseError, fromstring

    try:
        root = fromstring(data.rstrip(b"\0 \r\n"))
    except (ParseError, DefusedXmlException, ValueError, LookupError):
        return []
    return [entry for child in root for entry in _ixml_facts(child)]


def _ixml_facts(element: Element) -> Iterator[MetadataValue]:
    if element.tag in _SKIPPED or len(element):
        return
    name = _WORDS.get(str(element.tag), str(element.tag).lower().replace("_", " "))
    value = (element.text or "").strip()
    if name == "circled":
        value = "yes" if value.upper() == "TRUE" else ""
    yield MetadataValue(name, value, "iXML chunk")
