"""A job as it is said: the same words on the command line and in a TOML file, and the job they describe."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, fields, replace
from datetime import datetime
from pathlib import Path
from typing import Any, get_args

from boxkite.core.errors import PlanError, setting
from boxkite.core.files.reading import path_from
from boxkite.core.job.choosing import Choice
from boxkite.core.job.job import Job, Otherwise, Output
from boxkite.core.job.words import (
    CLOSING_MARKER,
    DECODERS,
    PICTURES,
    WAYS_TO_CUT,
    WHERE_THERE,
    WHETHER_JOINED,
    By,
    Existing,
    Joined,
    PictureFrom,
)
from boxkite.core.naming.saved import pattern_of
from boxkite.core.presets.library import PresetFile, Shelf
from boxkite.core.shots.limits import Handles
from boxkite.core.suggest import did_you_mean
from boxkite.core.timebase import FrameRate


@dataclass(frozen=True, kw_only=True)
class OtherwiseWords:
    """What is said of shots that are done otherwise."""

    only: tuple[str, ...] = ()
    to: tuple[str, ...] = ()
    names: str | None = None
    handles: str | None = None


@dataclass(frozen=True, kw_only=True)
class JobWords:
    """Everything that can be said of a job; None or empty where it is not said."""

    paths: tuple[str, ...] = ()
    images_rate: str | None = None
    by: tuple[str, ...] = ()
    marks: str | None = None
    marks_rate: str | None = None
    start_timecode: str | None = None
    closing_marker: str | None = None
    picture: str | None = None
    media: tuple[str, ...] = ()
    depth: int | None = None
    only: tuple[str, ...] = ()
    without: tuple[str, ...] = ()
    range_in: str | None = None
    range_out: str | None = None
    handles: str | None = None
    join: bool | None = None
    names: str | None = None
    version_number: int | None = None
    metadata: tuple[str, ...] = ()
    match_by: str | None = None
    to: tuple[str, ...] = ()
    existing: str | None = None
    since: str | None = None
    watermark: str | None = None
    look: str | None = None
    sound: tuple[str, ...] = ()
    exact_cuts: bool | None = None
    joined: str | None = None
    accept_damaged: bool | None = None
    accept_gaps: bool | None = None
    replace_others: bool | None = None
    tracks: tuple[str, ...] = ()
    retime: bool | None = None
    decode_with: str | None = None
    layer: str | None = None
    view: str | None = None
    presets: Mapping[str, Mapping[str, Any]] = field(default_factory=dict)
    otherwise: tuple[OtherwiseWords, ...] = ()


_SAID_AS = {"without": "except", "range_in": "in", "range_out": "out"}
"""Words that Python keeps for itself."""
FIELD_OF = {_SAID_AS.get(one.name, one.name.replace("_", "-")): one.name for one in fields(JobWords)}
"""The field of each word, as it is said in a job file; with two dashes before it, on the command line."""
WORD_OF = {name: word for word, name in FIELD_OF.items()}
TAKES_LIST = {one.name for one in fields(JobWords) if str(one.type).startswith("tuple[str")}
TAKES_YES_OR_NO = {"join", "exact_cuts", "accept_damaged", "accept_gaps", "replace_others", "retime"}
TAKES_NUMBER = {"depth", "version_number"}
OF_OTHERWISE = tuple(one.name for one in fields(OtherwiseWords))


def laid_over(below: JobWords, above: JobWords) -> JobWords:
    """The words of `below`, with those that `above` says in their place; presets are put together."""
    said = {
        one.name: value
        for one in fields(JobWords)
        if (value := getattr(above, one.name)) not in (None, (), {})
    }
    if "presets" in said:
        said["presets"] = {**below.presets, **above.presets}
    return replace(below, **said)


def job_from_words(
    words: JobWords,
    *,
    origin: Path | None = None,
    changes: Mapping[str, Any] | None = None,
    user: str = "",
    now: datetime | None = None,
) -> Job:
    """The job that words describe. origin: the job file its presets stand in. changes: see Shelf.

    Raises a RequestError for words that do not hold.
    """
    own = tuple(
        PresetFile(name, origin or Path("job"), built_in=False, tables=tables)
        for name, tables in words.presets.items()
    )
    return Job(
        paths=_paths(words.paths),
        outputs=tuple(Output.parse(text) for text in words.to),
        by=_ways(words.by),
        marks=_path(words.marks),
        marks_rate=FrameRate.parse(words.marks_rate) if words.marks_rate else None,
        images_rate=FrameRate.parse(words.images_rate) if words.images_rate else None,
        start_timecode=words.start_timecode,
        closing_marker=CLOSING_MARKER if words.closing_marker is None else words.closing_marker,
        names=pattern_of(words.names),
        match_by=words.match_by,
        metadata=_paths(words.metadata),
        watermark=_path(words.watermark),
        picture=_one_of(words.picture, get_args(PictureFrom), PICTURES, "picture"),
        media=_paths(words.media),
        depth=1 if words.depth is None else words.depth,
        handles=Handles.parse(words.handles or "0"),
        range_in=words.range_in or "",
        range_out=words.range_out or "",
        only=tuple(Choice.parse(text, setting("only")) for text in words.only),
        without=tuple(Choice.parse(text, setting("except")) for text in words.without),
        join=bool(words.join),
        version=_version(words.version_number),
        existing=_one_of(words.existing, get_args(Existing), WHERE_THERE, "existing") or "stop",
        since=words.since or "",
        presets=Shelf(own, changes or {}),
        look=_whole(words.look),
        sound=_paths(words.sound),
        exact_cuts=bool(words.exact_cuts),
        joined=_one_of(words.joined, get_args(Joined), WHETHER_JOINED, "joined") or "no",
        accept_damaged=bool(words.accept_damaged),
        accept_gaps=bool(words.accept_gaps),
        replace_others=bool(words.replace_others),
        tracks=tuple(name.strip() for text in words.tracks for name in text.split(",") if name.strip()),
        retime=bool(words.retime),
        decode_with=_one_of(words.decode_with, DECODERS, DECODERS, "decode-with") or "",
        layer=words.layer or "",
        view=words.view or "",
        exceptions=tuple(_otherwise(one) for one in words.otherwise),
        user=user,
        now=now or datetime.now(),
    )  # fmt: skip


def _otherwise(words: OtherwiseWords) -> Otherwise:
    if not words.only:
        raise PlanError("otherwise: say which shots", hint='as only = ["name:loft*"]')
    return Otherwise(
        tuple(Choice.parse(text, "only") for text in words.only),
        tuple(Output.parse(text) for text in words.to),
        pattern_of(words.names),
        None if words.handles is None else Handles.parse(words.handles),
    )


def _version(number: int | None) -> int | None:
    if number is not None and not 0 <= number < 10**9:
        raise PlanError(f"{setting('version-number')} {number}: give a whole number from 0")
    return number


def _ways(said: Sequence[str]) -> tuple[By, ...]:
    """Ways to cut, each said once; commas part several."""
    found: dict[By, None] = {}
    for text in said:
        for word in text.split(","):
            if word.strip():
                way: Any = _one_of(word.strip(), WAYS_TO_CUT, WAYS_TO_CUT, "by")
                found[way] = None
    return tuple(found)


def _one_of(said: str | None, known: Sequence[Any], listed: Sequence[str], word: str) -> Any:
    if said is None or said in known:
        return said
    raise PlanError(
        f"{setting(word)}: there is no “{said}”, choose from {', '.join(listed)}",
        hint=did_you_mean(said, listed),
    )


def _whole(text: str | None) -> Path | None:
    return path_from(text).absolute() if text else None


def _path(text: str | None) -> Path | None:
    return path_from(text) if text else None


def _paths(texts: Sequence[str]) -> tuple[Path, ...]:
    return tuple(path_from(text) for text in texts)
