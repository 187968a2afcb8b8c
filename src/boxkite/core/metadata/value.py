"""A value with where it comes from, and metadata from several places put together."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from msgspec import Struct, field


class MetadataValue(Struct, frozen=True):
    """One value under one name."""

    name: str
    value: str
    origin: str
    """As "slates.csv:3", "A-vat2.xmp", "iXML chunk", "container"."""


class KnownMetadata(Struct, frozen=True):
    """The metadata of one source: by name the value that counts, and those it overrides."""

    held: Mapping[str, MetadataValue] = field(default_factory=dict)
    lost: Mapping[str, tuple[MetadataValue, ...]] = field(default_factory=dict)

    @property
    def values(self) -> dict[str, str]:
        """The values that hold, by name."""
        return {name: entry.value for name, entry in self.held.items()}


def put_together(metadata: Iterable[MetadataValue]) -> KnownMetadata:
    """Facts in the order of their weight as one: of each name, case ignored, the first that has a value holds."""
    held: dict[str, MetadataValue] = {}
    lost: dict[str, list[MetadataValue]] = {}
    names: dict[str, str] = {}
    for entry in metadata:
        if not entry.value:
            continue
        name = names.setdefault(entry.name.casefold(), entry.name)
        if name not in held:
            held[name] = entry
        elif entry.origin != held[name].origin:
            lost.setdefault(name, []).append(entry)
    return KnownMetadata(held, {name: tuple(others) for name, others in lost.items()})
