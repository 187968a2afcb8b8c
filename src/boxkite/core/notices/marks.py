"""Notices of marks and of the lists and tables they stand in."""

from boxkite.core.errors import setting
from boxkite.core.notices.notice import Kind

MARKS_BESIDE = Kind("marks-beside", "cut at {count:mark} kept in {tables:list}, in the folder of the footage")
MARKS_UNREADABLE = Kind("marks-unreadable", "the marks beside the footage cannot be read: {reason}")
MARKS_UNUSED = Kind(
    "marks-unused",
    f"not cut at {{count:mark}} kept in {{tables:list}}, in the folder of the footage:"
    f" {setting('by')} {{way}} cuts there",
)
COUNTING_DIFFERS = Kind(
    "counting-differs",
    "{list} counts {list_counting}, {source} {source_counting}: times are measured from the start timecode, each in the"
    " list's counting",
)
HALF_RATE = Kind(
    "half-rate",
    f"{{list}} has no frame number above {{highest}}: if it counts at {{half}} fps and not at {{rate}}, say"
    f" {setting('marks-rate')} {{half}}",
)
WITHOUT_SOURCE = Kind("mark-without-source", "no source is called “{source}”: no file")
UNSORTED = Kind("marks-unsorted", "its marks are not in order of time; they were sorted")
CLOSING_MARKER_LATE = Kind(
    "closing-marker-late",
    "the closing marker is {frames:frame} after the end of the media; the last shot ends with the media",
)
BEFORE_MEDIA = Kind("mark-before-media", "“{name}” ({time}) is before the first frame: no file")
AFTER_MEDIA = Kind("mark-after-media", "“{name}” ({time}) is after the last frame: no file")
SAME_FRAME = Kind(
    "mark-on-same-frame", "“{name}” is on the same frame as “{first}” ({first_origin}): no separate file"
)
TITLE_SKIPPED = Kind("title-skipped", "a title above the head, skipped: {text}")
WITHOUT_HEAD = Kind("column-without-head", "without a head, so kept as: {columns:list}")
SECTION_SKIPPED = Kind("section-skipped", "a row without a time, skipped: {text}")
LINE_WITHOUT_TIME = Kind("line-without-time", "a line without a time, skipped: {text}")
RANGE_WITHOUT_OUT = Kind("range-without-out", "“{name}” has no out: no file")
OUTSIDE_SOURCE = Kind("mark-outside-source", "“{name}” ({time}) is outside {source}: left out")
MARK_SHORTENED = Kind("mark-shortened", "“{name}” is shortened: {source} ends")
NO_PLACE_IN_LIST = Kind(
    "no-place-in-list",
    "not in this list, which has no place for it: {columns:list}; a {others} file carries it",
)
OF_OTHER_SOURCES = Kind("marks-of-other-sources", "{count:mark} about other sources")
ROW_WITHOUT_SOURCE = Kind("row-without-source", "no source is called “{names}”")
ROWS_WITHOUT_SOURCE = Kind("rows-without-source", "{count} more rows find no source")
SOURCES_WITHOUT_ROW = Kind("sources-without-row", "no row is about {sources:list}")
