"""What each token stands for, for one shot and one output."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence

from boxkite.core.job.job import Job
from boxkite.core.naming.tokens import TABLE_TOKENS, TOKENS
from boxkite.core.naming.values import SUBFOLDER, Counter, Date, Number, Text, Tick, Value
from boxkite.core.presets.geometry import Geometry
from boxkite.core.presets.model import Preset
from boxkite.core.shots.shot import EditPlace, Shot
from boxkite.core.timebase import Timecode

FACT_PREFIX = "metadata."
"""Before a column's name where a token of the same name would hide it."""


OUTPUT_TOKENS = ("resolution", "codec", "preset")
"""Tokens that depend on what a shot is made into."""


def known_tokens(shots: Sequence[Shot]) -> set[str]:
    """Every token a pattern may use for these shots: the fixed ones, and the columns of their tables."""
    columns = set().union(*{tuple(shot.facts) for shot in shots})
    return set(TOKENS) | columns | {FACT_PREFIX + column for column in columns}


class LazyValues(Mapping[str, Value]):
    """Values by token name, each worked out when it is asked for: a pattern names few of them."""

    __slots__ = ("_count", "_makers", "_shot")

    def __init__(self, executor: Mapping[str, Callable[[Shot], Value]], shot: Shot, count: Counter) -> None:
        self._makers = executor
        self._shot = shot
        self._count = count

    def __getitem__(self, name: str) -> Value:
        if maker := self._makers.get(name):
            return maker(self._shot)
        if name == "count":
            return self._count
        facts = self._shot.facts
        column = name.removeprefix(FACT_PREFIX)
        if column in facts:
            return Text(facts[column])
        raise KeyError(name)

    def __contains__(self, name: object) -> bool:
        known = name in self._makers or name == "count"
        return known or str(name).removeprefix(FACT_PREFIX) in self._shot.facts

    def __iter__(self) -> Iterator[str]:
        yield from self._makers
        yield "count"
        for column in self._shot.facts:
            yield from (column, FACT_PREFIX + column)

    def __len__(self) -> int:
        return sum(1 for _ in self)


class ShotValues:
    """The values of each shot of a plan, whatever it is made into."""

    def __init__(
        self,
        job: Job,
        shots: Sequence[Shot],
        *,
        version: int | None = None,
        subfolder_of: Callable[[Shot, int], str] | None = None,
    ) -> None:
        """version: of the whole plan, where it is known. subfolder_of: what counters per subfolder go by."""
        self._shots = shots
        self._subfolder_of = subfolder_of
        self._places: dict[str, list[int]] = {}
        self._makers: dict[str, Callable[[Shot], Value]] = {
            **_MAKERS,
            "total": lambda _: Number(len(shots)),
            "version": lambda _: Text("") if version is None else Number(version),
            "date": lambda _: Date(job.now),
            "time": lambda _: Date(job.now, usual="hh-mm-ss"),
            "user": lambda _: Text(job.user),
        }

    def of(self, shot: Shot, index: int) -> LazyValues:
        """The values of the shot at a place in the plan, counted from 0."""
        return LazyValues(self._makers, shot, Counter(index, lambda word: self._place(index, word)))

    def _place(self, index: int, word: str) -> int:
        """Its place among the shots that share what the word names. Raises KeyError for no such word."""
        if word not in self._places:
            counts: dict[str, int] = {}
            places = []
            group_of = self._subfolder_of if word == SUBFOLDER else self._by_token(word)
            if group_of is None:
                raise KeyError(word)
            for number, shot in enumerate(self._shots):
                group = group_of(shot, number)
                places.append(counts.setdefault(group, 0))
                counts[group] += 1
            self._places[word] = places
        return self._places[word][index]

    def _by_token(self, word: str) -> Callable[[Shot, int], str]:
        name = next((one for one in known_tokens(self._shots) if one.casefold() == word.casefold()), None)
        if name is None or name in ("count", *OUTPUT_TOKENS):
            raise KeyError(word)
        empty = Text("")
        return lambda shot, number: self.of(shot, number).get(name, empty).shown()


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
    "in": lambda shot: Tick(shot.span.start, shot.reel.timecode(shot.span.start)),
    "out": lambda shot: Tick(shot.span.end, shot.reel.timecode(shot.span.end)),
    "length": lambda shot: Tick(shot.span.length, Timecode(shot.span.length, shot.reel.table.rate)),
    "rate": lambda shot: Text(str(shot.reel.table.rate).replace("/", "-")),
    "timeline": lambda shot: _of_place(shot, lambda place: Text(place.timeline)),
    "track": lambda shot: _of_place(shot, lambda place: Text(place.track)),
    "event": lambda shot: _of_place(shot, lambda place: Text(place.event)),
    "record": lambda shot: _of_place(shot, lambda place: Tick(place.record.start, place.record_in)),
    "reel": lambda shot: Text(_fact(shot, "reel") or shot.reel.source.reel),
    "created": lambda shot: Date(shot.reel.source.created) if shot.reel.source.created else Text(""),
    "keyword": _from_table("keyword", lambda shot: shot.keywords[0] if shot.keywords else ""),
    "keywords": _from_table("keywords", lambda shot: "-".join(shot.keywords)),
    "note": _from_table("note", lambda shot: shot.note),
}


def output_values(preset: Preset, geometry: Geometry | None, source_codec: str) -> dict[str, Value]:
    """Values that depend on the output. source_codec: of the picture, which a copy keeps."""
    codec = source_codec if preset.copy else preset.video.codec if preset.video else ""
    return {
        "resolution": Text(geometry.size if geometry else ""),
        "codec": Text(codec),
        "preset": Text(preset.name),
    }
