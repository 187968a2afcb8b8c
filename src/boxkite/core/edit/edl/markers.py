"""Marker lists as EDLs: read in the two note forms in wide use, written in the plain one."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

from boxkite.core.edit.edl.events import read_lists
from boxkite.core.edit.edl.model import StrictReading
from boxkite.core.errors import MarksError
from boxkite.core.files.writing import create_file
from boxkite.core.marks.colours import is_colour
from boxkite.core.marks.mark import Mark, MarkList
from boxkite.core.timebase import Timecode


def read_edl_markers(path: Path) -> MarkList:
    """Read the markers of an EDL.

    A marker is a note line `* LOC: timecode COLOUR name` at its own timecode, or a line of a note and
    bar-separated fields (`M:` name, `C:` colour, `D:` length in frames) at the record in of the event above
    it. Raises MarksError, with the line, for a broken timecode and for a list without markers.
    """
    reading = read_lists(StrictReading(path))
    marks = tuple(
        Mark(marker.name, marker.time, length=marker.length, note=marker.note, colour=marker.colour)
        for found in reading.lists
        for marker in found.markers
    )
    events = [event for found in reading.lists for event in found.events]
    if not marks:
        found_instead = f"{len(events)} events but no marker" if events else "no event and no marker"
        raise MarksError(
            f"there is {found_instead} in this list",
            path=path,
            hint="markers stand on note lines: “* LOC: 01:00:10:05 RED name”; export the list with its markers",
        )
    times = tuple(time for event in events for time in (event.record_in, event.record_out))
    return MarkList(path, "marker list", marks, times, tuple(reading.notices))


def write_edl_markers(
    path: Path,
    title: str,
    start: Timecode,
    end: Timecode,
    markers: Iterable[tuple[Timecode, str, str]],
) -> None:
    """Write markers as (timecode, colour, name), each on a note line under one event over the whole program.

    start, end: the program's first frame and the first frame after it. A marker in a list has no length, keywords or
    note. A colour that readers would take for part of the name is left out; where there is none and the name begins
    with the word of one, white stands before it.
    """
    lines = [
        f"TITLE: {title}",
        f"FCM: {'DROP FRAME' if start.drop else 'NON-DROP FRAME'}",
        "",
        f"001  AX       V     C        {start} {end} {start} {end}",
    ]
    for timecode, colour, name in markers:
        parts = name.split()
        word = colour.upper() if is_colour(colour.upper()) else "WHITE" if is_colour(*parts[:1]) else ""
        lines.append(f"* LOC: {timecode} {word:<7} {' '.join(parts)}")
    create_file(path, ("\n".join(lines) + "\n").encode("utf-8", "surrogateescape"))
