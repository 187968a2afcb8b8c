"""Making a file by splicing: its edges encoded, all between them copied."""

from __future__ import annotations

from contextlib import ExitStack
from fractions import Fraction
from math import ceil
from pathlib import Path

import av

from boxkite.core.errors import VerificationError
from boxkite.core.files.checksum import file_checksum
from boxkite.core.files.moving import discard, start_syncing, sync
from boxkite.core.footage.bitstream.obstacles import NotSpliceableError, Obstacle
from boxkite.core.notices.files import AUDIO_AT_PACKETS
from boxkite.core.plan.rows import Row
from boxkite.core.render.copy.copying import write_file
from boxkite.core.render.copy.pieces import Share, cuts_audio, ignored
from boxkite.core.render.failures import failed
from boxkite.core.render.result import Result, Verification
from boxkite.core.render.splice.checking import check_audio, check_file, check_stream
from boxkite.core.render.splice.preparing import prepare
from boxkite.core.render.splice.source_pictures import SourcePictures
from boxkite.core.render.splice.writing import SplicedStream

_HEARD_SECONDS = Fraction(1, 1000)


def splice_shot(
    row: Row, partial: Path, *, threads: int, progress: Share = ignored
) -> Result | NotSpliceableError:
    """Make one planned file by splicing and verify it; it waits for its name.

    progress: gets how much of it is written.

    Returns the reason where all of it has to be encoded instead. Never raises for what happens to the file.
    """
    try:
        verification, audio_off = _splice(row, partial, threads, progress)
        off = (AUDIO_AT_PACKETS(ms=ceil(audio_off * 1000)),) if audio_off > _HEARD_SECONDS else ()
        return Result(row.number, row.path, verification=verification, warnings=off)
    except NotSpliceableError as error:
        discard(partial)
        return error
    except Exception as error:
        discard(partial)
        if isinstance(error, (av.error.FFmpegError, VerificationError)) and not isinstance(error, OSError):
            return NotSpliceableError(Obstacle.DIFFERS)
        return failed(row, error)


def _splice(row: Row, partial: Path, threads: int, progress: Share) -> tuple[Verification, Fraction]:
    """Make and verify it; how far its audio is off, in seconds, where no edit list cuts it. Raises what happens."""
    prepared = []
    with ExitStack() as only:
        for piece in row.pieces:
            with ExitStack() as opened:
                pictures = opened.enter_context(SourcePictures.of(piece))
                prepared.append(prepare(pictures, threads))
                if len(row.pieces) == 1:
                    only.push(opened.pop_all())
        stream_written = SplicedStream(row.pieces, prepared, cuts_audio(row))
        copied = write_file(row, partial, stream_written, progress)
    start_syncing(partial)
    check_stream(stream_written.pieces)
    check_file(partial, stream_written.pieces, copied.begin_times, threads)
    check_audio(partial, copied)
    checksum = file_checksum(partial)
    sync(partial)
    verification = Verification(copied.shown, len(row.audio_source.audio), partial.stat().st_size, checksum)
    return verification, Fraction(0) if cuts_audio(row) else copied.audio_off
