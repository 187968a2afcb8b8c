"""A job: what is asked for. Each option is declared here once, with its field, and nowhere else."""

from __future__ import annotations

import re

# ruff: noqa: RUF009  (option() makes a dataclass field)
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

from msgspec import Struct

from boxkite.core.errors import PlanError, setting
from boxkite.core.files.reading import path_from
from boxkite.core.job.after import Step, read_steps
from boxkite.core.job.allowed import (
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
from boxkite.core.job.choice import Choice
from boxkite.core.job.handles import NO_HANDLES, Handles
from boxkite.core.job.manifest_forms import MANIFEST_FORMS
from boxkite.core.job.option import (
    PLANNING,
    Option,
    check_allowed,
    option,
    options_of,
    read_listed,
    read_path,
    read_paths,
)
from boxkite.core.naming.saved import pattern_of
from boxkite.core.presets.library import Shelf
from boxkite.core.timebase import FrameRate

if TYPE_CHECKING:  # the help of a command needs none of it
    from boxkite.core.footage.source import ImageSettings

_CUTS = "where to cut"
_TIMELINES = "timelines"
_CHOICE = "which shots"
_NAMES = "names"
_OUTPUTS = "outputs"
_SOURCES = "sources, copies and audio"
GROUPS = ("", _CUTS, _TIMELINES, _CHOICE, _NAMES, _OUTPUTS, _SOURCES)
"""Headings of the options in help, in their order."""


_TOKEN_IN_FOLDER = re.compile(r"(?:^|(?<=[/\\_ -]))@(?:[A-Za-z]+|\([^)]*\))")


class Output(Struct, frozen=True):
    """A preset and the folder that its files go to."""

    preset: str
    """Its name, or the path of its file."""
    folder: Path
    """Where its files go."""

    @classmethod
    def parse(cls, text: str) -> Output:
        """Read PRESET:FOLDER, split at the first colon. Raises PlanError."""
        preset, colon, folder = text.partition(":")
        if not colon or not preset.strip() or not folder.strip():
            raise PlanError(
                f"{setting('to')} {text}: give a preset and a folder, separated by a colon",
                hint=f"as {setting('to')} review:out/review; boxkite presets lists the presets",
            )
        if len(preset.strip()) == 1:
            raise PlanError(
                f"{setting('to')} {text}: “{preset}” reads as a drive; the preset is missing",
                hint=f"as {setting('to')} review:{text}",
            )
        path = path_from(folder.strip())
        exists = any(one.exists() for one in (path, *path.parents) if "@" in one.name)
        if (tokens := _TOKEN_IN_FOLDER.findall(folder)) and not exists:
            raise PlanError(
                f"{setting('to')} {text}: {tokens[0]} is not read in a folder",
                hint=f'tokens go in the names: {setting("names")} "{tokens[0]}/@clip"; a slash makes folders',
            )
        return cls(preset.strip(), path)


class Otherwise(Struct, frozen=True):
    """Shots that are treated differently from the rest: other outputs, names or handles."""

    only: tuple[Choice, ...]
    """Shots that fit all of these."""
    outputs: tuple[Output, ...] = ()
    names: str | None = None
    handles: Handles | None = None


OF_OTHERWISE = ("only", "to", "names", "handles")
"""The options that an entry of [[otherwise]] takes."""


def _read_outputs(texts: Sequence[str]) -> tuple[Output, ...]:
    return tuple(Output.parse(text) for text in texts)


def _read_ways(texts: Sequence[str]) -> tuple[str, ...]:
    ways = read_listed(texts)
    for way in ways:
        check_allowed("by", way, WAYS_TO_CUT)
    return ways


def _read_version(number: int) -> int:
    if not 0 <= number < 10**9:
        raise PlanError(f"{setting('version-number')} {number}: give a whole number from 0")
    return number


def _read_rate(text: str) -> FrameRate | None:
    return FrameRate.parse(text) if text else None


def _read_look(text: str) -> Path | None:
    return path_from(text).absolute() if text else None


def _read_exceptions(tables: Sequence[Mapping[str, Any]]) -> tuple[Otherwise, ...]:
    return tuple(_read_exception(one) for one in tables)


def _read_exception(table: Mapping[str, Any]) -> Otherwise:
    if not table.get("only"):
        raise PlanError("otherwise: say which shots", hint='as only = ["name:loft*"]')
    handles = table.get("handles")
    return Otherwise(
        tuple(Choice.parse(text, "only") for text in table["only"]),
        _read_outputs(table.get("to", ())),
        pattern_of(table.get("names")),
        None if handles is None else Handles.parse(handles),
    )


@dataclass(frozen=True)
class Job:
    """Footage, where to cut it, which shots to keep, how to name them, and the outputs."""

    paths: tuple[Path, ...] = option(
        "paths", "texts",
        "a program, clips, folders of them, a timeline (.otio, .edl …), a job file (.toml), or a saved plan (.csv)",
        group="", metavar="PATH", read=read_paths, is_path=True, with_saved_plan=True, is_required=True,
        commands=(*PLANNING, "trim"),
    )  # fmt: skip
    outputs: tuple[Output, ...] = option(
        "to", "texts", "a preset, and where its files go; one decode feeds several outputs",
        group=_OUTPUTS, metavar="PRESET:FOLDER", read=_read_outputs, is_required=True, commands=(*PLANNING, "trim"),
    )  # fmt: skip
    images_rate: FrameRate | None = option(
        "images-rate", "text", "frame rate of numbered images, which carry none, in fps",
        group=_SOURCES, metavar="RATE", default="24", read=_read_rate, with_saved_plan=True,
        commands=(*PLANNING, "inspect", "rename", "trim"),
    )  # fmt: skip
    by: tuple[By, ...] = option(
        "by", "texts", f"{', '.join(WAYS_TO_CUT)}; several with commas", group=_CUTS, metavar="WAY",
        default="cuts of a timeline, ranges of a table, markers of a list, else files", value=(), read=_read_ways,
    )  # fmt: skip
    marks: Path | None = option(
        "marks", "text",
        f"marker list (.edl) or table of ranges (.csv, .tsv); else {setting('by')} markers takes the media's chapters",
        group=_CUTS, metavar="FILE", read=read_path, is_path=True,
    )  # fmt: skip
    marks_rate: FrameRate | None = option(
        "marks-rate", "text", "frame rate of a marker list or EDL, in fps, if it is not the program's",
        group=_CUTS, metavar="RATE", read=_read_rate, commands=(*PLANNING, "inspect", "trim"),
    )  # fmt: skip
    start_timecode: str | None = option(
        "start-timecode", "text", "timecode of the program's first frame, where its own is missing or wrong",
        group=_CUTS, metavar="TIMECODE",
    )  # fmt: skip
    closing_marker: str = option(
        "closing-marker", "text", "name of the marker that only ends the shot before it; upper or lower case",
        group=_CUTS, metavar="NAME", default=CLOSING_MARKER, value=CLOSING_MARKER,
    )  # fmt: skip
    picture: PictureFrom | None = option(
        "picture", "text", "cut the finished program, go back to the camera originals, or render the edit",
        group=_TIMELINES, metavar="|".join(PICTURES), allowed=PICTURES,
        default="program where one is named, else originals",
    )  # fmt: skip
    media: tuple[Path, ...] = option(
        "media", "texts", "where the camera originals are", group=_TIMELINES, metavar="PATH", value=(), read=read_paths,
        is_path=True, commands=(*PLANNING, "trim"),
    )  # fmt: skip
    tracks: tuple[str, ...] = option(
        "tracks", "texts", "only these tracks of an edit that is rendered, such as V1,A1",
        group=_TIMELINES, metavar="NAMES",
        value=(), read=read_listed,
    )  # fmt: skip
    retime: bool = option(
        "retime", "yes or no",
        "give clips of originals the speed they have in the edit, freezes too; the rendered edit always has it",
        group=_TIMELINES, value=False,
    )  # fmt: skip
    depth: int = option(
        "depth", "number", f"how many levels of nested timelines {setting('by')} timelines opens", group=_TIMELINES,
        metavar="NUMBER", default="1", value=1,
    )  # fmt: skip
    only: tuple[Choice, ...] = option(
        "only", "texts",
        "circled, marked, keyword:WORD, track:V2, name:WORD, number:3-7, length:2s-, or any TOKEN:VALUE; * and ? are"
        " wildcards, a comma separates alternatives; all must hold",
        group=_CHOICE, metavar="CHOICE", value=(),
        read=lambda texts: tuple(Choice.parse(text, setting("only")) for text in texts),
    )  # fmt: skip
    without: tuple[Choice, ...] = option(
        "except", "texts", f"like {setting('only')}, for shots to leave out", group=_CHOICE, metavar="CHOICE",
        value=(), read=lambda texts: tuple(Choice.parse(text, setting("except")) for text in texts),
    )  # fmt: skip
    range_in: str = option(
        "in", "text", "begin here, for this plan only: a timecode, an event number, the name of a clip or marker",
        group=_CHOICE, metavar="WHERE", value="",
    )  # fmt: skip
    range_out: str = option("out", "text", "end there", group=_CHOICE, metavar="WHERE", value="")
    handles: Handles = option(
        "handles", "text", "extra at both ends: frames, seconds (0.5s), or whole", group=_CHOICE, metavar="LENGTH",
        value=NO_HANDLES, read=lambda text: Handles.parse(text or "0"), commands=(*PLANNING, "trim"),
    )  # fmt: skip
    join: bool = option(
        "join", "yes or no", "make one file of shots that touch in one source", group=_CHOICE, value=False
    )
    names: str | None = option(
        "names", "text", 'the rule for names, in double quotes: "@marker_@(count:01)"; or saved:NAME', group=_NAMES,
        metavar="PATTERN", read=pattern_of, commands=(*PLANNING, "rename", "trim"),
    )  # fmt: skip
    version: int | None = option(
        "version-number", "number", "what @version stands for", group=_NAMES, metavar="NUMBER",
        default="one above the highest in the output folders", read=_read_version,
    )  # fmt: skip
    metadata: tuple[Path, ...] = option(
        "metadata", "texts", "table (.csv, .tsv) or log (.ale) about the sources, one row per source; its columns"
        " become tokens", group=_NAMES, metavar="FILE", value=(), read=read_paths, is_path=True,
        commands=(*PLANNING, "inspect", "rename"),
    )  # fmt: skip
    match_by: str | None = option(
        "match-by", "text", "column of those tables that names the source, by file, clip or reel", group=_NAMES,
        metavar="COLUMN", commands=(*PLANNING, "inspect", "rename"),
    )  # fmt: skip
    existing: Existing = option(
        "existing", "text",
        "what happens to existing files: stop, number, skip those made of the same frames by the same preset, replace",
        group=_OUTPUTS, metavar="POLICY", allowed=WHERE_THERE, default="stop", value="stop", with_saved_plan=True,
        commands=(*PLANNING, "trim"),
    )  # fmt: skip
    replace_others: bool = option(
        "replace-others", "yes or no",
        f"with {setting('existing')} replace: also single files that no batch on record made, each listed by the plan",
        group=_OUTPUTS, value=False, with_saved_plan=True,
    )  # fmt: skip
    since: str = option(
        "since", "text", "only what is new or changed since an earlier batch, by its name, or last", group=_OUTPUTS,
        metavar="BATCH", value="", with_saved_plan=True,
    )  # fmt: skip
    look: Path | None = option(
        "look", "text", "look file (.cube …) for every shot, after its own colour decision", group=_OUTPUTS,
        metavar="FILE", read=_read_look, is_path=True, with_saved_plan=True,
    )  # fmt: skip
    watermark: Path | None = option(
        "watermark", "text", "image to use in presets that have a watermark", group=_OUTPUTS, metavar="IMAGE",
        read=read_path, is_path=True, with_saved_plan=True,
    )  # fmt: skip
    manifest: str = option(
        "manifest", "text",
        f"once all files are made, write a manifest beside them: {', '.join(MANIFEST_FORMS)}", group=_OUTPUTS,
        metavar="FORM", allowed=MANIFEST_FORMS, value="", with_saved_plan=True, commands=(*PLANNING, "trim"),
    )  # fmt: skip
    after: tuple[Step, ...] = option(
        "after", "tables", "what is done once all files are made, step by step", group="", value=(),
        read=read_steps, with_saved_plan=True, commands=(),
    )  # fmt: skip
    presets: Shelf = option(
        "presets", "tables", "presets that only this job knows", group="", factory=Shelf, with_saved_plan=True,
        commands=(),
    )  # fmt: skip
    exceptions: tuple[Otherwise, ...] = option(
        "otherwise", "tables", "shots that get other outputs, names or handles", group="", value=(),
        read=_read_exceptions, commands=(),
    )  # fmt: skip
    sound: tuple[Path, ...] = option(
        "sound", "texts", "a sound recorder's WAV files, used instead of the camera's audio where the timecode fits",
        group=_SOURCES, metavar="PATH", value=(), read=read_paths, is_path=True,
    )  # fmt: skip
    exact_cuts: bool = option(
        "exact-cuts", "yes or no", "cut copies at any frame: only frames beside keyframes are encoded",
        group=_SOURCES, value=False, with_saved_plan=True, commands=(*PLANNING, "trim"),
    )  # fmt: skip
    in_chunks: bool = option(
        "in-chunks", "yes or no", "encode long shots in chunks, several at once, and join those without a seam",
        group=_SOURCES, value=False, with_saved_plan=True, commands=(*PLANNING, "trim"),
    )  # fmt: skip
    joined: Joined = option(
        "joined", "text", "write the copies of an output one after the other into one file", group=_SOURCES,
        metavar="|".join(WHETHER_JOINED), allowed=WHETHER_JOINED, default="no", value="no",
    )  # fmt: skip
    decode_with: str = option(
        "decode-with", "text", f"a hardware decoder, where it works: {', '.join(DECODERS)}", group=_SOURCES,
        metavar="KIND", allowed=DECODERS, value="", with_saved_plan=True,
    )  # fmt: skip
    layer: str = option(
        "layer", "text", "the layer of EXR images that have several, such as diffuse; plain is the one without a name",
        group=_SOURCES, metavar="NAME", value="", with_saved_plan=True,
    )  # fmt: skip
    view: str = option(
        "view", "text", "the view of EXR images that have several, such as left",
        group=_SOURCES, metavar="NAME", value="",
        with_saved_plan=True,
    )  # fmt: skip
    accept_gaps: bool = option(
        "accept-gaps", "yes or no", "also make sources in which one frame lasts more than an hour",
        group=_SOURCES, value=False, with_saved_plan=True,
    )  # fmt: skip
    accept_damaged: bool = option(
        "accept-damaged", "yes or no", "make what is left of damaged footage, and count what is missing",
        group=_SOURCES, value=False, with_saved_plan=True,
    )  # fmt: skip
    user: str = ""
    """Who runs it, for @user."""
    now: datetime = field(default_factory=datetime.now)
    """When it was asked for, for @date and @time."""

    @property
    def images(self) -> ImageSettings:
        """How images are read."""
        from boxkite.core.footage.source import ImageSettings

        return ImageSettings(self.images_rate, self.layer, self.view)


_DECLARED = options_of(Job)
OPTIONS: dict[str, Option] = {key: one for key, (_, one) in _DECLARED.items()}
"""Every option of a job by its key."""
FIELD_OF: dict[str, str] = {key: name for key, (name, _) in _DECLARED.items()}
"""The field of the job that holds the value of each option."""
