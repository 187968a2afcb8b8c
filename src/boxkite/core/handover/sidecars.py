"""XMP sidecars of finished files (ISO 16684-1), with the values of a catalogue by Dublin Core (ISO 15836-1)."""

from __future__ import annotations

from pathlib import Path
from xml.sax.saxutils import escape

from boxkite.core.handover.catalogue import CatalogueRow
from boxkite.core.handover.columns import ColumnMapping

_ALTERNATIVES = {"title": "title", "description": "description", "rights": "rights"}
_LISTS = {"keywords": ("subject", "Bag"), "creator": ("creator", "Seq"), "date": ("date", "Seq"),
          "location": ("coverage", "")}  # fmt: skip
_PACKET = """<?xpacket begin="\ufeff" id="W5M0MpCehiHzreSzNTczkc9d"?>
<x:xmpmeta xmlns:x="adobe:ns:meta/">
 <rdf:RDF xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#">
  <rdf:Description rdf:about="" xmlns:dc="http://purl.org/dc/elements/1.1/"
    xmlns:xmpDM="http://ns.adobe.com/xmp/1.0/DynamicMedia/">
{properties}
  </rdf:Description>
 </rdf:RDF>
</x:xmpmeta>
<?xpacket end="w"?>
"""


def sidecar_path(path: Path) -> Path:
    """The sidecar of a file: its whole name with .xmp after it."""
    return path.with_name(f"{path.name}.xmp")


def sidecar_bytes(mapping: ColumnMapping, row: CatalogueRow) -> bytes:
    """The packet with the columns that are to be embedded."""
    properties = []
    for column, cell in zip(mapping.columns, row.cells, strict=True):
        entries = [_plain(entry) for entry in cell if entry]
        if column.embed and entries:
            properties += _property(column.embed, entries)
    return _PACKET.format(properties="\n".join(properties)).encode("utf-8")


def _property(kind: str, entries: list[str]) -> list[str]:
    if kind in _ALTERNATIVES:
        text = "; ".join(entries)
        return [f'   <dc:{kind}><rdf:Alt><rdf:li xml:lang="x-default">{text}</rdf:li></rdf:Alt></dc:{kind}>']
    if kind in _LISTS:
        name, container = _LISTS[kind]
        if not container:
            return [f"   <dc:{name}>{'; '.join(entries)}</dc:{name}>"]
        items = "".join(f"<rdf:li>{entry}</rdf:li>" for entry in entries)
        return [f"   <dc:{name}><rdf:{container}>{items}</rdf:{container}></dc:{name}>"]
    return [f"   <xmpDM:{kind}>{'; '.join(entries)}</xmpDM:{kind}>"]


def _plain(text: str) -> str:
    """A text as XML holds it: characters that it cannot hold are left out."""
    kept = "".join(one for one in text if one in "\t\n\r" or (ord(one) >= 32 and not 0xD800 <= ord(one) <= 0xDFFF
                                                              and ord(one) not in (0xFFFE, 0xFFFF)))  # fmt: skip
    return escape(kept)
