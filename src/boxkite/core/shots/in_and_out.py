"""In and out: a range over a whole timeline or program, for this plan only."""

from __future__ import annotations

import re
from collections.abc import Mapping
from pathlib import Path

from boxkite.core.edit.timeline import Timeline
from boxkite.core.errors import BoxkiteError, PlanError, setting
from boxkite.core.job.job import Job
from boxkite.core.shots.shot import IndexedSource
from boxkite.core.suggest import did_you_mean
from boxkite.core.timebase import Span, Timecode, is_timecode_like

_EVENT = re.compile(r"\d{1,6}[A-Za-z]?", re.ASCII)


def range_options(job: Job) -> str:
    """The range as it was asked for, for messages; empty where there is none."""
    parts = [
        f"{setting('in')} {job.range_in}" if job.range_in else "",
        f"{setting('out')} {job.range_out}" if job.range_out else "",
    ]
    return " ".join(part for part in parts if part)


def range_of_timeline(job: Job, timeline: Timeline) -> Span:
    """The frames of a timeline between in and out. Raises PlanError for what is on no such timeline.

    Each is a timecode, an event number, or the name of a clip or marker: in takes the first that is so
    called and its first frame, out the last, up to its end.
    """
    events: dict[str, list[Span]] = {}
    names: dict[str, list[Span]] = {}
    for track in timeline.tracks:
        for clip in track.clips:
            events.setdefault(clip.event.lstrip("0").casefold(), []).append(clip.record)
            names.setdefault(clip.name.casefold(), []).append(clip.record)
            for marker in clip.markers:
                names.setdefault(marker.name.casefold(), []).append(
                    Span(marker.start, marker.end or marker.start)
                )
    for marker in timeline.markers:
        names.setdefault(marker.name.casefold(), []).append(Span(marker.start, marker.end or marker.start))
    names.pop("", None)
    events.pop("", None)
    return _range(job, timeline.start, Span(0, timeline.length), events, names)


def range_of_source(job: Job, footage: IndexedSource, marks: Mapping[str, list[Span]]) -> Span:
    """The frames of a source between in and out; marks: where each of its marks lies, by name."""
    return _range(
        job,
        footage.start,
        footage.frame_index.span,
        {},
        {name.casefold(): spans for name, spans in marks.items()},
    )


def _range(
    job: Job, start: Timecode, whole: Span, events: Mapping[str, list[Span]], names: Mapping[str, list[Span]]
) -> Span:
    def frame(option: str, text: str) -> int:
        if is_timecode_like(text) or re.fullmatch(r"[\d:;]*[:;][\d:;]*", text, re.ASCII):
            try:
                return Timecode.parse(text, start.rate, drop=start.drop).frame - start.frame
            except BoxkiteError as error:
                raise PlanError(f"{option}: {error.message}", hint=error.hint) from None
        found = events.get(text.lstrip("0").casefold()) if _EVENT.fullmatch(text) else None
        found = found or names.get(text.casefold())
        if found:
            return (
                min(span.start for span in found)
                if option == setting("in")
                else max(span.end for span in found)
            )
        if "/" in text or "\\" in text or _is_there(text):
            raise PlanError(
                f"{option} {text}: this is not a time",
                hint=f"destinations go to {setting('to')}, as {setting('to')} review:out",
            )
        what = "event" if _EVENT.fullmatch(text) and events else "clip or marker"
        raise PlanError(
            f"{option} {text}: there is no {what} of that name, and it is no timecode",
            hint=did_you_mean(text, [*names, *events]) or "a timecode has four fields: 01:00:10:05",
        )

    first = frame(setting("in"), job.range_in) if job.range_in else whole.start
    last = frame(setting("out"), job.range_out) if job.range_out else whole.end
    if last <= first:
        raise PlanError(
            f"{setting('out')} ({job.range_out or start + last}) does not come after {setting('in')}"
            f" ({job.range_in or start + first})",
            hint="out is the first frame after the range",
        )
    asked = Span(first, last)
    inside = asked.clipped_to(whole)
    if not inside.length:
        raise PlanError(
            f"{range_options(job)}: there is nothing; it runs from {start + whole.start} to {start + whole.end}"
        )
    return inside


def _is_there(text: str) -> bool:
    try:
        return Path(text).exists()
    except (OSError, ValueError):  # too long for a path
        return False
