"""One entry for all lists of marks: the reader is chosen by the file's extension, then by its text."""

from __future__ import annotations

import re
from pathlib import Path

from boxkite.core.edit.timeline import Edit, Timeline
from boxkite.core.errors import MarksError, setting
from boxkite.core.files.metadata_log import is_log
from boxkite.core.files.reading import is_file
from boxkite.core.files.table import head_of, named_column
from boxkite.core.files.text import no_collection, read_text, split_lines
from boxkite.core.files.workbook import WORKBOOK_SUFFIX
from boxkite.core.footage.kinds import BESIDE_MEDIA, CAMERA_RAW, MEDIA_SUFFIXES
from boxkite.core.footage.source import Source
from boxkite.core.marks.mark import Mark, MarkList, WrittenTime
from boxkite.core.marks.ranges import COLUMN_NAMES, read_ranges
from boxkite.core.timebase import FrameRate

EDIT_SUFFIXES = frozenset({".edl", ".otio", ".otioz", ".otiod", ".xml", ".fcpxml", ".aaf"})
"""Extensions that always name a timeline; an adapter that is installed may read others."""


_EDL = re.compile(
    r"^(?:TITLE:|FCM:|\*[^\n]{0,20}LOC:|\d{3,6}[ \t]+\S+[ \t]+\S+[ \t]+C[ \t])", re.MULTILINE | re.ASCII
)
"""A line that only an EDL has."""
_MOST_FRAMES = 10**10
"""Three years at a hundred frames a second: no edit is longer, and no recorder's clock shows more."""


@no_collection()
def read_marks(path: Path) -> MarkList:
    """Read a marker list or a table of ranges. Raises MarksError with file and line."""
    suffix = path.suffix.lower()
    if suffix != ".edl" and is_edit(path):
        from boxkite.core.edit.otio.reading import read_otio_edit

        return marks_from_edit(read_otio_edit(path))
    if suffix == WORKBOOK_SUFFIX:
        return read_ranges(path)
    text = read_text(path)
    lines = split_lines(text)
    is_table = suffix in (".csv", ".tsv")
    if is_log(path, lines) or named_column(head_of(lines), COLUMN_NAMES["in"]):
        return read_ranges(path)
    from boxkite.core.edit.edl.markers import read_edl_markers  # a table of ranges needs neither
    from boxkite.core.marks.text_lists import LOOKED_FOR, read_text_list

    if not is_table and _EDL.search(text):
        return read_edl_markers(path)
    if found := read_text_list(path, lines):
        return found
    if suffix == ".edl":
        return read_edl_markers(path)
    if is_table:
        return read_ranges(path)
    raise MarksError("this is no list of marks", path=path, hint=LOOKED_FOR)


def is_edit(path: Path) -> bool:
    """Whether a path is named as a timeline rather than as footage."""
    suffix = path.suffix.lower()
    if suffix in EDIT_SUFFIXES:
        return True
    if not suffix or suffix in MEDIA_SUFFIXES or suffix in BESIDE_MEDIA or suffix in CAMERA_RAW:
        return False  # without asking the library, which takes a while to load
    if not is_file(path):
        return False
    from boxkite.core.edit.otio.reading import adapter_suffixes

    return suffix in adapter_suffixes()


@no_collection()
def read_edit(path: Path, rate: FrameRate | None = None) -> Edit:
    """Read all timelines of a file. rate: of edit decision lists, which do not say theirs. Raises MarksError."""
    from boxkite.core.edit.edl.timelines import read_edl_edit
    from boxkite.core.edit.otio.reading import read_otio_edit

    edit = read_edl_edit(path, rate) if path.suffix.lower() == ".edl" else read_otio_edit(path)
    for timeline in edit.timelines:
        _check_times(timeline, path)
    return edit


def _check_times(timeline: Timeline, path: Path) -> None:
    """Make sure that no time lies further away than frames can be counted. Raises MarksError."""
    for clip in (clip for track in timeline.tracks for clip in track.clips):
        if max(clip.record.end, abs(clip.source_start), clip.media.frames or 0) > _MOST_FRAMES:
            raise MarksError(f"“{clip.name}” ({clip.origin}) has an impossible time", path=path)
        if clip.nested:
            _check_times(clip.nested, path)


def marks_from_edit(edit: Edit) -> MarkList:
    """The markers of the first timeline of an edit, and those on its clips. Raises MarksError without one."""
    timeline = edit.timelines[0]
    on_clips = [marker for track in timeline.tracks for clip in track.clips for marker in clip.markers]
    markers = sorted([*timeline.markers, *on_clips], key=lambda marker: marker.start)
    if not markers:
        raise MarksError("there is no marker in this timeline", path=edit.path)

    def written(frame: int) -> WrittenTime:
        return WrittenTime(str(timeline.start + frame), drop=timeline.start.drop)

    marks = tuple(
        Mark(
            marker.name,
            written(marker.start),
            written(marker.end) if marker.end is not None else None,
            keywords=marker.keywords,
            note=marker.note,
            colour=marker.colour,
            circled=marker.circled,
        )
        for marker in markers
    )
    return MarkList(edit.path, "marker list", marks, warnings=edit.warnings, rate=timeline.rate)


def marks_from_chapters(source: Source) -> MarkList:
    """The chapters of a media file as points. Raises MarksError when it has none."""
    if not source.chapters:
        raise MarksError(
            "the file has no chapters to cut at",
            path=source.path,
            hint=f"give a marker list or a table of ranges with {setting('marks')}",
        )
    marks = tuple(
        Mark(chapter.name, WrittenTime(f"chapter {number}", seconds=chapter.start))
        for number, chapter in enumerate(source.chapters, start=1)
    )
    return MarkList(source.path, "chapters", marks)
