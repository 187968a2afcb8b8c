"""The end of a file being made: it is read again, compared with what it should hold, and written through."""

from __future__ import annotations

import time

from msgspec.structs import replace

from boxkite.core.errors import RenderError
from boxkite.core.files.checksum import file_checksum
from boxkite.core.files.moving import discard, start_syncing, sync
from boxkite.core.footage.decoding import Damage
from boxkite.core.footage.opening import decoder_works_here
from boxkite.core.notices.files import DECODER_FELL_BACK, ENDS_EARLY
from boxkite.core.presets.audio_tracks import file_tracks
from boxkite.core.render.encode.codec_options import audio_rate
from boxkite.core.render.encode.file_writer import expected_samples
from boxkite.core.render.failures import failed
from boxkite.core.render.feeding import SILENT_HZ, FileBeingMade
from boxkite.core.render.inputs import frames_until
from boxkite.core.render.result import Result
from boxkite.core.render.verifying import Expected, verify
from boxkite.core.timebase import sample_at


def finish(file: FileBeingMade, damage: Damage, threads: int = 0) -> Result:
    """Verify a file and write it through. The result of its row; what does not hold is removed.

    threads: for decoding it, 0 where nothing else is at work.
    """
    row = file.row
    if file.failure:
        return file.failure
    try:
        expected = _expected(file, threads)
        start_syncing(file.partial)
        if row.preset.is_sequence:
            from boxkite.core.render.encode.image_writer import verify_images

            verification = verify_images(file.partial, row, expected)
        else:
            verification = verify(file.partial, expected)
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


def _expected(file: FileBeingMade, threads: int) -> Expected:
    row, writer, held = file.row, file.writer, file.held
    samples = []
    for positions in file_tracks(row.preset.audio, row.audio_tracks):
        assert row.preset.audio
        own_hz = row.audio_source.audio[positions[0]].sample_rate_hz
        rate = audio_rate(row.preset, own_hz)
        samples.append((expected_samples(row, held, positions[0]), rate, int(rate != own_hz)))
    if row.is_silent_track:
        own = row.shot.footage.frame_index.rate
        count = sample_at(held.end, own, SILENT_HZ) - sample_at(held.start, own, SILENT_HZ)
        samples.append((count, SILENT_HZ, 0))
    if row.geometry is None:
        return Expected(0, row.rate, 0, 0, tuple(samples), container=row.preset.container or "")
    if writer.first_frame is None or writer.last_frame is None:
        raise RenderError("not one frame was encoded")
    frames = frames_until(row, held.length) if row.preset.frame_rate else held.length
    return Expected(
        frames=frames,
        rate=row.rate,
        width_px=row.geometry.width_px,
        height_px=row.geometry.height_px,
        samples=tuple(samples),
        first_frame=writer.first_frame,
        last_frame=writer.last_frame,
        container=row.preset.container or "",
        prints=writer.prints,
        threads=threads,
        spent_seconds=time.monotonic() - file.begun,
    )
