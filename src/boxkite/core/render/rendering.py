"""Making the files of one shot: one decode feeds all its outputs, each is proved and then named."""

from __future__ import annotations

import errno
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import av
import numpy as np

from boxkite.core.errors import BoxkiteError, RenderError
from boxkite.core.plan.rows import Row
from boxkite.core.render.pictures import read_pictures
from boxkite.core.render.proving import Expected, picture_look, prove
from boxkite.core.render.publishing import partial_path, publish
from boxkite.core.render.result import Result
from boxkite.core.render.sounds import SoundReader
from boxkite.core.render.writing import FileWriter, expected_samples, sound_rate

Progress = Callable[[int], None]


@dataclass
class _Making:
    row: Row
    partial: Path
    writer: FileWriter
    first_look: np.ndarray | None = None
    last_look: np.ndarray | None = None
    failure: str = ""
    warnings: list[str] = field(default_factory=list)

    def fail(self, error: Exception) -> None:
        self.failure = explain(error)
        self.writer.abandon()
        self.partial.unlink(missing_ok=True)


def explain(error: Exception) -> str:
    """Any error met while rendering, in one line that says what to do where that is known."""
    if isinstance(error, BoxkiteError):
        return f"{error}" + (f" ({error.hint})" if error.hint else "")
    if isinstance(error, OSError) and error.errno == errno.ENOSPC:
        return "the disk is full: make room, then run the rest again"
    if isinstance(error, av.error.FFmpegError):
        return f"the codec library gave up: {error.strerror}"
    if isinstance(error, OSError):
        return f"{error.strerror or error}"
    return f"{type(error).__name__}: {error}"


def render_shot(rows: Sequence[Row], *, threads: int, progress: Progress = lambda _: None) -> list[Result]:
    """Make all files of one shot. rows: of one shot, one for each output.

    threads: for the decoder and for each encoder, 0 for one a core. progress is told how many frames are
    done. A row that fails does not stop the others; damage in the source fails them all. Never raises for
    what happens to a file: the results tell.
    """
    makings: list[_Making] = []
    results: list[Result] = []
    for row in rows:
        partial = partial_path(row.path)
        try:
            row.path.parent.mkdir(parents=True, exist_ok=True)
            makings.append(_Making(row, partial, FileWriter(row, partial, threads)))
        except (BoxkiteError, OSError, ValueError) as error:
            partial.unlink(missing_ok=True)
            results.append(Result(row.number, row.path, failure=explain(error)))
    alive = list(makings)
    try:
        _feed(alive, threads, progress)
    except Exception as error:
        for making in alive:
            if not making.failure:
                making.fail(error)
    for making in makings:
        results.append(_finish(making))
    return sorted(results, key=lambda result: result.row_number)


def _feed(makings: list[_Making], threads: int, progress: Progress) -> None:
    """Decode the shot once and hand every picture and sound to each file that is still well."""
    if not makings:
        return
    shot = makings[0].row.shot
    tracks = tuple(sorted({track for making in makings for track in making.row.sound_tracks}))
    sounds = SoundReader(shot.reel, shot.span, tracks) if tracks else None
    done = 0
    try:
        for number, picture in read_pictures(shot.reel.source, shot.reel.table, shot.span, threads=threads):
            _each(makings, FileWriter.put_picture, picture)
            if sounds:
                for place, sound in sounds.until(number + 1):
                    track = tracks[place]
                    for making in makings:
                        if track in making.row.sound_tracks:
                            own_place = making.row.sound_tracks.index(track)
                            _each([making], FileWriter.put_sound, own_place, sound)
            done += 1
            progress(done)
            if all(making.failure for making in makings):
                return
        _each(makings, FileWriter.end)
        if sounds and sounds.silence_samples > 1:
            for making in makings:
                making.warnings.append(
                    f"{sounds.silence_samples} samples of silence where its sound is missing"
                )
    finally:
        if sounds:
            sounds.close()


def _each(makings: Sequence[_Making], act: Callable[..., None], *what: Any) -> None:
    """Do something with each writer that is still well; one that fails is given up, the others go on."""
    for making in makings:
        if not making.failure:
            try:
                act(making.writer, *what)
            except (BoxkiteError, OSError, ValueError) as error:
                making.fail(error)


def _finish(making: _Making) -> Result:
    row = making.row
    if making.failure:
        return Result(row.number, row.path, failure=making.failure)
    try:
        proof = prove(making.partial, _expected(making))
        publish(making.partial, row.path)
    except Exception as error:
        making.partial.unlink(missing_ok=True)
        return Result(row.number, row.path, failure=explain(error))
    return Result(row.number, row.path, proof=proof, warnings=tuple(making.warnings))


def _expected(making: _Making) -> Expected:
    row, writer = making.row, making.writer
    if writer.first_picture is None or writer.last_picture is None:
        raise RenderError("not one picture was encoded")
    samples = []
    if row.preset.audio:
        for position in row.sound_tracks:
            rate = sound_rate(row.preset.audio, row.shot.reel.source.audio[position].sample_rate_hz)
            samples.append((expected_samples(row, position), rate))
    return Expected(
        frames=row.span.length,
        rate=row.shot.reel.table.rate,
        width_px=row.geometry.width_px,
        height_px=row.geometry.height_px,
        samples=tuple(samples),
        first_look=picture_look(writer.first_picture),
        last_look=picture_look(writer.last_picture),
    )
