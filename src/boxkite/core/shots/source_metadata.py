"""What tables, logs and sidecars say of a source, given to its shots: metadata, keywords, good takes."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path

from msgspec import Struct
from msgspec.structs import replace

from boxkite.core.marks.ranges import YES, split_keywords, value_under
from boxkite.core.metadata.value import KnownMetadata
from boxkite.core.shots.shot import Shot

_BY_MARKS = ("markers", "ranges")


class _OfSource(Struct, frozen=True):
    values: Mapping[str, str]
    circled: bool
    keywords: tuple[str, ...]


def with_metadata(shots: Sequence[Shot], known: Mapping[Path, KnownMetadata]) -> list[Shot]:
    """The shots, each with the metadata of its source after its own. known: by path of the source.

    Keywords and good takes of the source are the shot's too. Where a list of marks has keywords itself, or circles,
    its shots have those alone.
    """
    of_sources = {path: _of_source(one.values) for path, one in known.items() if one.held}
    by_marks = [shot for shot in shots if shot.way in _BY_MARKS]
    has_circles, has_keywords = (
        any(shot.circled for shot in by_marks),
        any(shot.keywords for shot in by_marks),
    )
    found = []
    for shot in shots:
        if (of_source := of_sources.get(shot.footage.source.path)) is None:
            found.append(shot)
            continue
        circled, keywords = shot.circled, shot.keywords
        if not (has_circles and shot.way in _BY_MARKS):
            circled = circled or of_source.circled
        if not (has_keywords and shot.way in _BY_MARKS):
            keywords = tuple(dict.fromkeys([*keywords, *of_source.keywords]))
        metadata = {**of_source.values, **shot.metadata}
        found.append(replace(shot, metadata=metadata, circled=circled, keywords=keywords))
    return found


def _of_source(values: Mapping[str, str]) -> _OfSource:
    circled = value_under(values, "circled").casefold() in YES
    return _OfSource(values, circled, split_keywords(value_under(values, "keywords")))
