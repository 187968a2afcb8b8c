"""Delivered files with all that is known of each: the shot they were made from, and the values of tokens."""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import datetime
from pathlib import Path

from msgspec import Struct
from msgspec.structs import replace

from boxkite.core.batch.packing import unpack
from boxkite.core.errors import BoxkiteError, RecordsError, RequestError
from boxkite.core.footage.find import find_sources
from boxkite.core.footage.frame_index import measure_frames
from boxkite.core.footage.source import Source
from boxkite.core.handover.checking import is_media
from boxkite.core.handover.delivery import DeliveredFile, Delivery
from boxkite.core.metadata.lookup import know
from boxkite.core.naming.values import Date, FrameTime, Number, ReadTime, Text, Value
from boxkite.core.notices.footage import FILE_SKIPPED
from boxkite.core.notices.marks import SOURCES_WITHOUT_ROW
from boxkite.core.notices.notice import Notice
from boxkite.core.plan.rows import Row
from boxkite.core.records.store import Records
from boxkite.core.shots.placing import index_source
from boxkite.core.shots.shot import Shot
from boxkite.core.shots.token_listing import whole_source
from boxkite.core.shots.tokens import (
    COLUMN_PREFIX,
    TOKENS,
    NamingContext,
    OutputFacts,
    ShotValues,
    output_values,
)
from boxkite.core.timebase import Timecode, round_fraction

FILE_TOKENS = {
    "filename": "name of the finished file with its extension; of numbered images, of their folder",
    "name": "the same without the extension",
    "path": "path of the finished file below its output folder",
    "extension": "extension of the finished file, without the dot",
    "checksum": "checksum of the finished file as the batch took it (XXH3, 128 bits)",
    "bytes": "size of the finished file in bytes",
    "megabytes": "size of the finished file in MB, rounded",
    "seconds": "length of the finished file in seconds, as 12.48",
    "frames": "how many frames the finished file has",
    "fps": "frame rate of the finished file",
    "width": "width of its picture in pixels",
    "height": "height of its picture in pixels",
    "start": "timecode of its first frame",
    "circled": "yes or no",
    "batch": "name of the batch that made it",
    "made": "when it was made",
}
"""The tokens that only finished files have, each with its help; beside all those of names."""


class _AsRead(Mapping[str, Value]):
    """The values of a file, then those of its shot, with times as they are read."""

    def __init__(self, of_file: Mapping[str, Value], of_shot: Mapping[str, Value]) -> None:
        self._of_file = of_file
        self._of_shot = of_shot

    def __getitem__(self, name: str) -> Value:
        if name in self._of_file:
            return self._of_file[name]
        value = self._of_shot[name]
        return ReadTime(value.frames, value.timecode) if isinstance(value, FrameTime) else value

    def __contains__(self, name: object) -> bool:
        return name in self._of_file or name in self._of_shot

    def __iter__(self) -> Iterator[str]:
        yield from dict.fromkeys([*self._of_file, *self._of_shot])

    def __len__(self) -> int:
        return sum(1 for _ in self)


class Described(Struct, frozen=True):
    """One delivered file."""

    file: DeliveredFile
    shot: Shot
    row: Row | None
    """What it was made from, where a batch on record made it."""
    values: Mapping[str, Value]
    """By token name."""
    is_made: bool = True
    """Whether the file is there; else it is planned."""
    parts: tuple[Path, ...] = ()
    """The images of a sequence that no batch made."""

    @property
    def seconds(self) -> float:
        """How long it is."""
        if self.row:
            return float(self.row.frames / self.row.rate.fraction)
        return float(self.shot.span.length / self.shot.footage.frame_index.rate.fraction)

    @property
    def frames(self) -> int:
        """How many frames it has."""
        return self.row.frames if self.row else self.shot.span.length

    @property
    def fps(self) -> float:
        """Frames a second; 25 where there is none."""
        return self.frames / self.seconds if self.seconds else 25.0

    @property
    def is_copied(self) -> bool:
        """Whether its frames keep the times that a source had: it was copied, or no batch made it."""
        return self.row is None or self.row.is_copied

    @property
    def aspect(self) -> float:
        """Width ÷ height of its picture as it is seen; that of usual pictures where it has none."""
        geometry, video = self.row.geometry if self.row else None, self.shot.footage.source.video
        if geometry and not self.is_copied:
            return float(geometry.width_px * geometry.sample_aspect / geometry.height_px)
        if video is None:
            return 16 / 9
        seen = video.width_px * video.sample_aspect / video.height_px
        return float(1 / seen if video.rotation_degrees % 180 else seen)

    @property
    def start(self) -> Timecode:
        """Timecode of its first frame."""
        return self.row.start_timecode if self.row else self.shot.footage.timecode(self.shot.span.start)


class Description(Struct, frozen=True):
    """A delivery with what is known of its files."""

    delivery: Delivery
    files: tuple[Described, ...]
    notices: tuple[Notice, ...] = ()

    @property
    def tokens(self) -> set[str]:
        """Every token a pattern may use."""
        columns = {column for one in self.files for column in one.shot.metadata}
        return {*TOKENS, *FILE_TOKENS, *columns, *(COLUMN_PREFIX + column for column in columns)}


def describe(
    delivery: Delivery, tables: Sequence[Path] = (), *, user: str = "", with_planned: bool = False
) -> Description:
    """The files of a delivery in the order of their plan, else of their names, with the values of all tokens.

    tables: metadata about the files, by file name. with_planned: those of a batch that are not made yet, too.
    Raises RequestError where there is no media, MarksError for a table that cannot be read.
    """
    rows, others = _rows_of(delivery, with_planned=with_planned)
    notices: list[Notice] = []
    found: list[Described] = []
    by_batch: dict[str, list[tuple[DeliveredFile, Row, bool]]] = {}
    for file, row, is_made in rows:
        by_batch.setdefault(file.batch, []).append((file, row, is_made))
    for made in by_batch.values():
        own = [row.shot for _, row, _ in made]
        shots = _with_tables(made, own, tables, notices) if tables else own
        values = ShotValues(shots, NamingContext(now=_made_at(made[0][0]), user=user))
        for index, ((file, row, is_made), shot) in enumerate(zip(made, shots, strict=True)):
            facts = OutputFacts(row.preset.name, row.size, _codec_of(row))
            own_values = {**output_values(facts), **_file_values(file, row, shot, is_made=is_made)}
            known = _AsRead(own_values, values.of(shot, index))
            found.append(Described(file, shot, row, known, is_made))
    found += _of_others(others, tables, user, notices)
    if not found:
        raise RequestError(f"there is no media in {delivery.label}")
    return Description(delivery, tuple(found), tuple(notices))


def by_shot(files: Iterable[Described]) -> list[list[Described]]:
    """The files that belong together, as they hold one span of one source, in the order of their first."""
    groups: dict[object, list[Described]] = {}
    for one in files:
        row = one.row
        key: object = one.file.path
        if row:
            key = (row.shot.footage.source.path, row.shot.span, row.shot.marker, one.file.batch)
        groups.setdefault(key, []).append(one)
    return list(groups.values())


def _made_at(file: DeliveredFile) -> datetime:
    ended = file.record.ended or file.record.started if file.record else ""
    return datetime.fromisoformat(ended) if ended else datetime.now()


def _rows_of(
    delivery: Delivery, *, with_planned: bool
) -> tuple[list[tuple[DeliveredFile, Row, bool]], list[DeliveredFile]]:
    """The files whose rows are on record, and the others that are there."""
    others = [DeliveredFile(delivery.roots[0], path) for path in delivery.others if is_media(path)]
    rows: list[tuple[DeliveredFile, Row, bool]] = []
    if not delivery.batches and not (with_planned and delivery.not_made):
        there = [file for file in delivery.files if file.path.exists()]
        return rows, [] if delivery.is_batch else [*there, *others]
    with Records() as records:
        names = dict.fromkeys([*delivery.batches, *([delivery.label] if delivery.is_batch else [])])
        plans = {name: _plan(records, name) for name in names}
    for file in delivery.files:
        row = plans[file.batch].get(file.record.number) if file.record else None
        if not file.path.exists():
            continue
        if row:
            rows.append((file, row, True))
        else:
            others.append(file)
    for record in delivery.not_made if with_planned else ():
        if row := plans[delivery.label].get(record.number):
            rows.append((DeliveredFile(row.folder, record.path, record, delivery.label), row, False))
    rows.sort(key=lambda one: (one[0].batch, one[1].number))
    return rows, [] if delivery.is_batch else others


def _plan(records: Records, name: str) -> dict[int, Row]:
    try:
        return {row.number: row for row in unpack(records.packed_plan(name)).rows}
    except RecordsError:
        return {}


def _codec_of(row: Row) -> str:
    video = row.shot.footage.source.video
    if row.is_copied:
        return video.codec if video else ""
    return row.preset.video.codec if row.preset.video else ""


def _with_tables(
    made: Sequence[tuple[DeliveredFile, Row, bool]],
    shots: Sequence[Shot],
    tables: Sequence[Path],
    notices: list[Notice],
) -> list[Shot]:
    """The shots with what tables say of the finished files, or of the sources, by their names."""
    sources = {shot.footage.source.path: shot.footage.source for shot in shots}
    finished: dict[Path, Source] = {}
    for file, row, _ in made:
        source = row.shot.footage.source
        finished[file.path] = _called(source, file.path)
    known, found = know([*sources.values(), *finished.values()], tables)
    notices += [
        one for one in found if not one.is_a(SOURCES_WITHOUT_ROW)
    ]  # a row names the source or the file
    changed = []
    for (file, row, _), shot in zip(made, shots, strict=True):
        values = (
            {**known[row.shot.footage.source.path].values, **known[file.path].values}
            if file.path in known
            else {}
        )
        changed.append(replace(shot, metadata={**values, **shot.metadata}) if values else shot)
    return changed


def _called(source: Source, path: Path) -> Source:
    """A source under another name, to be found in tables."""
    return replace(source, path=path, sequence=None, metadata={})


def _of_others(
    files: Iterable[DeliveredFile], tables: Sequence[Path], user: str, notices: list[Notice]
) -> list[Described]:
    """Files that no batch on record made, by what they say themselves."""
    by_path = {file.path: file for file in files}
    if not by_path:
        return []
    found = find_sources(list(by_path))
    notices += [FILE_SKIPPED(reason=one.reason).of(one.path.name) for one in found.unreadable]
    notices += [FILE_SKIPPED(reason=one.reason).of(one.path.name) for one in found.unseen]
    sources, shots = [], []
    known, table_notices = know(found.sources, tables)
    notices += table_notices
    for source in found.sources:
        whole = whole_source(source, known[source.path].values)
        try:
            footage = index_source(source, measure_frames(source), None)
        except BoxkiteError as error:
            notices.append(FILE_SKIPPED(reason=error.message).of(source.label))
            continue
        sources.append(source)
        shots.append(replace(whole, footage=footage, span=footage.frame_index.span))
    values = ShotValues(shots, NamingContext(user=user))
    described = []
    for index, (source, shot) in enumerate(zip(sources, shots, strict=True)):
        parts: tuple[Path, ...] = ()
        if source.sequence:
            numbers = range(source.sequence.first, source.sequence.last + 1)
            parts = tuple(source.sequence.folder / source.sequence.file_name(number) for number in numbers)
        file = by_path.get(source.path) or by_path[parts[0] if parts else source.path]
        video = source.video
        facts = OutputFacts("", video.size if video else "", video.codec if video else "")
        own_values = {**output_values(facts), **_file_values(file, None, shot)}
        own = _AsRead(own_values, values.of(shot, index))
        described.append(Described(file, shot, None, own, parts=parts))
    return described


def _file_values(
    file: DeliveredFile, row: Row | None, shot: Shot, *, is_made: bool = True
) -> dict[str, Value]:
    """The values of FILE_TOKENS."""
    path = file.path
    rate = row.rate if row else shot.footage.frame_index.rate
    frames = row.frames if row else shot.span.length
    start = row.start_timecode if row else shot.footage.timecode(shot.span.start)
    size = row.size if row else (shot.footage.source.video.size if shot.footage.source.video else "")
    width, _, height = size.partition("x")
    size_bytes = 0
    if is_made:
        try:
            size_bytes = sum(part.stat().st_size for part in file.parts())
        except OSError:
            size_bytes = file.record.size_bytes if file.record else 0
    is_folder = file.is_numbered_images
    seconds = round_fraction(frames / rate.fraction * 100)
    made = file.record.ended if file.record else ""
    return {
        "filename": Text(path.name),
        "name": Text(path.name if is_folder else path.stem),
        "path": Text(file.name),
        "extension": Text("" if is_folder else path.suffix.removeprefix(".")),
        "checksum": Text(file.record.checksum if file.record else ""),
        "bytes": Number(size_bytes),
        "megabytes": Number(math.ceil(size_bytes / 1_000_000)),
        "seconds": Text(f"{seconds // 100}.{seconds % 100:02d}"),
        "frames": Number(frames),
        "fps": Text(f"{float(rate.fraction):.3f}".rstrip("0").rstrip(".")),
        "width": Text(width),
        "height": Text(height),
        "start": ReadTime(start.frame, start),
        "length": ReadTime(frames, Timecode(frames, rate)),
        "circled": Text("yes" if shot.circled else "no"),
        "batch": Text(file.batch),
        "made": Date(datetime.fromisoformat(made)) if made else Text(""),
    }
