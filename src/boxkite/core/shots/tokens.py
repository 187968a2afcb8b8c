"""The tokens of name patterns, each declared once: its name, its help, and what it stands for."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from datetime import datetime
from typing import Any

from msgspec import Struct, field
from msgspec.structs import replace

from boxkite.core.naming.values import SUBFOLDER, Counter, Date, FrameTime, Number, Text, Value
from boxkite.core.shots.shot import EditPlace, Shot
from boxkite.core.timebase import Timecode

COLUMN_PREFIX = "metadata."
"""Before a column's name where a token of the same name would hide it."""


class NamingContext(Struct, frozen=True):
    """The values of names that do not come from the shot."""

    now: datetime = field(default_factory=datetime.now)
    """When the plan was asked for."""
    user: str = ""
    """Who asked for it."""
    version: int | None = None
    """The version of the plan; None where its names bear none, or it is not yet known."""
    total: int = 0
    """How many shots there are."""


class OutputFacts(Struct, frozen=True):
    """The values of names that depend on the output."""

    preset: str
    size: str
    """Width and height after scaling, as 1920x1080; empty without a picture."""
    codec: str


class Token(Struct, frozen=True):
    """A token of name patterns."""

    name: str
    help: str
    """Its meaning, in one line."""
    of_shot: Callable[[Shot, NamingContext], Value] | None = None
    """Its value for a shot; None where only the place in the plan or the output tells."""
    of_output: Callable[[OutputFacts], Value] | None = None
    """Its value for an output; None where it does not depend on that."""
    origin: str = ""
    """Where its value comes from, in a word; empty for what a table may say."""
    is_of_file: bool = False
    """Whether only a file that is made has it."""


def _own(value: Callable[[Shot], str]) -> Callable[[Shot, NamingContext], Value]:
    """A text that only the shot itself fills."""
    return lambda shot, _: Text(value(shot))


def _column(name: str, own: Callable[[Shot], str] = lambda _: "") -> Callable[[Shot, NamingContext], Value]:
    """A text that the shot itself fills where it can, else a column of that name."""
    return lambda shot, _: Text(own(shot) or _metadata(shot, name))


def _place(value: Callable[[EditPlace], Value]) -> Callable[[Shot, NamingContext], Value]:
    """A value of the shot's place in an edit; empty where it comes of none."""
    return lambda shot, _: value(shot.edited) if shot.edited else Text("")


def _metadata(shot: Shot, name: str) -> str:
    """The column of that name, case ignored."""
    if name in shot.metadata:
        return shot.metadata[name]
    return next((text for column, text in shot.metadata.items() if column.casefold() == name), "")


def _frame(frame: Callable[[Shot], int]) -> Callable[[Shot, NamingContext], Value]:
    return lambda shot, _: FrameTime(frame(shot), shot.footage.timecode(frame(shot)))


_DECLARED = (
    Token("marker", "name of the marker, range or chapter the shot was made from; unlike clip, it differs shot by shot",
          _own(lambda shot: shot.marker)),
    Token("clip", "name of the clip in the edit, else of the source, without its extension; of a sequence, without"
          " number", _own(lambda shot: shot.clip_name), origin="file name"),
    Token("file", "file name of the source with its extension; clip is the same without",
          _own(lambda shot: shot.footage.source.path.name), origin="file name"),
    Token("folder", "name of the folder the source is in, not the one the file goes to",
          _own(lambda shot: shot.footage.source.path.absolute().parent.name), origin="path"),
    Token("reel", "reel of the source, from a table, a sidecar, the edit or the container",
          lambda shot, _: Text(_metadata(shot, "reel") or shot.footage.source.reel)),
    Token("scene", "scene, from a table, a sidecar or the edit", _column("scene")),
    Token("shot", "shot as slated (3b), from a table or a sidecar; count is the number in the plan", _column("shot")),
    Token("take", "take, from a table, a sidecar or the edit", _column("take")),
    Token("camera", "camera, from a table or a sidecar", _column("camera")),
    Token("created", "when the source was made, as its container says; date is the day of the run",
          lambda shot, _: Date(shot.footage.source.created) if shot.footage.source.created else Text(""),
          origin="container"),
    Token("keyword", "first keyword of the mark", _column("keyword", lambda shot: next(iter(shot.keywords), ""))),
    Token("keywords", "all keywords of the mark, joined by dashes",
          _column("keywords", lambda shot: "-".join(shot.keywords))),
    Token("note", "note of the mark", _column("note", lambda shot: shot.note)),
    Token("colour", "colour of the marker", _own(lambda shot: shot.colour)),
    Token("count", "place among the shots of this plan; forms say digits, start, step and where it starts again",
          origin="place in the plan"),
    Token("again", "empty for the first of several shots that would have one name, then 2, 3 …: @clip[_@again]",
          origin="place in the plan"),
    Token("total", "how many shots this plan has", lambda _, context: Number(context.total),
          origin="place in the plan"),
    Token("timeline", "name of the timeline, where an edit is cut", _place(lambda place: Text(place.timeline))),
    Token("track", "track of the clip on the timeline, as V1", _place(lambda place: Text(place.track))),
    Token("event", "event number in an EDL, as written there; count is numbered here",
          _place(lambda place: Text(place.event))),
    Token("record", "first frame of the shot, as timecode of the timeline; in is the source's",
          _place(lambda place: FrameTime(place.record.start, place.record_in))),
    Token("in", "first frame of the shot, as timecode of the source; record is the timeline's",
          _frame(lambda shot: shot.span.start), origin="timecode"),
    Token("out", "first frame after the shot, as timecode of the source", _frame(lambda shot: shot.span.end),
          origin="timecode"),
    Token("length", "length of the shot, as timecode or frames, handles included",
          lambda shot, _: FrameTime(shot.span.length, Timecode(shot.span.length, shot.footage.frame_index.rate)),
          origin="length of the file"),
    Token("rate", "frame rate of the source, in fps",
          _own(lambda shot: str(shot.footage.frame_index.rate).replace("/", "-")), origin="picture"),
    Token("resolution", "width and height of the picture in this file, after scaling",
          of_output=lambda output: Text(output.size), is_of_file=True),
    Token("codec", "picture codec of this file, not of the source",
          of_output=lambda output: Text(output.codec), is_of_file=True),
    Token("preset", "name of the preset this file is made with",
          of_output=lambda output: Text(output.preset), is_of_file=True),
    Token("version", "one above the highest in the output folders, the same for the whole plan",
          lambda _, context: Text("") if context.version is None else Number(context.version), is_of_file=True),
    Token("date", "date of the run; created is the day of shooting", lambda _, context: Date(context.now),
          origin="today"),
    Token("time", "time of day of the run", lambda _, context: Date(context.now, usual="hh-mm-ss"), origin="today"),
    Token("user", "who runs it", lambda _, context: Text(context.user), origin="this machine"),
)  # fmt: skip
TOKENS = {token.name: token for token in _DECLARED}
"""Every token by its name, in the order in which they are listed."""
OUTPUT_TOKENS = tuple(token.name for token in _DECLARED if token.of_output)
"""Tokens that depend on what a shot is made into."""
FILE_TOKENS = tuple(token.name for token in _DECLARED if token.is_of_file)
"""Tokens that only a file that is made has."""
_OF_SHOT = {token.name: token.of_shot for token in _DECLARED if token.of_shot}
AGAIN = "again"
_OF_PLACE = ("count", AGAIN)
"""Tokens that only the other shots of a plan tell."""


def output_values(output: OutputFacts) -> dict[str, Value]:
    """The values of tokens that depend on the output."""
    return {token.name: token.of_output(output) for token in _DECLARED if token.of_output}


def known_tokens(shots: Sequence[Shot]) -> set[str]:
    """Every token a pattern may use for these shots: the fixed ones, and the columns of their tables."""
    columns = set().union(*{tuple(shot.metadata) for shot in shots})
    return set(TOKENS) | columns | {COLUMN_PREFIX + column for column in columns}


class LazyValues(Mapping[str, Value]):
    """Values by token name, each worked out when it is asked for: a pattern names few of them."""

    __slots__ = ("_again", "_context", "_count", "_shot")

    def __init__(
        self, shot: Shot, context: NamingContext, count: Counter, again: Callable[[], int] = lambda: 0
    ) -> None:
        """again: how many shots before it would have its name."""
        self._shot = shot
        self._context = context
        self._count = count
        self._again = again

    def __getitem__(self, name: str) -> Value:
        if value_of := _OF_SHOT.get(name):
            return value_of(self._shot, self._context)
        if name == "count":
            return self._count
        if name == AGAIN:
            before = self._again()
            return Number(before + 1) if before else Text("")
        metadata = self._shot.metadata
        column = name.removeprefix(COLUMN_PREFIX)
        if column in metadata:
            return Text(metadata[column])
        raise KeyError(name)

    def get(self, name: str, default: Any = None) -> Any:
        """The value of a token, or the default: without the steps of a mapping's own, as it is asked for so often."""
        if value_of := _OF_SHOT.get(name):
            return value_of(self._shot, self._context)
        try:
            return self[name]
        except KeyError:
            return default

    def __contains__(self, name: object) -> bool:
        known = name in _OF_SHOT or name in _OF_PLACE
        return known or str(name).removeprefix(COLUMN_PREFIX) in self._shot.metadata

    def __iter__(self) -> Iterator[str]:
        yield from _OF_SHOT
        yield from _OF_PLACE
        for column in self._shot.metadata:
            yield from (column, COLUMN_PREFIX + column)

    def __len__(self) -> int:
        return sum(1 for _ in self)


class ShotValues:
    """The values of each of some shots, whatever they are made into."""

    def __init__(
        self,
        shots: Sequence[Shot],
        context: NamingContext,
        subfolder_of: Callable[[Shot, int], str] | None = None,
        name_of: Callable[[Shot, int], str] | None = None,
    ) -> None:
        """context: its total is set to the number of shots. subfolder_of: what counters per subfolder go by. name_of:
        the name of a shot where @again is empty, for @again."""
        self._shots = shots
        self._context = replace(context, total=len(shots))
        self._subfolder_of = subfolder_of
        self._name_of = name_of
        self._places: dict[str, list[int]] = {}

    def of(self, shot: Shot, index: int) -> LazyValues:
        """The values of the shot at a place in the plan, counted from 0."""
        return LazyValues(
            shot,
            self._context,
            Counter(index, lambda word: self._place(index, word)),
            lambda: self._place(index, AGAIN) if self._name_of else 0,
        )

    def _place(self, index: int, word: str) -> int:
        """Its place among the shots that share what the word names. Raises KeyError for no such word."""
        if word not in self._places:
            counts: dict[str, int] = {}
            places = []
            group_of = {SUBFOLDER: self._subfolder_of, AGAIN: self._name_of}.get(word) or self._by_token(word)
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
        if name is None or name in (*_OF_PLACE, *OUTPUT_TOKENS):
            raise KeyError(word)
        empty = Text("")
        return lambda shot, number: self.of(shot, number).get(name, empty).shown()
