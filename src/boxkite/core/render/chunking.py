"""Encoding a shot in chunks that several workers make at once, its audio beside them, and joining them."""

from __future__ import annotations

import time
from collections.abc import Sequence
from pathlib import Path

from av.video.frame import VideoFrame
from msgspec.structs import replace

from boxkite.core.errors import BoxkiteError
from boxkite.core.files.moving import discard
from boxkite.core.footage.decoding import Damage
from boxkite.core.notices.files import NOT_IN_CHUNKS
from boxkite.core.notices.notice import Notice
from boxkite.core.plan.rows import Row
from boxkite.core.render.encode.chunk_file import ChunkError, ChunkFile
from boxkite.core.render.encode.chunk_writer import AudioChunkWriter, ChunkWriter, JoiningWriter
from boxkite.core.render.encode.file_writer import Prepared
from boxkite.core.render.failures import failed
from boxkite.core.render.feeding import (
    FileBeingMade,
    Progress,
    feed,
    frames_for_audio,
    open_audio_feeds,
    put_silence,
)
from boxkite.core.render.finishing import finish
from boxkite.core.render.inputs import open_frames
from boxkite.core.render.loudness import gains_for
from boxkite.core.render.result import Result
from boxkite.core.timebase import Span


def make_chunk(
    rows: Sequence[Row], partials: Sequence[Path], chunk: Span, *, threads: int, progress: Progress
) -> list[Result]:
    """Encode a chunk of some rows that share one reading. partials: where the chunk of each is kept.

    Never raises for what happens to a file: the results tell.
    """
    started = time.monotonic()
    files: list[FileBeingMade] = []
    results: list[Result] = []
    damage = Damage(any(row.accept_damaged for row in rows))
    for row, path in zip(rows, partials, strict=True):
        try:
            files.append(FileBeingMade(row, path, ChunkWriter(row, path, threads, chunk), chunk))
        except (BoxkiteError, OSError, ValueError) as error:
            discard(path)
            results.append(failed(row, error))
    try:
        feed(files, threads, progress, damage, with_audio=False, chunk=chunk)
    except Exception as error:
        for file in files:
            if not file.failure:
                file.fail(error)
    seconds = (time.monotonic() - started) / len(rows)
    for file in files:
        warnings = (*file.writer.warnings, *file.warnings, *damage.notices(chunk))
        made = Result(file.row.number, file.row.path, warnings=tuple(warnings))
        results.append(replace(file.failure or made, seconds=seconds))
    return sorted(results, key=lambda result: result.row_number)


def make_audio_chunk(rows: Sequence[Row], partials: Sequence[Path]) -> list[Result]:
    """Encode all audio of some rows whose picture is encoded in chunks. partials: where that of each is kept.

    Never raises for what happens to a file: the results tell.
    """
    started = time.monotonic()
    files: list[FileBeingMade] = []
    results: list[Result] = []
    for row, path in zip(rows, partials, strict=True):
        try:
            gains, warnings = gains_for(row)
            prepared = Prepared(gains=gains, warnings=tuple(warnings))
            files.append(FileBeingMade(row, path, AudioChunkWriter(row, path, prepared), row.span))
        except Exception as error:
            discard(path)
            results.append(failed(row, error))
    try:
        _feed_audio(files)
    except Exception as error:
        for file in files:
            if not file.failure:
                file.fail(error)
    seconds = (time.monotonic() - started) / len(rows)
    for file in files:
        made = Result(file.row.number, file.row.path, warnings=(*file.writer.warnings, *file.warnings))
        results.append(replace(file.failure or made, seconds=seconds))
    return results


def _feed_audio(files: Sequence[FileBeingMade]) -> None:
    """About a second of audio after the other, to all files."""
    feeds, done = open_audio_feeds(files), files[0].span.start if files else 0
    try:
        for number, _ in frames_for_audio(files[0].row, files[0].span) if files else ():
            for one in feeds:
                one.until(number + 1)
            for frame in range(done + 1, number + 2):
                put_silence(files, frame)
            done = number + 1
        for file in files:
            file.attempt(file.writer.end)
    finally:
        for one in feeds:
            one.close()


def join_chunks(
    rows: Sequence[Row], partials: Sequence[Path], chunks: Sequence[Sequence[Path]], *, threads: int
) -> tuple[list[Result], dict[int, Notice]]:
    """Write the files whose chunks are made. chunks: of each row, in their order; that of its audio comes last.

    The results, and a notice for each row that has to be encoded in one piece after all, by its number.
    """
    results: list[Result] = []
    whole: dict[int, Notice] = {}
    damage = Damage(any(row.accept_damaged for row in rows))
    for row, path, own in zip(rows, partials, chunks, strict=True):
        started = time.monotonic()
        file = None
        try:
            read = [ChunkFile(chunk) for chunk in own]
            audio = read.pop() if len(read) > len(row.chunks) else None
            writer = JoiningWriter(row, path, read, audio, _first_frame(row, threads))
            file = FileBeingMade(row, path, writer, row.span)
            writer.write()
            file.reached = row.span.start + row.frame_shown(len(writer.prints) - 1) + 1
            results.append(replace(finish(file, damage), seconds=time.monotonic() - started))
        except ChunkError as error:
            whole[row.number] = NOT_IN_CHUNKS(reason=error.message)
            if file:
                file.writer.abandon()
        except Exception as error:
            discard(path)
            results.append(failed(row, error))
            if file:
                file.writer.abandon()
    return results, whole


def _first_frame(row: Row, threads: int) -> VideoFrame:
    """The first frame of a row's span, as decoded."""
    span = Span(row.span.start, row.span.start + 1)
    _, frame = next(iter(open_frames([row], span, threads, Damage(row.accept_damaged))))
    return frame
