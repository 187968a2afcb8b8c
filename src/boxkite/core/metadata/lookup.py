"""All that is known of sources, from every place, in the order of its weight."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from boxkite.core.errors import MarksError
from boxkite.core.footage.source import Source
from boxkite.core.metadata.joining import join_table
from boxkite.core.metadata.value import KnownMetadata, MetadataValue, put_together
from boxkite.core.metadata.wave import read_wave
from boxkite.core.metadata.xmp import read_sidecar, sidecar_of
from boxkite.core.notices.footage import FILE_SKIPPED
from boxkite.core.notices.notice import Notice


def know(
    sources: Sequence[Source], tables: Sequence[Path], match_by: str | None = None
) -> tuple[dict[Path, KnownMetadata], list[Notice]]:
    """The metadata of each source, by path, and notices of tables and sidecars.

    Tables go first, in the order they were named; then the sidecar beside the file, the chunks of a WAV file, and
    the container. Raises MarksError for a table that cannot be read; of a sidecar that cannot be there is a notice.
    """
    notices: list[Notice] = []
    joined = []
    for path in tables:
        table = join_table(path, sources, match_by)
        joined.append(table)
        notices += table.notices()
    known = {}
    for source in sources:
        metadata = [entry for table in joined for entry in table.metadata.get(source.path, ())]
        metadata += _beside(source, notices)
        known[source.path] = put_together([*metadata, *_in_container(source)])
    return known, notices


def _beside(source: Source, notices: list[Notice]) -> list[MetadataValue]:
    metadata: list[MetadataValue] = []
    sidecar = None if source.sequence else sidecar_of(source.path)
    if sidecar:
        try:
            metadata += read_sidecar(sidecar)
        except MarksError as error:
            notices.append(FILE_SKIPPED(reason=error.text))
    if source.path.suffix.lower() in (".wav", ".bwf", ".w64", ".rf64"):
        metadata += read_wave(source.path)
    return metadata


def _in_container(source: Source) -> list[MetadataValue]:
    """The container's metadata, with our own name for the reel first."""
    own = [MetadataValue("reel", source.reel, "container")] if source.reel else []
    return own + [
        MetadataValue(key.removeprefix(_MOV_KEY), value.strip(), "container")
        for key, value in source.metadata.items()
        if key not in _DULL
    ]


_MOV_KEY = "com.apple.quicktime."
"""Prefix of MOV metadata keys."""
_DULL = frozenset({"major_brand", "minor_version", "compatible_brands", "encoder", "MAJOR_BRAND", "ENCODER"})
"""Keys that speak of how the file was written, not of what it shows."""
