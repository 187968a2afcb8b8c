"""Making marks on sources and timelines: times checked and written alike, names by rule, lists in and out."""

from __future__ import annotations

from collections import Counter as TallyCounter
from collections.abc import Mapping, Sequence
from pathlib import Path

from msgspec import Struct
from msgspec.structs import replace

from boxkite.core.edit.edl.markers import write_edl_markers
from boxkite.core.edit.otio.writing import write_otio_edit
from boxkite.core.edit.reading import is_edit, read_edit
from boxkite.core.edit.timeline import Clip, ClipKind, EditMarker, MediaName, Timeline, Track, TrackKind
from boxkite.core.errors import FootageError, MarksError, setting
from boxkite.core.files.cells import table_bytes
from boxkite.core.files.writing import create_file
from boxkite.core.footage.find import find_sources
from boxkite.core.footage.frame_index import FrameIndex, measure_frames
from boxkite.core.footage.source import ImageSettings, Source, SourceKind
from boxkite.core.marks.colours import is_colour
from boxkite.core.marks.mark import Mark, MarkList, WrittenTime
from boxkite.core.marks.mark_table import COLUMNS, MarkRow
from boxkite.core.naming.pattern import check_tokens, plain_text, read_text_pattern
from boxkite.core.naming.values import Counter, Number, Text, Value
from boxkite.core.notices.marks import MARK_SHORTENED, NO_PLACE_IN_LIST, OF_OTHER_SOURCES, OUTSIDE_SOURCE
from boxkite.core.notices.notice import Notice, counted
from boxkite.core.shots.placing import PlacedMark, index_source, place_marks
from boxkite.core.shots.shot import IndexedSource
from boxkite.core.timebase import FrameRate, Span

NAME_TOKENS = ("marker", "source", "in", "out", "keyword", "keywords", "note", "colour", "count", "total")


class Markable(Struct, frozen=True):
    """A source or a timeline that marks are made on: by which name a table calls it, and its frames."""

    path: Path
    name: str
    footage: IndexedSource
    names: tuple[str, ...]

    def text(self, frame: int) -> str:
        """A place as tables hold it: timecode where there is one, else frames from the first."""
        return str(self.footage.timecode(frame)) if self.footage.has_timecode else str(frame)


def open_markable(path: Path, rate: FrameRate | None) -> Markable:
    """A media file, the numbered images of a folder, or a timeline. Raises a RequestError for anything else.

    rate: of edit decision lists and numbered images.
    """
    if is_edit(path):
        return _markable_timeline(path, rate)
    found = find_sources([path], ImageSettings(rate))
    if not found.sources:
        reason = found.unreadable[0] if found.unreadable else None
        raise FootageError(reason.reason if reason else "there is no source here", path=path)
    if len(found.sources) > 1:
        raise FootageError(f"{len(found.sources)} sources are here", path=path, hint="name one of them")
    source = found.sources[0]
    if not source.video:
        raise FootageError("there is no picture in it to mark", path=path)
    footage = index_source(source, measure_frames(source), None)
    return Markable(path, source.path.name, footage, (source.path.name, source.clip_name, source.label))


def _markable_timeline(path: Path, rate: FrameRate | None) -> Markable:
    timeline = read_edit(path, rate).timelines[0]
    length = timeline.length
    table = FrameIndex(timeline.rate, length, length, 0, 1 / timeline.rate.fraction, constant=True)
    source = Source(path, SourceKind.TIMELINE, "timeline", 0, timeline.rate.seconds(length), None)
    footage = IndexedSource(source, table, timeline.start, timeline.start_known)
    return Markable(path, path.name, footage, (path.name, path.stem))


def make_mark(on: Markable, start: str, end: str = "", length: str = "", **fields: object) -> MarkRow:
    """A mark with its times checked against what it lies on; no start marks the whole of it.

    start, end, length: timecode, frames, or seconds with an "s". words: the other fields of a MarkRow.
    Raises MarksError for times that do not exist there.
    """
    if end and length:
        raise MarksError(
            "give either an out or a length", hint=f"{setting('out')} 10:00:05:00, or {setting('length')} 2s"
        )
    whole = on.footage.frame_index.span
    if not start:
        placed = PlacedMark(Mark("", WrittenTime("0")), 0, whole.end)
    else:
        mark = Mark("", WrittenTime(start), WrittenTime(end) if end else None, length)
        (placed,) = place_marks(MarkList(on.path, "mark", (mark,)), [mark], on.footage, None)
    last = placed.end if placed.end is not None else placed.start + 1
    if placed.start < 0 or last > whole.end:
        raise MarksError(
            f"that is outside: {on.name} runs from {on.text(0)} to {on.text(whole.end)}", path=on.path
        )
    row = MarkRow(on.name, in_text=on.text(placed.start))
    row = replace(row, out_text=on.text(placed.end) if placed.end is not None else "")
    return replace(row, **fields)


def rows_from_list(
    on: Markable, marks: MarkList, rate: FrameRate | None
) -> tuple[list[MarkRow], list[Notice]]:
    """The marks of any list that lie on a source, as rows of its table, and notices of the others."""
    names = {name.casefold() for name in on.names}
    chosen = [mark for mark in marks.marks if not mark.source_name or mark.source_name.casefold() in names]
    rows, notices = [], []
    for placed in place_marks(marks, chosen, on.footage, rate):
        whole = on.footage.frame_index.span
        end = placed.end if placed.end is not None else placed.start + 1
        if end <= 0 or placed.start >= whole.end:
            time = placed.mark.start.text
            notices.append(OUTSIDE_SOURCE(name=placed.mark.name, time=time, source=on.name))
            continue
        mark = placed.mark
        span = Span(placed.start, end).clipped_to(whole)
        if span != Span(placed.start, end):
            notices.append(MARK_SHORTENED(name=mark.name, source=on.name))
        rows.append(
            MarkRow(
                on.name,
                mark.name,
                on.text(span.start),
                on.text(span.end) if placed.end is not None else "",
                mark.keywords,
                mark.circled,
                mark.note,
                mark.colour,
                tuple(mark.metadata.items()),
            )
        )
    others = len(marks.marks) - len(chosen)
    if others:
        notices.append(OF_OTHER_SOURCES(count=others).of(marks.path.name))
    return rows, notices


def named_by_rule(rows: Sequence[MarkRow], pattern_text: str) -> list[MarkRow]:
    """Rows with new names by a pattern; @marker is the old name, @count the place among these rows.

    Raises PatternError for a pattern that cannot be understood.
    """
    pattern = read_text_pattern(pattern_text)
    check_tokens(pattern, set(NAME_TOKENS))
    return [
        replace(row, name=plain_text(pattern, _values(row, index, len(rows))).strip())
        for index, row in enumerate(rows)
    ]


def _values(row: MarkRow, index: int, total: int) -> Mapping[str, Value]:
    return {
        "marker": Text(row.name),
        "source": Text(Path(row.source).stem),
        "in": Text(row.in_text),
        "out": Text(row.out_text),
        "keyword": Text(row.keywords[0] if row.keywords else ""),
        "keywords": Text(", ".join(row.keywords)),
        "note": Text(row.note),
        "colour": Text(row.colour),
        "count": Counter(index),
        "total": Number(total),
    }


def export_marks(path: Path, on: Markable, rows: Sequence[MarkRow]) -> list[Notice]:
    """Write the marks of one source as a marker list (.edl), a timeline (.otio) or a table (.csv, .tsv).

    Notices of what the form cannot carry.
    Raises MarksError when the file is there already, or its extension is none of these.
    """
    try:
        return _write_marks(path, on, rows)
    except FileExistsError:
        raise MarksError(
            "this file is there already", path=path, hint="nothing is overwritten: name another"
        ) from None
    except OSError as error:
        raise MarksError(f"it cannot be written: {error.strerror or error}", path=path) from None


def _write_marks(path: Path, on: Markable, rows: Sequence[MarkRow]) -> list[Notice]:
    marks = [_as_mark(row) for row in rows]
    placed = place_marks(MarkList(path, "mark", tuple(marks)), marks, on.footage, None)
    suffix = path.suffix.lower()
    whole = on.footage.frame_index.span
    if suffix == ".edl":
        points = [(on.footage.timecode(one.start), one.mark.colour, one.mark.name) for one in placed]
        write_edl_markers(path, on.name, on.footage.start, on.footage.timecode(whole.end), points)
    elif suffix == ".otio":
        write_otio_edit(path, _marked_timeline(on, placed))
    elif suffix in (".csv", ".tsv"):
        _write_table(path, rows, "\t" if suffix == ".tsv" else ",")
    else:
        raise MarksError(
            f"marks are not written as “{suffix}”", path=path, hint="give it .csv, .tsv, .edl or .otio"
        )
    return _left_behind(suffix, placed, rows)


def _left_behind(suffix: str, placed: Sequence[PlacedMark], rows: Sequence[MarkRow]) -> list[Notice]:
    """A notice of the columns that a form of list has no place for, with the number of marks that lose each."""
    if suffix in (".csv", ".tsv"):
        return []
    left = TallyCounter(column for row in rows for column, value in row.extra if value)
    if suffix == ".edl":
        left["out"] += sum(one.end is not None and one.end > one.start for one in placed)
        for row in rows:
            filled = {"keywords": row.keywords, "circled": row.circled, "note": row.note}
            left.update(column for column, value in filled.items() if value)
            left["colour"] += bool(row.colour) and not is_colour(row.colour.upper())
    columns = [f"{column} ({counted(number, 'mark')})" for column, number in left.items() if number]
    if not columns:
        return []
    others = ".csv or .otio" if left["out"] or left["keywords"] else ".csv"
    return [NO_PLACE_IN_LIST(columns=columns, others=others)]


def _as_mark(row: MarkRow) -> Mark:
    end = WrittenTime(row.out_text) if row.out_text and row.out_text != row.in_text else None
    return Mark(
        row.name,
        WrittenTime(row.in_text),
        end,
        "",
        row.keywords,
        row.note,
        row.colour,
        row.circled,
        row.source,
    )


def _marked_timeline(on: Markable, placed: Sequence[PlacedMark]) -> Timeline:
    """The source as a timeline of one clip, its marks on the timeline."""
    markers = tuple(
        EditMarker(
            one.mark.name,
            one.start,
            one.end,
            one.mark.colour,
            one.mark.note,
            one.mark.keywords,
            one.mark.circled,
        )
        for one in placed
    )
    rate, start, span = on.footage.frame_index.rate, on.footage.start, on.footage.frame_index.span
    media = MediaName(on.name, str(on.path), first=start.frame, rate=rate)
    clip = Clip(on.name, ClipKind.MEDIA, span, media, start.frame, rate)
    return Timeline(Path(on.name).stem, rate, start, (Track(TrackKind.PICTURE, "V1", (clip,)),), markers)


def _write_table(path: Path, rows: Sequence[MarkRow], delimiter: str) -> None:
    own = list(dict.fromkeys(column for row in rows for column, _ in row.extra))
    create_file(path, table_bytes([[*COLUMNS, *own], *(row.cells(own) for row in rows)], delimiter=delimiter))
