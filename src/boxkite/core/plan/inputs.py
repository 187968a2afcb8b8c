"""Every file that a plan reads: none of them is ever replaced by what it makes."""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path

from boxkite.core.footage.source import Source
from boxkite.core.job.job import Job
from boxkite.core.looks.look import FileStep, SpacesStep, look_words
from boxkite.core.marks.mark_table import table_beside
from boxkite.core.plan.rows import Row
from boxkite.core.presets.model import Preset


class Inputs:
    """The files that rows and job of a plan read, known by what they are on disk, whatever they are called."""

    def __init__(self, job: Job, rows: Sequence[Row]) -> None:
        self._known: dict[tuple[int, int], Path] = {}
        for path in dict.fromkeys([*_of_job(job), *_of_rows(rows)]):
            try:
                found = path.stat()
            except (OSError, ValueError):
                continue
            self._known.setdefault((found.st_dev, found.st_ino), path)

    def among(self, path: Path) -> Path | None:
        """The input that a file is, or that lies in a folder; None where there is none."""
        for one in (path, *_inside(path)):
            try:
                found = one.stat()
            except (OSError, ValueError):
                continue
            if known := self._known.get((found.st_dev, found.st_ino)):
                return known
        return None


def used_by(row: Row) -> str:
    """The files that a row is made from, and its look, for a log."""
    sources = [source for piece in row.pieces for source in piece.shot.footage.sources]
    used = [", ".join(dict.fromkeys(str(source.path) for source in sources))]
    used += [f"look {look_words(row.look)}"] if row.look else []
    used += [f"look file {step.path}" for step in row.look if isinstance(step, FileStep)]
    used += [f"watermark {mark.image}" for mark in row.preset.watermark if mark.image]
    sound = row.audio_source.path
    used += [f"audio {sound}"] if sound not in {source.path for source in sources} else []
    return "; ".join(used)


def _inside(path: Path) -> Iterator[Path]:
    if path.is_dir():
        for parent, folders, names in os.walk(path):
            yield from (Path(parent, name) for name in (*folders, *names))


def _of_job(job: Job) -> Iterator[Path]:
    yield from (*job.paths, *job.metadata, *job.media, *job.sound)
    yield from (path for path in (job.marks, job.watermark, job.look) if path)
    yield from (preset.path for preset in job.presets.own)


def _of_rows(rows: Sequence[Row]) -> Iterator[Path]:
    footages = {id(row.shot.footage): row.shot.footage for row in rows}
    sources = {id(source): source for footage in footages.values() for source in footage.sources}
    for source in sources.values():
        yield from _of_source(source)
    for preset in {id(row.preset): row.preset for row in rows}.values():
        yield from _of_preset(preset)
    for look in {row.look for row in rows if row.look}:
        yield from (step.path for step in look if isinstance(step, FileStep))
        yield from (step.config for step in look if isinstance(step, SpacesStep) and step.config)


def _of_source(source: Source) -> Iterator[Path]:
    """The file or images of a source, and whatever beside it bears its name: sidecars, grades, recorded audio."""
    if source.sequence:
        images = source.sequence
        yield images.folder
        yield from (images.folder / images.file_name(one) for one in range(images.first, images.last + 1))
    yield source.path
    yield table_beside(source.path)
    yield from _sidecars(source)


def _sidecars(source: Source) -> Iterable[Path]:
    from boxkite.core.footage.kinds import MEDIA_SUFFIXES

    stem = source.path.stem
    try:
        beside = [one for one in source.path.parent.iterdir() if one.name.startswith(f"{stem}.")]
    except OSError:
        return []
    return [one for one in beside if one.suffix.lower() not in MEDIA_SUFFIXES]


def _of_preset(preset: Preset) -> Iterator[Path]:
    yield from (mark.image for mark in preset.watermark if mark.image)
    yield from (line.font for line in preset.burn_in if isinstance(line.font, Path))
