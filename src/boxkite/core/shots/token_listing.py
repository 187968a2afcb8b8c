"""Every token of one source: its value, where that comes from, and what lost to it."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec import Struct

from boxkite.core.footage.frame_index import FrameIndex
from boxkite.core.footage.source import Source
from boxkite.core.marks.ranges import split_keywords, value_under
from boxkite.core.metadata.value import KnownMetadata, MetadataValue
from boxkite.core.shots.placing import index_source
from boxkite.core.shots.shot import Shot
from boxkite.core.shots.tokens import TOKENS, NamingContext, ShotValues
from boxkite.core.timebase import FrameRate, Span


class TokenLine(Struct, frozen=True):
    """One token."""

    token: str
    value: str
    origin: str
    lost: tuple[MetadataValue, ...] = ()
    """Values of the same name from elsewhere, each with its origin."""


def list_tokens(source: Source, known: KnownMetadata, user: str = "") -> Sequence[TokenLine]:
    """All tokens a pattern may use for the whole of a source, our own first; empty ones have no origin."""
    metadata = known.values
    shot = whole_source(source, metadata)
    values = ShotValues([shot], NamingContext(user=user)).of(shot, 0)
    own_names = {name.casefold(): name for name in metadata}
    lines = []
    for name, token in TOKENS.items():
        if token.is_of_file:
            continue
        value = values[name].shown()
        fact_name = own_names.get("keywords" if name == "keyword" and "keyword" not in own_names else name)
        if value and fact_name and not token.origin:
            lines.append(TokenLine(name, value, known.held[fact_name].origin, known.lost.get(fact_name, ())))
        else:
            lines.append(TokenLine(name, value, token.origin if value else ""))
    shown = {line.token for line in lines}
    for name, entry in known.held.items():
        if name.casefold() not in shown:
            lines.append(TokenLine(name, entry.value, entry.origin, known.lost.get(name, ())))
    return lines


def whole_source(source: Source, metadata: dict[str, str]) -> Shot:
    """The source as a shot, its length as its container says."""
    rate = source.video.rate if source.video else FrameRate.parse("25")
    count = source.video.frame_count if source.video else rate.frames_in(source.duration)
    table = FrameIndex(rate, count, count, 0, 1 / rate.fraction, constant=True)
    keywords = split_keywords(value_under(metadata, "keywords"))
    return Shot(
        index_source(source, table, None), Span(0, count), metadata=metadata, keywords=keywords, way="files"
    )
