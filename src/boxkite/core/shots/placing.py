"""From times as a list writes them to frames of a source.

Conventions, for every list: `in` is the first frame of a shot, `out` the first frame after it. Timecodes are
placed by the source's start timecode, read in the list's own way of counting. A list at another rate is
placed by real time, but frame for frame where both rates count alike (23.976 and 24, 29.97 and 30).
"""

from __future__ import annotations

import re
from fractions import Fraction
from pathlib import Path

from msgspec import Struct

from boxkite.core.errors import BoxkiteError, MarksError
from boxkite.core.footage.frame_index import FrameIndex
from boxkite.core.footage.source import Source
from boxkite.core.marks.mark import Mark, MarkList, WrittenTime
from boxkite.core.notices.marks import COUNTING_DIFFERS, HALF_RATE
from boxkite.core.notices.notice import Notice
from boxkite.core.shots.shot import IndexedSource
from boxkite.core.timebase import (
    FrameRate,
    Timecode,
    convert_frames,
    frames_per_day,
    is_timecode_like,
    round_fraction,
    timecode_to_frames,
)

_FRAMES = re.compile(r"\d{1,9}", re.ASCII)
_FAST = 48
_ENOUGH_TO_TELL = 6
"""Different frame numbers in a list before their being all in the lower half is no accident (1 in 64)."""
_CLOCK = re.compile(
    r"(?:(\d{1,2}):(?=\d{1,2}:\d{2}[.,]))?(?:(\d{1,3}):)?((?<=:)\d{2}(?:[.,]\d{1,6})?|\d{1,7}[.,]\d{1,6})",
    re.ASCII,
)
"""Hours, minutes and seconds as clocks show them; with hours only where there is a decimal point."""
_SECONDS = re.compile(r"(\d{1,7}(?:[.,]\d{1,9})?)\s*s", re.ASCII)


class PlacedMark(Struct, frozen=True):
    """A mark with the frames of its source; `end` is None for a point. Frames may lie outside the media."""

    mark: Mark
    start: int
    end: int | None


def index_source(source: Source, table: FrameIndex, start_timecode: str | None) -> IndexedSource:
    """Settle which timecode the first frame bears: the one given, the source's own, or zero.

    Raises TimecodeError or RateError when the given one does not exist at the source's rate.
    """
    found = source.start_timecode
    if start_timecode is not None:
        as_found = found.drop and table.rate.can_drop if found else None
        return IndexedSource(source, table, Timecode.parse(start_timecode, table.rate, drop=as_found), True)
    if found is None:
        return IndexedSource(source, table, Timecode(0, table.rate), False)
    return IndexedSource(
        source, table, found.relabelled(table.rate, drop=found.drop and table.rate.can_drop), True
    )


def place_marks(
    marks: MarkList, chosen: list[Mark], footage: IndexedSource, marks_rate: FrameRate | None
) -> list[PlacedMark]:
    """Lay marks on a source. Raises MarksError, with file and line, for a time its rate does not have."""
    placing = _Placing(footage, marks_rate or marks.rate or footage.frame_index.rate, marks.path)
    for time in marks.other_times:
        placing.frame(time)
    return [placing.mark(mark) for mark in chosen]


def counting_notice(marks: MarkList, footage: IndexedSource) -> Notice | None:
    """A notice when the list counts drop-frame and the source does not, or the other way round."""
    if not footage.has_timecode or not footage.start.rate.can_drop:
        return None
    stated = {time.drop for mark in marks.marks for time in [mark.start] if time.drop is not None}
    separators = {";" in mark.start.text for mark in marks.marks if ":" in mark.start.text}
    if separators == {True}:
        stated = {True}
    if len(stated) != 1 or stated == {footage.start.drop}:
        return None
    names = {True: "drop-frame", False: "non-drop"}
    return COUNTING_DIFFERS(
        list=marks.path.name,
        list_counting=names[stated.pop()],
        source=footage.source.label,
        source_counting=names[footage.start.drop],
    )


def half_rate_notice(marks: MarkList, footage: IndexedSource, marks_rate: FrameRate | None) -> Notice | None:
    """A notice when a list for a fast program seems to count at half its rate, as many lists must."""
    rate = footage.frame_index.rate
    if marks_rate or rate.nominal < _FAST:
        return None
    counted = {
        re.split("[:;]", mark.start.text)[-1] for mark in marks.marks if is_timecode_like(mark.start.text)
    }
    if len(counted) < _ENOUGH_TO_TELL:
        return None
    if max(int(frames) for frames in counted) >= rate.nominal // 2:
        return None
    half = FrameRate(rate.fraction / 2)
    highest = rate.nominal // 2 - 1
    return HALF_RATE(list=marks.path.name, highest=highest, half=str(half), rate=str(rate))


class _Placing(Struct, frozen=True):
    footage: IndexedSource
    rate: FrameRate
    path: Path

    def mark(self, mark: Mark) -> PlacedMark:
        start = self.frame(mark.start)
        end = None
        if mark.end is not None:
            end = self.frame(mark.end)
        elif mark.length:
            end = start + self.length(mark)
        if end is not None and end <= start:
            out = mark.end.text if mark.end else mark.length
            raise MarksError(
                f"out ({out}) does not come after in ({mark.start.text})",
                path=self.path,
                line=mark.start.line,
                hint="out is the first frame after the range",
            )
        return PlacedMark(mark, start, end)

    def frame(self, time: WrittenTime) -> int:
        """The frame of the source at a written time, as calculated: before 0 or after the end too."""
        table = self.footage.frame_index
        if time.seconds is not None:
            return round_fraction((time.seconds - table.first_pts * table.time_base) * table.rate.fraction)
        text = time.text.strip().removeprefix("'")
        try:
            if _FRAMES.fullmatch(text):
                return self._to_source(int(text))
            if (seconds := _seconds(text)) is not None:
                return table.rate.frames_in(seconds)
            return self._to_source(self._offset(text, time.drop))
        except BoxkiteError as error:
            raise MarksError(error.message, path=self.path, line=time.line, hint=error.hint) from None

    def length(self, mark: Mark) -> int:
        """The length of a mark in frames of the source."""
        text, line = mark.length.strip().removeprefix("'"), mark.start.line
        try:
            if _FRAMES.fullmatch(text):
                return self._to_source(int(text))
            if (seconds := _seconds(text)) is not None:
                return self.footage.frame_index.rate.frames_in(seconds)
            return self._to_source(timecode_to_frames(text, self.rate)[0])
        except BoxkiteError as error:
            raise MarksError(error.message, path=self.path, line=line, hint=error.hint) from None

    def _offset(self, timecode: str, assumed: bool | None) -> int:
        """Frames of the list from the source's start to a timecode, over midnight where that fits."""
        if assumed is None:
            assumed = self.footage.start.drop and self.rate.can_drop
        frame, drop = timecode_to_frames(timecode, self.rate, drop=assumed)
        start = self.footage.start.relabelled(self.rate, drop=drop)
        offset = frame - start.frame
        if offset < 0:
            over_midnight = offset + frames_per_day(self.rate, drop=drop)
            if self._to_source(over_midnight) <= self.footage.frame_index.frame_count:
                return over_midnight
        return offset

    def _to_source(self, frames: int) -> int:
        to_rate = self.footage.frame_index.rate
        if self.rate.nominal == to_rate.nominal:
            return frames
        return convert_frames(frames, self.rate, to_rate)


def _seconds(text: str) -> Fraction | None:
    """Seconds written as 4.5s, 4.5, 0:05, 1:02.5 or 00:01:02.500; None for anything else."""
    if match := _SECONDS.fullmatch(text):
        return Fraction(match[1].replace(",", "."))
    match = _CLOCK.fullmatch(text)
    if match and not (match[1] and re.search(r"[.,]\d{2}$", text)):  # 01:00:00.05 is a timecode
        hours, minutes, seconds = (Fraction((part or "0").replace(",", ".")) for part in match.groups())
        return (hours * 60 + minutes) * 60 + seconds
    return None
