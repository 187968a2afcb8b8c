"""Making the files of one decode group: one decode feeds all its outputs, and each is verified.

What few shots need (copying, splicing, chunks, two passes, images) is loaded by those alone.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path

from msgspec.structs import replace

from boxkite.core.errors import BoxkiteError, RenderError
from boxkite.core.files.moving import discard
from boxkite.core.files.partials import discard_notes, notes_beside
from boxkite.core.footage.decoding import Damage, KeptDecoder
from boxkite.core.notices.files import ENCODED_NOT_COPIED
from boxkite.core.plan.rows import Row, group_span
from boxkite.core.render.encode.file_writer import FileWriter, Prepared
from boxkite.core.render.failures import failed
from boxkite.core.render.feeding import FileBeingMade, Progress, Writer, feed
from boxkite.core.render.finishing import finish
from boxkite.core.render.loudness import gains_for
from boxkite.core.render.result import Result
from boxkite.core.timebase import Span

_Shares = Mapping[int, Callable[[float], None]]


def make_files(
    rows: Sequence[Row],
    partials: Sequence[Path],
    *,
    threads: int,
    progress: Progress = lambda _: None,
    chunk: Span | None = None,
    is_audio: bool = False,
    chunks: Sequence[Sequence[Path]] = (),
    kept: KeptDecoder | None = None,
) -> list[Result]:
    """Make all files of one decode group. rows: a group of decode_groups; partials: where each is written.

    chunk: frames of the source that are encoded for others to join; is_audio: all audio is. chunks: those that are
    joined, of each row. kept: a decoder that may be near, see read_frames.

    threads: for the decoder and for each encoder, 0 for one a core. progress gets the number of frames
    done. A row that fails does not stop the others; damage in the source fails them all. Never raises for
    what happens to a file: the results tell.
    """
    if chunk or is_audio or chunks:
        from boxkite.core.render.chunking import join_chunks, make_audio_chunk, make_chunk
    if chunk:
        return make_chunk(rows, partials, chunk, threads=threads, progress=progress)
    if is_audio:
        return make_audio_chunk(rows, partials)
    if not chunks:
        return _made(rows, partials, threads, progress, kept)
    results, whole = join_chunks(rows, partials, chunks, threads=threads)
    left = [(row, path) for row, path in zip(rows, partials, strict=True) if row.number in whole]
    if left:
        results += [
            replace(result, warnings=(*result.warnings, whole[result.row_number]))
            for result in _made([row for row, _ in left], [path for _, path in left], threads, progress)
        ]
    return sorted(results, key=lambda result: result.row_number)


def _made(
    rows: Sequence[Row],
    partials: Sequence[Path],
    threads: int,
    progress: Progress,
    kept: KeptDecoder | None = None,
) -> list[Result]:
    """The results of rows that are made in one go."""
    started = time.monotonic()
    written = {row.number: partial for row, partial in zip(rows, partials, strict=True)}
    is_copied = all(row.is_copied or row.splice for row in rows)  # else decoding takes longest, and tells
    shares = _shares(rows, progress if is_copied else lambda _: None)
    results = _copied(rows, written, shares)
    encoded, obstacles = _spliced(rows, written, threads, results, shares)
    files: list[FileBeingMade] = []
    damage = Damage(any(row.accept_damaged for row in encoded))
    prepared = _first_passes(encoded, written, threads, results)
    for row in encoded:
        if row.number not in prepared:
            continue
        partial = written[row.number]
        try:
            writer = _writer(row, partial, threads, prepared[row.number])
            files.append(FileBeingMade(row, partial, writer, row.span))
        except (BoxkiteError, OSError, ValueError) as error:
            discard(partial)
            results.append(failed(row, error))
    try:
        feed(files, threads, progress, damage, kept=kept)
    except Exception as error:
        for file in files:
            if not file.failure:
                file.fail(error)
    results += [_with_obstacle(finish(file, damage, threads), obstacles) for file in files]
    for row in encoded:
        if row.preset.video and row.preset.video.passes == 2:
            discard_notes(written[row.number])
    share = (time.monotonic() - started) / len(rows)
    timed = [replace(result, seconds=share) for result in results]
    return sorted(timed, key=lambda result: result.row_number)


def _shares(rows: Sequence[Row], progress: Progress) -> _Shares:
    """By the number of a row: what gets how much of its file is written.

    progress gets the frames done, as if all files took equally long, and never that all of them are.
    """
    length = group_span(rows).length
    in_order = sorted(rows, key=lambda row: bool(row.splice))

    def share_of(place: int) -> Callable[[float], None]:
        return lambda share: progress(min(int((place + min(share, 1)) / len(rows) * length), length - 1))

    return {row.number: share_of(place) for place, row in enumerate(in_order)}


def _copied(rows: Sequence[Row], written: Mapping[int, Path], shares: _Shares) -> list[Result]:
    copied = [row for row in rows if row.is_copied and not row.splice]
    if not copied:
        return []
    from boxkite.core.render.copy.copying import copy_shot

    return [copy_shot(row, written[row.number], shares[row.number]) for row in copied]


def _spliced(
    rows: Sequence[Row], written: Mapping[int, Path], threads: int, results: list[Result], shares: _Shares
) -> tuple[list[Row], dict[int, str]]:
    """Splice what is to be; the rows that are encoded whole, and why some of them are after all."""
    encoded, obstacles = [row for row in rows if not (row.is_copied or row.splice)], dict[int, str]()
    if not any(row.splice for row in rows):
        return encoded, obstacles
    from boxkite.core.footage.bitstream.obstacles import NotSpliceableError
    from boxkite.core.render.splice.splicing import splice_shot

    for row in rows:
        if row.splice:
            made = splice_shot(row, written[row.number], threads=threads, progress=shares[row.number])
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
        from boxkite.core.render.encode.image_writer import ImageWriter

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
    if twice:
        from boxkite.core.render.encode.first_pass import FirstPass
    for row in twice:
        notes = notes_beside(written[row.number])
        try:
            files.append(FileBeingMade(row, notes, FirstPass(row, threads, notes), row.span))
        except (BoxkiteError, OSError, ValueError) as error:
            results.append(failed(row, error))
            del prepared[row.number]
    try:
        if files:
            damage = Damage(any(row.accept_damaged for row in twice))
            feed(files, threads, lambda _: None, damage, with_audio=False)
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
