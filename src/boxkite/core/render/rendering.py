"""Making the files of one shot: one decode feeds all its outputs, each is proved and then named."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from av.video.frame import VideoFrame

from boxkite.core.errors import BoxkiteError, RenderError
from boxkite.core.plan.rows import Action, Row
from boxkite.core.records.checksum import file_checksum
from boxkite.core.render.coding import sound_rate
from boxkite.core.render.copying import copy_shot
from boxkite.core.render.explaining import explain
from boxkite.core.render.images import ImageWriter, prove_images
from boxkite.core.render.pictures import read_pictures
from boxkite.core.render.proving import Expected, picture_look, prove
from boxkite.core.render.publishing import discard, partial_path, publish
from boxkite.core.render.result import Result
from boxkite.core.render.sounds import SoundReader
from boxkite.core.render.writing import FileWriter, expected_samples, sound_tracks_of
from boxkite.core.shots.shot import Shot

Progress = Callable[[int], None]


@dataclass
class _Making:
    row: Row
    partial: Path
    writer: FileWriter | ImageWriter
    failure: str = ""
    warnings: list[str] = field(default_factory=list)

    def fail(self, error: Exception) -> None:
        self.failure = explain(error)
        self.writer.abandon()
        discard(self.partial)


def render_shot(rows: Sequence[Row], *, threads: int, progress: Progress = lambda _: None) -> list[Result]:
    """Make all files of one shot. rows: of one shot, one for each output.

    threads: for the decoder and for each encoder, 0 for one a core. progress is told how many frames are
    done. A row that fails does not stop the others; damage in the source fails them all. Never raises for
    what happens to a file: the results tell.
    """
    started = time.monotonic()
    makings: list[_Making] = []
    results = [copy_shot(row) for row in rows if row.preset.copy]
    for row in rows:
        if row.preset.copy:
            continue
        partial = partial_path(row.path)
        try:
            row.path.parent.mkdir(parents=True, exist_ok=True)
            makings.append(_Making(row, partial, _writer(row, partial, threads)))
        except (BoxkiteError, OSError, ValueError) as error:
            discard(partial)
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
    share = (time.monotonic() - started) / len(rows)
    timed = [replace(result, seconds=share) for result in results]
    return sorted(timed, key=lambda result: result.row_number)


def _writer(row: Row, partial: Path, threads: int) -> FileWriter | ImageWriter:
    return ImageWriter(row, partial) if row.preset.is_sequence else FileWriter(row, partial, threads)


def _feed(makings: list[_Making], threads: int, progress: Progress) -> None:
    """Decode the shot once and hand every picture and sound to each file that is still well."""
    if not makings:
        return
    shot = makings[0].row.shot
    tracks = tuple(sorted({track for making in makings for track in making.row.sound_tracks}))
    sounds = SoundReader(shot.reel, shot.span, tracks) if tracks else None
    done = 0
    try:
        of_picture = [making for making in makings if making.row.preset.video]
        for number, picture in _pictures(shot, threads) if of_picture else _moments(shot):
            if picture:
                _each(of_picture, "put_picture", picture)
            if sounds:
                for place, sound in sounds.until(number + 1):
                    track = tracks[place]
                    for making in makings:
                        if track in making.row.sound_tracks:
                            own_place = making.row.sound_tracks.index(track)
                            _each([making], "put_sound", own_place, sound)
            done = number + 1 - shot.span.start
            progress(done)
            if all(making.failure for making in makings):
                return
        _each(makings, "end")
        if sounds and sounds.silence_samples > 1:
            for making in makings:
                making.warnings.append(
                    f"{sounds.silence_samples} samples of silence where its sound is missing"
                )
    finally:
        if sounds:
            sounds.close()


def _pictures(shot: Shot, threads: int) -> Iterator[tuple[int, VideoFrame]]:
    return read_pictures(shot.reel.source, shot.reel.table, shot.span, threads=threads)


def _moments(shot: Shot) -> Iterator[tuple[int, None]]:
    """The frames of a shot of which only the sound is wanted, about one a second, and the last."""
    step = shot.reel.table.rate.nominal
    yield from ((number, None) for number in range(shot.span.start, shot.span.end - 1, step))
    yield shot.span.end - 1, None


def _each(makings: Sequence[_Making], act: str, *what: Any) -> None:
    """Do something with each writer that is still well; one that fails is given up, the others go on."""
    for making in makings:
        if not making.failure:
            try:
                getattr(making.writer, act)(*what)
            except (BoxkiteError, OSError, ValueError) as error:
                making.fail(error)


def _finish(making: _Making) -> Result:
    row = making.row
    if making.failure:
        return Result(row.number, row.path, failure=making.failure)
    try:
        expected = _expected(making)
        is_folder = row.preset.is_sequence
        proof = prove_images(making.partial, row, expected) if is_folder else prove(making.partial, expected)
        proof = replace(proof, checksum=file_checksum(making.partial))
        publish(making.partial, row.path, replacing=row.action is Action.REPLACE)
    except Exception as error:
        discard(making.partial)
        return Result(row.number, row.path, failure=explain(error))
    return Result(row.number, row.path, proof=proof, warnings=tuple(making.warnings))


def _expected(making: _Making) -> Expected:
    row, writer = making.row, making.writer
    samples = []
    for positions in sound_tracks_of(row):
        assert row.preset.audio
        rate = sound_rate(row.preset.audio, row.shot.reel.source.audio[positions[0]].sample_rate_hz)
        samples.append((expected_samples(row, positions[0]), rate))
    rate_of_picture = row.shot.reel.table.rate
    if row.geometry is None:
        return Expected(0, rate_of_picture, 0, 0, tuple(samples), None, None)
    if writer.first_picture is None or writer.last_picture is None:
        raise RenderError("not one picture was encoded")
    return Expected(
        frames=row.span.length,
        rate=rate_of_picture,
        width_px=row.geometry.width_px,
        height_px=row.geometry.height_px,
        samples=tuple(samples),
        first_look=picture_look(writer.first_picture),
        last_look=picture_look(writer.last_picture),
    )
