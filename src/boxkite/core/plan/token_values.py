"""What each token stands for, for one shot and one output."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping

from boxkite.core.naming.tokens import TABLE_TOKENS, TOKENS
from boxkite.core.naming.values import Date, Moment, Number, Text, Value
from boxkite.core.plan.job import Job
from boxkite.core.presets.geometry import Geometry
from boxkite.core.presets.model import Preset
from boxkite.core.shots.shot import EditPlace, Shot
from boxkite.core.timebase import Timecode

FACT_PREFIX = "metadata."
"""Before a column's name where a token of the same name would hide it."""


def known_tokens(shots: tuple[Shot, ...]) -> set[str]:
    """Every token a pattern may use for these shots: the fixed ones, and the columns of their tables."""
    columns = set().union(*{tuple(shot.facts) for shot in shots})
    return set(TOKENS) | columns | {FACT_PREFIX + column for column in columns}


class LazyValues(Mapping[str, Value]):
    """Values by token name, each worked out when it is asked for: a pattern names few of them."""

    def __init__(self, makers: Mapping[str, Callable[[Shot], Value]], shot: Shot) -> None:
        self._makers = makers
        self._shot = shot

    def __getitem__(self, name: str) -> Value:
        if name in self._makers:
            return self._makers[name](self._shot)
        facts = self._shot.facts
        column = name.removeprefix(FACT_PREFIX)
        if column in facts:
            return Text(facts[column])
        raise KeyError(name)

    def __contains__(self, name: object) -> bool:
        return name in self._makers or str(name).removeprefix(FACT_PREFIX) in self._shot.facts

    def __iter__(self) -> Iterator[str]:
        yield from self._makers
        for column in self._shot.facts:
            yield from (column, FACT_PREFIX + column)

    def __len__(self) -> int:
        return sum(1 for _ in self)


def values_for(job: Job, total: int) -> Callable[[Shot, int], Mapping[str, Value]]:
    """What gives the values of a shot, whatever it is made into, by its place among `total`, counted from 0."""

    def values(shot: Shot, index: int) -> Mapping[str, Value]:
        own: dict[str, Callable[[Shot], Value]] = {
            **_MAKERS,
            **of_job,
            "count": lambda _: Number(index, counts=True),
        }
        return LazyValues(own, shot)

    of_job: dict[str, Callable[[Shot], Value]] = {
        "total": lambda _: Number(total),
        "date": lambda _: Date(job.now),
        "time": lambda _: Date(job.now, usual="hh-mm-ss"),
        "user": lambda _: Text(job.user),
    }
    return values


def _from_table(name: str, own: Callable[[Shot], str] = lambda _: "") -> Callable[[Shot], Value]:
    """A token that the shot itself fills where it can, else a column of that name."""

    def value(shot: Shot) -> Value:
        return Text(own(shot) or _fact(shot, name))

    return value


def _fact(shot: Shot, name: str) -> str:
    """The column of that name, case ignored."""
    if name in shot.facts:
        return shot.facts[name]
    return next((text for column, text in shot.facts.items() if column.casefold() == name), "")


def _of_place(shot: Shot, value: Callable[[EditPlace], Value]) -> Value:
    return value(shot.edited) if shot.edited else Text("")


_MAKERS: dict[str, Callable[[Shot], Value]] = {
    **{name: _from_table(name) for name in TABLE_TOKENS},
    "marker": lambda shot: Text(shot.marker),
    "clip": lambda shot: Text(shot.clip_name),
    "file": lambda shot: Text(shot.reel.source.path.name),
    "folder": lambda shot: Text(shot.reel.source.path.absolute().parent.name),
    "colour": lambda shot: Text(shot.colour),
    "in": lambda shot: Moment(shot.span.start, shot.reel.timecode(shot.span.start)),
    "out": lambda shot: Moment(shot.span.end, shot.reel.timecode(shot.span.end)),
    "length": lambda shot: Moment(shot.span.length, Timecode(shot.span.length, shot.reel.table.rate)),
    "rate": lambda shot: Text(str(shot.reel.table.rate).replace("/", "-")),
    "timeline": lambda shot: _of_place(shot, lambda place: Text(place.timeline)),
    "track": lambda shot: _of_place(shot, lambda place: Text(place.track)),
    "event": lambda shot: _of_place(shot, lambda place: Text(place.event)),
    "record": lambda shot: _of_place(shot, lambda place: Moment(place.record.start, place.record_in)),
    "reel": lambda shot: Text(_fact(shot, "reel") or shot.reel.source.reel),
    "created": lambda shot: Date(shot.reel.source.created) if shot.reel.source.created else Text(""),
    "keyword": _from_table("keyword", lambda shot: shot.keywords[0] if shot.keywords else ""),
    "keywords": _from_table("keywords", lambda shot: "-".join(shot.keywords)),
    "note": _from_table("note", lambda shot: shot.note),
}


def output_values(preset: Preset, geometry: Geometry) -> dict[str, Value]:
    """Values that depend on the output."""
    return {
        "resolution": Text(geometry.size),
        "codec": Text(preset.video.codec),
        "preset": Text(preset.name),
    }
