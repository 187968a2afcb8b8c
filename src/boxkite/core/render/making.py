"""Making the files of one decode group: one decode feeds all its outputs, and each is verified."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Protocol

from av.audio.frame import AudioFrame
from av.video.frame import VideoFrame

from boxkite.core.errors import BoxkiteError, RenderError
from boxkite.core.files.checksum import file_checksum
from boxkite.core.files.moving import discard, start_syncing, sync
from boxkite.core.files.partials import discard_notes, notes_beside
from boxkite.core.footage.decoding import Damage
from boxkite.core.footage.opening import decoder_works_here
from boxkite.core.notices.files import DECODER_FELL_BACK, ENCODED_NOT_COPIED, ENDS_EARLY, SILENCE_FILLED
from boxkite.core.notices.notice import Notice
from boxkite.core.plan.audio_tracks import file_tracks
from boxkite.core.plan.rows import Row, group_span
from boxkite.core.render.comparing import Comparison, compare
from boxkite.core.render.copying import copy_shot
from boxkite.core.render.encode.codec_options import audio_rate, encoders_of
from boxkite.core.render.encode.file_writer import FileWriter, Prepared, expected_samples
from boxkite.core.render.encode.first_pass import FirstPass
from boxkite.core.render.encode.image_writer import ImageWriter, verify_images
from boxkite.core.render.failures import failed
from boxkite.core.render.frame_prints import FramePrints
from boxkite.core.render.inputs import frames_until, open_audio, open_frames
from boxkite.core.render.loudness import gains_for
from boxkite.core.render.mixing import silence
from boxkite.core.render.quality import BEST_DB
from boxkite.core.render.result import Result
from boxkite.core.render.still import source_frame, still_frame
from boxkite.core.render.verifying import Expected, thumbnail_of, verify
from boxkite.core.timebase import Span, sample_at

__all__ = ["BEST_DB", "Comparison", "compare", "encoders_of", "make_files", "source_frame", "still_frame"]

Progress = Callable[[int], None]
_SILENT_HZ = 48_000


class Writer(Protocol):
    """A writer makes a file, or a folder of images, from frames and audio."""

    first_frame: VideoFrame | None
    last_frame: VideoFrame | None
    prints: FramePrints
    warnings: list[Notice]

    def put_frame(self, frame: VideoFrame) -> None:
        """Take the next frame, as decoded."""

    def put_audio(self, place: int, block: AudioFrame) -> None:
        """Take the next audio of one of the row's tracks."""

    def end(self) -> None:
        """Write what is still held, and the end."""

    def abandon(self) -> None:
        """Let go of what is not going to be finished."""


@dataclass
class _FileBeingMade:
    """One file while it is made."""

    row: Row
    partial: Path
    writer: Writer
    reached: int
    """The source's frame up to which it has its frames."""
    begun: float = field(default_factory=time.monotonic)
    failure: Result | None = None
    warnings: list[Notice] = field(default_factory=list)

    def fail(self, error: Exception) -> None:
        self.failure = failed(self.row, error)
        self.writer.abandon()
        discard(self.partial)

    def attempt(self, act: Callable[..., None], *what: object) -> None:
        """Do something with the writer; where that fails this file is given up, and the others go on."""
        if not self.failure:
            try:
                act(*what)
            except (BoxkiteError, OSError, ValueError) as error:
                self.fail(error)

    def put_frame(self, number: int, frame: VideoFrame) -> None:
        """Hand over the picture of a source's frame, as often as the row's rate asks."""
        if self.failure or not self.row.span.start <= number < self.row.span.end:
            return
        self.reached = number + 1
        times = 1
        if self.row.preset.frame_rate:
            place = number - self.row.span.start
            times = frames_until(self.row, place + 1) - frames_until(self.row, place)
        for _ in range(times):
            self.attempt(self.writer.put_frame, frame)

    @property
    def held(self) -> Span:
        """The frames of the source it has its frames of."""
        return Span(self.row.span.start, self.reached)


def make_files(
    rows: Sequence[Row], partials: Sequence[Path], *, threads: int, progress: Progress = lambda _: None
) -> list[Result]:
    """Make all files of one decode group. rows: a group of decode_groups; partials: where each is written.

    threads: for the decoder and for each encoder, 0 for one a core. progress gets the number of frames
    done. A row that fails does not stop the others; damage in the source fails them all. Never raises for
    what happens to a file: the results tell.
    """
    started = time.monotonic()
    written = {row.number: partial for row, partial in zip(rows, partials, strict=True)}
    results = [copy_shot(row, written[row.number]) for row in rows if row.is_copied and not row.splice]
    encoded, obstacles = _spliced(rows, written, threads, results)
    files: list[_FileBeingMade] = []
    damage = Damage(any(row.accept_damaged for row in encoded))
    prepared = _first_passes(encoded, written, threads, results)
    for row in encoded:
        if row.number not in prepared:
            continue
        partial = written[row.number]
        try:
            writer = _writer(row, partial, threads, prepared[row.number])
            files.append(_FileBeingMade(row, partial, writer, row.span.start))
        except (BoxkiteError, OSError, ValueError) as error:
            discard(partial)
            results.append(failed(row, error))
    try:
        _feed(files, threads, progress, damage)
    except Exception as error:
        for file in files:
            if not file.failure:
                file.fail(error)
    results += [_with_obstacle(_finish(file, damage), obstacles) for file in files]
    for row in encoded:
        if row.preset.video and row.preset.video.passes == 2:
            discard_notes(written[row.number])
    share = (time.monotonic() - started) / len(rows)
    timed = [replace(result, seconds=share) for result in results]
    return sorted(timed, key=lambda result: result.row_number)


def _spliced(
    rows: Sequence[Row], written: Mapping[int, Path], threads: int, results: list[Result]
) -> tuple[list[Row], dict[int, str]]:
    """Splice what is to be; the rows that are encoded whole, and why some of them are after all."""
    from boxkite.core.footage.bitstream.obstacles import NotSpliceableError
    from boxkite.core.render.splice.splicing import splice_shot

    encoded, obstacles = [row for row in rows if not (row.is_copied or row.splice)], dict[int, str]()
    for row in rows:
        if row.splice:
            made = splice_shot(row, written[row.number], threads=threads)
            if not isinstance(made, NotSpliceableError):
                results.append(made)
            elif row.parts or row.is_copied:
                results.append(
                    failed(row, RenderError(f"it cannot be cut exactly without encoding: {made.obstacle}"))
                )
            else:
                obstacles[row.number] = str(made.obstacle)
                encoded.append(row)
    return encoded, obstacles


def _with_obstacle(result: Result, obstacles: Mapping[int, str]) -> Result:
    if result.row_number not in obstacles:
        return result
    notice = ENCODED_NOT_COPIED(reason=obstacles[result.row_number])
    return replace(result, warnings=(*result.warnings, notice))


def _writer(row: Row, partial: Path, threads: int, prepared: Prepared) -> Writer:
    if row.preset.is_sequence:
        return ImageWriter(row, partial, threads)
    return FileWriter(row, partial, threads, prepared)


def _first_passes(
    rows: Sequence[Row], written: Mapping[int, Path], threads: int, results: list[Result]
) -> dict[int, Prepared]:
    """The results of passes before the files of a shot are begun, by row; rows for which that fails have none."""
    prepared: dict[int, Prepared] = {}
    for row in rows:
        try:
            gains, warnings = gains_for(row)
            prepared[row.number] = Prepared(gains=gains, warnings=tuple(warnings))
        except Exception as error:
            results.append(failed(row, error))
    twice = [
        row for row in rows if row.number in prepared and row.preset.video and row.preset.video.passes == 2
    ]
    files = []
    for row in twice:
        notes = notes_beside(written[row.number])
        try:
            files.append(_FileBeingMade(row, notes, FirstPass(row, threads, notes), row.span.start))
        except (BoxkiteError, OSError, ValueError) as error:
            results.append(failed(row, error))
            del prepared[row.number]
    try:
        if files:
            damage = Damage(any(row.accept_damaged for row in twice))
            _feed(files, threads, lambda _: None, damage, with_audio=False)
    except Exception as error:
        for file in files:
            file.fail(error)
    for file in files:
        if file.failure:
            results.append(file.failure)
            del prepared[file.row.number]
        else:
            stats = (2, str(file.partial))
            prepared[file.row.number] = replace(prepared[file.row.number], stats=stats)
    return prepared


class _AudioFeed:
    """The audio of one span, for all files that hold just that span of just that source."""

    def __init__(self, files: Sequence[_FileBeingMade], span: Span) -> None:
        self.files = files
        self.span = span
        row = files[0].row
        self.tracks = tuple(sorted({track for file in files for track in file.row.audio_tracks}))
        self.reader = open_audio(row, span, self.tracks)

    def until(self, frame: int) -> None:
        """Hand on what is heard before a frame."""
        if frame <= self.span.start:
            return
        for place, block in self.reader.until(min(frame, self.span.end)):
            track = self.tracks[place]
            for file in self.files:
                if track in file.row.audio_tracks:
                    own = file.row.audio_tracks.index(track)
                    file.attempt(file.writer.put_audio, own, block)

    def close(self) -> None:
        """Say how much silence there was, and let go of the file."""
        if self.reader.silence_samples > 1:
            for file in self.files:
                file.warnings.append(SILENCE_FILLED(samples=self.reader.silence_samples))
        self.reader.close()


def _open_audio_feeds(files: Sequence[_FileBeingMade]) -> list[_AudioFeed]:
    """A reader for each span that files take audio from: cut to its own samples."""
    by_span: dict[tuple[Span, int], list[_FileBeingMade]] = {}
    for file in files:
        if file.row.audio_tracks:
            by_span.setdefault((file.row.span, id(file.row.shot.sound)), []).append(file)
    return [_AudioFeed(sharing, span) for (span, _), sharing in by_span.items()]


def _feed(
    files: Sequence[_FileBeingMade],
    threads: int,
    progress: Progress,
    damage: Damage,
    *,
    with_audio: bool = True,
) -> None:
    """Decode the group's frames once and pass frames and audio on to each file that has not failed."""
    if not files:
        return
    rows = [file.row for file in files]
    span = group_span(rows)
    feeds = _open_audio_feeds(files) if with_audio else []
    with_picture = [file for file in files if file.row.preset.video]
    try:
        frames = (
            open_frames(rows, span, threads, damage) if with_picture else _frames_for_audio(rows[0], span)
        )
        for number, frame in frames:
            if frame:
                for file in with_picture:
                    file.put_frame(number, frame)
            for one in feeds:
                one.until(number + 1)
            if with_audio:
                _put_silence(files, number + 1)
            progress(number + 1 - span.start)
            if all(file.failure for file in files):
                return
        for file in files:
            if not file.row.preset.video:
                file.reached = file.row.span.end
            file.attempt(file.writer.end)
    finally:
        for one in feeds:
            one.close()


def _frames_for_audio(row: Row, span: Span) -> Iterator[tuple[int, None]]:
    """Where only audio is made: about one frame number a second, and the last."""
    step = row.shot.footage.frame_index.rate.nominal
    yield from ((number, None) for number in range(span.start, span.end - 1, step))
    yield span.end - 1, None


def _put_silence(files: Sequence[_FileBeingMade], frame: int) -> None:
    """Silence up to a frame, for files that need a track and have no audio."""
    for file in files:
        span, rate = file.row.span, file.row.shot.footage.frame_index.rate
        if file.row.is_silent_track and span.start < frame <= span.end:
            samples = sample_at(frame, rate, _SILENT_HZ) - sample_at(frame - 1, rate, _SILENT_HZ)
            file.attempt(file.writer.put_audio, 0, silence(samples))


def _finish(file: _FileBeingMade, damage: Damage) -> Result:
    row = file.row
    if file.failure:
        return file.failure
    try:
        expected = _expected(file)
        start_syncing(file.partial)
        is_folder = row.preset.is_sequence
        verification = (
            verify_images(file.partial, row, expected) if is_folder else verify(file.partial, expected)
        )
        verification = replace(verification, checksum=file_checksum(file.partial))
        sync(file.partial)
    except Exception as error:
        discard(file.partial)
        return failed(row, error)
    warnings = [*file.writer.warnings, *file.warnings]
    if row.decode_with and not decoder_works_here(row.decode_with):
        warnings.append(DECODER_FELL_BACK(kind=row.decode_with))
    warnings += damage.notices(row.span)
    if file.reached < row.span.end:
        warnings.append(ENDS_EARLY(frames=row.span.end - file.reached))
    return Result(row.number, row.path, verification=verification, warnings=tuple(warnings))


def _expected(file: _FileBeingMade) -> Expected:
    row, writer, held = file.row, file.writer, file.held
    samples = []
    for positions in file_tracks(row.preset.audio, row.audio_tracks):
        assert row.preset.audio
        own_hz = row.audio_source.audio[positions[0]].sample_rate_hz
        rate = audio_rate(row.preset, own_hz)
        samples.append((expected_samples(row, held, positions[0]), rate, int(rate != own_hz)))
    if row.is_silent_track:
        own = row.shot.footage.frame_index.rate
        count = sample_at(held.end, own, _SILENT_HZ) - sample_at(held.start, own, _SILENT_HZ)
        samples.append((count, _SILENT_HZ, 0))
    if row.geometry is None:
        return Expected(0, row.rate, 0, 0, tuple(samples), None, None)
    if writer.first_frame is None or writer.last_frame is None:
        raise RenderError("not one frame was encoded")
    frames = frames_until(row, held.length) if row.preset.frame_rate else held.length
    return Expected(
        frames=frames,
        rate=row.rate,
        width_px=row.geometry.width_px,
        height_px=row.geometry.height_px,
        samples=tuple(samples),
        first_thumbnail=thumbnail_of(writer.first_frame),
        last_thumbnail=thumbnail_of(writer.last_frame),
        prints=writer.prints,
        spent_seconds=time.monotonic() - file.begun,
    )
