"""What each token stands for, for one shot and one output."""

from __future__ import annotations

from collections.abc import Mapping

from boxkite.core.naming.tokens import TABLE_TOKENS, TOKENS
from boxkite.core.naming.values import Date, Moment, Number, Text, Value
from boxkite.core.plan.job import Job
from boxkite.core.presets.geometry import Geometry
from boxkite.core.presets.model import Preset
from boxkite.core.shots.shot import Shot
from boxkite.core.timebase import Timecode

FACT_PREFIX = "metadata."
"""Before a column's name where a token of the same name would hide it."""


def known_tokens(shots: tuple[Shot, ...]) -> set[str]:
    """Every token a pattern may use for these shots: the fixed ones, and the columns of their tables."""
    columns = {column for shot in shots for column in shot.facts}
    return set(TOKENS) | columns | {FACT_PREFIX + column for column in columns}


def shot_values(shot: Shot, index: int, total: int, facts: Mapping[str, str], job: Job) -> dict[str, Value]:
    """Values that hold for the shot whatever it is made into. index counts shots from 0."""
    reel, source = shot.reel, shot.reel.source
    all_facts = {**facts, **shot.facts}
    folded = {column.casefold(): value for column, value in all_facts.items()}
    values: dict[str, Value] = {FACT_PREFIX + column: Text(value) for column, value in all_facts.items()}
    values |= {column: Text(value) for column, value in all_facts.items()}
    values |= {name: Text(folded.get(name, "")) for name in TABLE_TOKENS}
    length = Timecode(shot.span.length, reel.table.rate)
    values |= {
        "marker": Text(shot.marker),
        "clip": Text(shot.clip_name),
        "file": Text(source.path.name),
        "folder": Text(source.path.absolute().parent.name),
        "colour": Text(shot.colour),
        "count": Number(index, counts=True),
        "total": Number(total),
        "in": Moment(shot.span.start, reel.timecode(shot.span.start)),
        "out": Moment(shot.span.end, reel.timecode(shot.span.end)),
        "length": Moment(shot.span.length, length),
        "rate": Text(str(reel.table.rate).replace("/", "-")),
        "date": Date(job.now),
        "time": Date(job.now, usual="hh-mm-ss"),
        "user": Text(job.user),
    }
    place = shot.edited
    values |= {
        "timeline": Text(place.timeline if place else ""),
        "track": Text(place.track if place else ""),
        "event": Text(place.event if place else ""),
        "record": Moment(place.record.start, place.record_in) if place else Text(""),
    }
    if source.reel:
        values["reel"] = Text(source.reel)
    if shot.keywords:
        values["keyword"] = Text(shot.keywords[0])
        values["keywords"] = Text("-".join(shot.keywords))
    if shot.note:
        values["note"] = Text(shot.note)
    return values


def output_values(preset: Preset, geometry: Geometry) -> dict[str, Value]:
    """Values that depend on the output."""
    return {
        "resolution": Text(geometry.size),
        "codec": Text(preset.video.codec),
        "preset": Text(preset.name),
    }
