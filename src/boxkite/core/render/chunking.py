"""Encoding a shot in chunks that several workers make at once, and joining them into its files."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from dataclasses import replace
from functools import partial
from pathlib import Path

from av.video.frame import VideoFrame

from boxkite.core.errors import BoxkiteError
from boxkite.core.files.moving import discard
from boxkite.core.footage.decoding import Damage
from boxkite.core.notices.files import NOT_IN_CHUNKS
from boxkite.core.notices.notice import Notice
from boxkite.core.plan.rows import Row
from boxkite.core.render.encode.chunk_file import ChunkError, ChunkFile
from boxkite.core.render.encode.chunk_writer import ChunkWriter, JoiningWriter
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
from boxkite.core.render.inputs import frames_until, open_frames
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


def join_chunks(
    rows: Sequence[Row], partials: Sequence[Path], chunks: Sequence[Sequence[Path]], *, threads: int
) -> tuple[list[Result], dict[int, Notice]]:
    """Write the files whose chunks are made, with their audio. chunks: the files of each row's, in their order.

    The results, and a notice for each row that has to be encoded in one piece after all, by its number.
    """
    started = time.monotonic()
    files: list[FileBeingMade] = []
    results: list[Result] = []
    whole: dict[int, Notice] = {}
    for row, path, own in zip(rows, partials, chunks, strict=True):
        try:
            gains, warnings = gains_for(row)
            prepared = Prepared(gains=gains, warnings=tuple(warnings))
            read = [ChunkFile(path) for path in own]
            writer = JoiningWriter(row, path, threads, prepared, read, _first_frame(row, threads))
            files.append(FileBeingMade(row, path, writer, row.span))
        except ChunkError as error:
            whole[row.number] = NOT_IN_CHUNKS(reason=error.message)
        except Exception as error:
            discard(path)
            results.append(failed(row, error))
    try:
        _write(files, whole)
    except Exception as error:
        for file in files:
            if not file.failure:
                file.fail(error)
    seconds = (time.monotonic() - started) / len(rows)
    damage = Damage(any(row.accept_damaged for row in rows))
    results += [finish(file, damage) for file in files if file.row.number not in whole]
    return [replace(result, seconds=seconds) for result in results], whole


def _write(files: Sequence[FileBeingMade], whole: dict[int, Notice]) -> None:
    """Coded frames and audio, about a second of each in turn. whole: takes in the rows whose chunks do not fit."""
    if not files:
        return
    feeds, done = open_audio_feeds(files), files[0].span.start
    try:
        for number, _ in frames_for_audio(files[0].row, files[0].span):
            for file in files:
                assert isinstance(file.writer, JoiningWriter)
                frames = frames_until(file.row, number + 1 - file.span.start)
                _attempt(file, partial(file.writer.put_until, frames), whole)
            for one in feeds:
                one.until(number + 1)
            for frame in range(done + 1, number + 2):
                put_silence(files, frame)
            done = number + 1
        for file in files:
            _attempt(file, file.writer.end, whole)
            file.reached = file.span.start + file.row.frame_shown(len(file.writer.prints) - 1) + 1
    finally:
        for one in feeds:
            one.close()


def _attempt(file: FileBeingMade, act: Callable[[], None], whole: dict[int, Notice]) -> None:
    """Do something with a file; where its chunks turn out not to fit it is left for the encoder."""
    if file.failure:
        return
    try:
        act()
    except ChunkError as error:
        whole[file.row.number] = NOT_IN_CHUNKS(reason=error.message)
        file.failure = failed(file.row, error)
        file.writer.abandon()
    except (BoxkiteError, OSError, ValueError) as error:
        file.fail(error)


def _first_frame(row: Row, threads: int) -> VideoFrame:
    """The first frame of a row's span, as decoded."""
    span = Span(row.span.start, row.span.start + 1)
    _, frame = next(iter(open_frames([row], span, threads, Damage(row.accept_damaged))))
    return frame
