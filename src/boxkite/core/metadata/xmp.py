"""XMP sidecars (the packet by ISO 16684-1): the properties of one packet by their plain names."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING

from boxkite.core.errors import MarksError
from boxkite.core.files.reading import is_file
from boxkite.core.files.text import read_text
from boxkite.core.marks.ranges import YES
from boxkite.core.metadata.value import MetadataValue

if TYPE_CHECKING:
    from xml.etree.ElementTree import Element

MOST_BYTES = 8 * 1024 * 1024
_RDF = "{http://www.w3.org/1999/02/22-rdf-syntax-ns#}"
_WORDS = {
    "shotName": "shot",
    "takeNumber": "take",
    "tapeName": "reel",
    "good": "circled",
    "logComment": "note",
    "subject": "keywords",
    "cameraLabel": "camera",
}
"""Our words for properties of Dublin Core and of the dynamic media schema, which its vendor publishes beyond the
standard; others keep their own name."""
_MOST_PROPERTIES = 2000


def sidecar_of(path: Path) -> Path | None:
    """The sidecar beside a media file: clip.mov.xmp or clip.xmp."""
    for candidate in (path.with_name(f"{path.name}.xmp"), path.with_suffix(".xmp"), path.with_suffix(".XMP")):
        if is_file(candidate) and candidate != path:
            return candidate
    return None


def read_sidecar(path: Path) -> list[MetadataValue]:
    """The properties of a sidecar that are plain text or lists of it. Raises MarksError for what is no XMP."""
    from defusedxml import DefusedXmlException
    from defusedxml.ElementTree import ParseError, fromstring

    text = read_text(path, most_bytes=MOST_BYTES)
    try:
        root = fromstring(text.encode("utf-8", "replace") if text.lstrip().startswith("<?xml") else text)
    except ParseError as error:
        line = error.position[0]
        raise MarksError("this is not XML", path=path, line=line) from None
    except (DefusedXmlException, ValueError, LookupError) as error:
        raise MarksError(f"it cannot be read: {type(error).__name__}", path=path) from None
    metadata: list[MetadataValue] = []
    for description in root.iter(f"{_RDF}Description"):
        for name, value in _properties(description):
            if value and len(metadata) < _MOST_PROPERTIES:
                word = _WORDS.get(name, name)
                good = "yes" if value.casefold() in YES else "no"
                metadata.append(MetadataValue(word, good if word == "circled" else value, path.name))
    if not metadata:
        raise MarksError("there is no XMP property in it", path=path)
    return metadata


def _properties(description: Element) -> Iterator[tuple[str, str]]:
    """(local name, value) of attributes and elements; lists are joined by commas, structures skipped."""
    for key, value in description.attrib.items():
        if not key.startswith(_RDF):
            yield _local(key), value.strip()
    for child in description:
        items = [(item.text or "").strip() for item in child.iter(f"{_RDF}li")]
        if items:
            yield _local(child.tag), ", ".join(item for item in items if item)
        elif len(child) == 0:
            yield _local(child.tag), (child.text or "").strip()


def _local(name: object) -> str:
    return str(name).rpartition("}")[2]
