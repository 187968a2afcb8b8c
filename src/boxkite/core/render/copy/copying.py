"""Copying planned shots: from file to file where that can be, else packet by packet."""

from __future__ import annotations

from array import array
from collections.abc import Sequence
from contextlib import ExitStack
from pathlib import Path
from tempfile import TemporaryFile

import av

from boxkite.core.files.moving import discard, start_syncing, sync
from boxkite.core.files.partials import PARTIAL, PREFIX
from boxkite.core.plan.rows import Row
from boxkite.core.presets.codecs import COPIED_AS
from boxkite.core.render.avi_headers import count_audio_by_packets
from boxkite.core.render.copy.checking import Copied, check_copy
from boxkite.core.render.copy.pieces import Pieces, PiecesByPackets, Share, ignored
from boxkite.core.render.copy.stand_ins import (
    OtherwiseStoredError,
    PicturesInFile,
    PiecesByStandIns,
    join_pictures,
    sources_of,
)
from boxkite.core.render.copy.writing import write_packets
from boxkite.core.render.edit_lists import hide_after
from boxkite.core.render.failures import failed
from boxkite.core.render.result import Result

_MOVIES = ("mov", "mp4")
_RESERVING_PAYS_BYTES = 64_000_000
_INDEX_BYTES_AT_LEAST, _BYTES_A_PACKET = 65_536, 40
_LEAST_SAMPLES = 960
"""In a packet of audio, as codecs and the library's readers make them; fewer are rare."""


def copy_shot(row: Row, partial: Path, progress: Share = ignored) -> Result:
    """Copy one planned shot and verify it; it waits for its name. Never raises for what happens: the result tells.

    progress: gets how much of it is written.
    """
    try:
        copied = copy_packets(row, partial, progress)
        start_syncing(partial)
        verification = check_copy(row, partial, copied)
        sync(partial)
    except Exception as error:
        discard(partial)
        return failed(row, error)
    return Result(row.number, row.path, verification=verification)


def copy_packets(row: Row, partial: Path, progress: Share = ignored) -> Copied:
    """Write the file and return the pictures in it."""
    if COPIED_AS[row.extension.lower()] in _MOVIES:
        with ExitStack() as opened:
            if (sources := sources_of(row, opened)) and (
                copied := _copy_bytes(row, partial, sources, progress)
            ):
                return copied
    return write_file(row, partial, PiecesByPackets(row), progress)


def _copy_bytes(row: Row, partial: Path, sources: Sequence[PicturesInFile], progress: Share) -> Copied | None:
    """Write it from file to file; None where the packets must be read."""
    with TemporaryFile(dir=partial.parent, prefix=PREFIX, suffix=PARTIAL) as small:
        try:
            copied = write_packets(row, small, PiecesByStandIns(row, sources), {})
        except OtherwiseStoredError:
            return None
        copied.sizes = array("I", (size for source in sources for size in source.sizes[source.taken]))
        copied.checksum = join_pictures(small, sources, partial, progress)
    return copied


def write_file(row: Row, partial: Path, pieces: Pieces, progress: Share = ignored) -> Copied:
    """Write the file packet by packet and return the pictures in it; in MOV and MP4 an index stands before them.

    progress: gets how much of it is written.
    """
    form = COPIED_AS[row.extension.lower()]
    if form in _MOVIES:
        return _write_movie(row, partial, pieces, progress)
    copied = write_packets(row, partial, pieces, {}, progress)
    if form == "avi":
        count_audio_by_packets(partial, copied.packets)
    return copied


def _write_movie(row: Row, partial: Path, pieces: Pieces, progress: Share) -> Copied:
    options = {}
    if pieces.hides_audio and row.audio_source.audio:
        options["movie_timescale"] = str(row.audio_source.audio[0].sample_rate_hz)
    copied = None
    if row.expected_bytes >= _RESERVING_PAYS_BYTES:
        try:
            reserved = {**options, "moov_size": str(_index_bytes(row))}
            copied = write_packets(row, partial, pieces, reserved, progress)
        except av.error.ArgumentError:
            pass  # there are more packets than such sources have: the library makes room by writing all of it again
    if copied is None:
        copied = write_packets(row, partial, pieces, {**options, "movflags": "+faststart"}, progress)
    if copied.hidden_from is not None:
        hide_after(partial, copied.hidden_from)
    if pieces.hides_audio:
        for index in copied.audio:
            hide_after(partial, copied.seconds, index)
    return copied


def _index_bytes(row: Row) -> int:
    """Room for the index of a copy: place, size, time, shift and kind of each packet (ISO/IEC 14496-12, 8.6, 8.7)."""
    pictures = sum(piece.span.length for piece in row.pieces)
    seconds = sum(piece.seconds for piece in row.pieces)
    audio_packets = sum(seconds * audio.sample_rate_hz / _LEAST_SAMPLES for audio in row.audio_source.audio)
    return round((pictures + audio_packets) * _BYTES_A_PACKET) + _INDEX_BYTES_AT_LEAST
