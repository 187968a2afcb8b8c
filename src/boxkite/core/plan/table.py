"""A plan as a table: written for a spreadsheet, read back cell by cell, and run as it then is."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

from boxkite.core.errors import BoxkiteError, PlanError, setting
from boxkite.core.files.cells import table_bytes
from boxkite.core.files.names import MOST_BYTES, byte_length, clean_value, safe_component
from boxkite.core.files.reading import path_from
from boxkite.core.files.table import TableRow as Line
from boxkite.core.files.table import read_table
from boxkite.core.files.writing import create_file
from boxkite.core.footage.find import find_sources
from boxkite.core.footage.frame_index import measure_frames
from boxkite.core.job.job import FIELD_OF, OPTIONS, Job, Output
from boxkite.core.job.option import default_of
from boxkite.core.marks.ranges import YES, split_keywords
from boxkite.core.naming.images import read_image, written_image
from boxkite.core.notices.shots import NOT_MADE
from boxkite.core.plan.row_names import RowName
from boxkite.core.plan.rows import Plan
from boxkite.core.plan.treatment import Treatment
from boxkite.core.presets.extensions import extension_of
from boxkite.core.presets.model import Preset
from boxkite.core.shots.placing import index_source
from boxkite.core.shots.shot import EditPlace, IndexedSource, LeftOut, Shot
from boxkite.core.timebase import FrameRate, Span, Timecode

EXTENSIONS = (".csv", ".tsv")
_FIXED = ("make", "file", "preset", "folder", "source", "in", "out", "source starts at", "marker", "clip", "keywords",
          "note", "colour", "circled", "timeline", "timeline rate", "track", "event", "record in")  # fmt: skip
_NEEDED = ("file", "preset", "folder", "source", "in", "out")
_NO = ("no", "n", "false", "0", "-")
Progress = Callable[[str], None]


def is_saved_plan(path: Path) -> bool:
    """Whether a path is meant as a saved plan, by its extension."""
    return path.suffix.lower() in EXTENSIONS


def save_plan(plan: Plan, path: Path) -> None:
    """Write a plan as a table (.csv; .tsv with tabs). Raises PlanError when there is something of that name already."""
    if not is_saved_plan(path):
        raise PlanError(
            "a plan is saved as .csv or .tsv", path=path, hint=f"{setting('save-plan')} shots.csv"
        )
    metadata = list(
        dict.fromkeys(
            name for row in plan.rows for name in row.shot.metadata if name.casefold() not in _FIXED
        )
    )
    lines: list[Sequence[str]] = [[*_FIXED, *metadata]]
    for row in plan.rows:
        shot, place = row.shot, row.shot.edited
        cells = {
            "make": "yes",
            "file": f"{row.name}/{written_image(row.image, row.image_digits)}"
            if row.image
            else f"{row.name}{row.extension}",
            "preset": row.preset.name,
            "folder": str(row.folder),
            "source": str(shot.footage.source.path.absolute()),
            "in": str(shot.footage.timecode(shot.span.start)),
            "out": str(shot.footage.timecode(shot.span.end)),
            "source starts at": str(shot.footage.start),
            "marker": shot.marker,
            "clip": shot.clip,
            "keywords": "; ".join(shot.keywords),
            "note": shot.note,
            "colour": shot.colour,
            "circled": "yes" if shot.circled else "",
            "timeline": place.timeline if place else "",
            "timeline rate": str(place.start.rate) if place else "",
            "track": place.track if place else "",
            "event": place.event if place else "",
            "record in": str(place.record_in) if place else "",
        }
        values = [*cells.values(), *(shot.metadata.get(name, "") for name in metadata)]
        lines.append(values)
    try:
        delimiter = "\t" if path.suffix.lower() == ".tsv" else ","
        create_file(path, table_bytes(lines, delimiter=delimiter, line_end="\n"))
    except FileExistsError:
        raise PlanError(
            "this file is there already; nothing was overwritten", path=path, hint="name another"
        ) from None
    except OSError as error:
        raise PlanError(f"it cannot be written: {error.strerror or error}", path=path) from None


class TableReader:
    """Reads a saved plan into shots, each with its output and its name."""

    def __init__(self, job: Job, progress: Progress) -> None:
        """Raises PlanError for words that the table says itself."""
        self.path = job.paths[0]
        self.job = job
        self.progress = progress
        self.table = read_table(self.path)
        self._columns = {column.casefold().strip(): column for column in self.table.columns}
        self._check_columns()
        self._indexed: dict[tuple[Path, str], IndexedSource] = {}
        self._presets: dict[str, Preset] = {}
        self._treatments: dict[tuple[int, str, Path], Treatment] = {}
        self._shots: dict[Any, Shot] = {}

    def _check_columns(self) -> None:
        missing = [name for name in _NEEDED if name not in self._columns]
        if missing:
            raise PlanError(
                f"this is no saved plan: it has no column {' and '.join(f'“{name}”' for name in missing)}",
                path=self.path,
                hint=f"boxkite plan … {setting('save-plan')} shots.csv writes one; a table of ranges"
                f" goes to {setting('marks')}",
            )
        given = [
            key
            for key, name in FIELD_OF.items()
            if not OPTIONS[key].with_saved_plan and getattr(self.job, name) != default_of(Job, name)
        ]
        if given:
            raise PlanError(
                f"a saved plan says this itself: {', '.join(sorted(given))}",
                path=self.path,
                hint="edit the table, or plan again",
            )

    def read(self) -> tuple[list[tuple[Shot, Treatment, RowName]], list[LeftOut]]:
        """(shot, how it is made, its name) of every row that is to be made, and the others.

        Raises PlanError with file, line and column.
        """
        found, left_out = [], []
        for line in self.table.rows:
            if self._cell(line, "make").casefold() in _NO:
                left_out.append(
                    LeftOut(self._cell(line, "file"), f"{self.path.name}:{line.line}", NOT_MADE())
                )
                continue
            try:
                shot = self._shot(line)
                treatment = self._making(line, shot)
            except PlanError:
                raise
            except BoxkiteError as error:
                raise PlanError(error.message, path=self.path, line=line.line, hint=error.hint) from None
            if treatment.unfit:
                raise self._wrong(line, "preset", f"{treatment.preset.name}: {treatment.unfit}")
            found.append((shot, treatment, self._names(line, shot, treatment.preset)))
        if not found:
            raise PlanError("no row of it is to be made", path=self.path)
        return found, left_out

    def _names(self, line: Line, shot: Shot, preset: Preset) -> RowName:
        folder, _, last = (name := self._name(line, shot, preset)).rpartition("/")
        image, digits = read_image(last) if preset.is_sequence and folder else ("", 0)
        return RowName(folder, folder, image, digits) if image else RowName(name, name)

    def _cell(self, line: Line, column: str) -> str:
        return line.cells.get(self._columns.get(column, ""), "").strip()

    def _wrong(self, line: Line, column: str, message: str, hint: str = "") -> PlanError:
        return PlanError(message, path=self.path, line=line.line, key=column, hint=hint)

    def _shot(self, line: Line) -> Shot:
        footage = self._footage(line)
        start, end = (self._frame(line, column, footage) for column in ("in", "out"))
        if end <= start:
            raise self._wrong(
                line, "out", "it does not come after in", "out is the first frame after the shot"
            )
        if end > footage.frame_index.frame_count or start < 0:
            first, last = footage.start, footage.timecode(footage.frame_index.frame_count)
            column = "in" if start < 0 else "out"
            raise self._wrong(
                line, column, f"it is outside {footage.source.label}, which runs from {first} to {last}"
            )
        named = {column.casefold(): column for column in self.table.columns}
        metadata = {
            named[key]: value
            for key in named
            if key not in _FIXED and (value := line.cells.get(named[key], ""))
        }
        shot = Shot(
            footage=footage,
            span=Span(start, end),
            marker=self._cell(line, "marker"),
            keywords=split_keywords(self._cell(line, "keywords")),
            note=self._cell(line, "note"),
            colour=self._cell(line, "colour"),
            circled=self._cell(line, "circled").casefold() in YES,
            metadata=metadata,
            origin=f"{self.path.name}:{line.line}",
            way="files",
            clip=self._cell(line, "clip"),
            edited=self._place(line, footage, end - start),
        )
        key = (
            id(footage),
            start,
            end,
            shot.marker,
            shot.clip,
            shot.keywords,
            shot.note,
            tuple(metadata.items()),
        )
        return self._shots.setdefault(key, shot)

    def _frame(self, line: Line, column: str, footage: IndexedSource) -> int:
        text = self._cell(line, column)
        if text.isascii() and text.isdigit():
            return int(text)
        try:
            return (
                Timecode.parse(text, footage.frame_index.rate, drop=footage.start.drop).frame
                - footage.start.frame
            )
        except BoxkiteError as error:
            raise self._wrong(line, column, error.message, error.hint) from None

    def _place(self, line: Line, footage: IndexedSource, length: int) -> EditPlace | None:
        timeline, record = self._cell(line, "timeline"), self._cell(line, "record in")
        if not (timeline and record):
            return None
        try:
            rate = self._cell(line, "timeline rate")
            start = Timecode.parse(record, FrameRate.parse(rate) if rate else footage.frame_index.rate)
        except BoxkiteError as error:
            raise self._wrong(line, "record in", error.message, error.hint) from None
        return EditPlace(
            timeline, self._cell(line, "track"), self._cell(line, "event"), Span(0, length), start
        )

    def _footage(self, line: Line) -> IndexedSource:
        text, starts = self._cell(line, "source"), self._cell(line, "source starts at")
        path = self.path.absolute().parent / path_from(text)
        if (path, starts) not in self._indexed:
            self.progress(path.name)
            if not text or not path.exists():
                raise self._wrong(line, "source", f"there is no file {text or '(the cell is empty)'}")
            found = find_sources([path], self.job.images)
            if len(found.sources) != 1:
                reason = found.unreadable[0].reason if found.unreadable else "this is no single source"
                raise self._wrong(line, "source", f"{path.name}: {reason}")
            source = found.sources[0]
            try:
                footage = index_source(source, measure_frames(source), starts or None)
            except BoxkiteError as error:
                raise self._wrong(
                    line, "source starts at" if starts else "source", error.message, error.hint
                ) from None
            self._indexed[path, starts] = footage
        return self._indexed[path, starts]

    def _making(self, line: Line, shot: Shot) -> Treatment:
        name, folder = self._cell(line, "preset"), self._cell(line, "folder")
        if not folder:
            raise self._wrong(line, "folder", "the cell is empty")
        if name not in self._presets:
            try:
                self._presets[name] = self.job.presets.load(name)
            except BoxkiteError as error:
                raise self._wrong(line, "preset", error.message, error.hint) from None
        target = self.path.absolute().parent / path_from(folder)
        key = id(shot.footage), name, target
        if key not in self._treatments:
            self._treatments[key] = Treatment.of(shot.footage, Output(name, target), self._presets[name])
        return self._treatments[key]

    def _name(self, line: Line, shot: Shot, preset: Preset) -> str:
        """The name below its folder, without its extension, as safe as a pattern would have made it."""
        text = self._cell(line, "file").replace("\\", "/")
        extension = extension_of(shot.footage.source, preset)
        name = (
            text[: len(text) - len(extension)]
            if extension and text.lower().endswith(extension.lower())
            else text
        )
        parts = name.split("/")
        for part in parts:
            if not part or part != safe_component(clean_value(part)):
                hint = (
                    f"“{safe_component(clean_value(part))}” would do"
                    if safe_component(clean_value(part))
                    else ""
                )
                raise self._wrong(line, "file", f"“{part}” is no name for a file or folder", hint)
            if byte_length(part + extension) > MOST_BYTES:
                raise self._wrong(line, "file", f"“{part[:40]}…” is too long for a file name")
        return name
