"""The audio of a finished file against that of its source."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from boxkite.core.notices.handover import AUDIO_MOVED, GONE_SILENT, OTHER_AUDIO_LENGTH, SILENT_ALONE
from boxkite.core.notices.notice import Notice
from boxkite.core.plan.rows import Row
from boxkite.core.presets.audio_tracks import file_tracks
from boxkite.core.render.audio_reader import AudioReader
from boxkite.core.render.edit_frames import EditAudio
from boxkite.core.render.envelope import Envelope, begins_late, lag_of, silences
from boxkite.core.render.inputs import open_audio
from boxkite.core.render.shared_reading import parts_of
from boxkite.core.shots.shot import IndexedSource
from boxkite.core.timebase import Span

_SILENT_SECONDS, _ALONE_SECONDS = 0.5, 1.0
"""Silences that are reported; where there is no source only longer ones."""
_PACKET_SECONDS = 0.05
"""That audio of a copy may be early or late: its packets begin where they begin."""
_LENGTH_SECONDS = 0.06
"""That an audio track may be shorter than planned: packets of a copy end where they end."""


def audio_faults(
    footage: IndexedSource,
    row: Row | None,
    row_there: Row | None,
    audio: SourceAudio,
    at: Callable[[int], str],
) -> tuple[list[Notice], list[Notice]]:
    """Faults of the audio of a finished file, and notices: length, place and silences of each track.

    footage: the file; row: as planned, if that is known; row_there: the same where the source can be read; audio: of
    the sources; at: how the moment of a frame is written. Raises FootageError, DamagedError.
    """
    faults: list[Notice] = []
    notices: list[Notice] = []
    fps = float(footage.frame_index.rate.fraction)
    own, missing = _envelopes_of_file(footage)
    wanted, ends_before = _wanted_envelopes(row_there, audio) if row_there else ([], [])
    planned = (
        sum(piece.span.length / piece.shot.footage.frame_index.rate.fraction for piece in row.pieces)
        if row
        else 0
    )
    for track, values in enumerate(own):
        number, other = track + 1, wanted[track] if track < len(wanted) else None
        at_source = (
            ends_before[track] if row_there and row_there.is_copied and track < len(ends_before) else 0.0
        )
        if row and missing[track] - at_source > _LENGTH_SECONDS:
            length = float(planned) - missing[track]
            faults.append(OTHER_AUDIO_LENGTH(track=number, found=length, wanted=float(planned)))
        lag = 0.0
        if other is not None:
            lag = lag_of(values, other) or _late_beginning(values, other, 1 / fps)
        if abs(lag) >= max(0.5 / fps, _PACKET_SECONDS if row and row.is_copied else 0.0):
            direction, frames = "late" if lag > 0 else "early", f"{abs(lag * fps):.0f}"
            milliseconds = round(abs(lag) * 1000)
            faults.append(
                AUDIO_MOVED(track=number, frames=frames, direction=direction, milliseconds=milliseconds)
            )
            continue
        for start, quiet in silences(values, other, _SILENT_SECONDS if other is not None else _ALONE_SECONDS):
            when = at(round(start * fps))
            if other is not None:
                faults.append(GONE_SILENT(track=number, seconds=quiet, timecode=when))
            elif row is None or not row.is_silent_track:
                notices.append(SILENT_ALONE(track=number, seconds=quiet, timecode=when))
    return faults, notices


def _late_beginning(found: np.ndarray, wanted: np.ndarray, frame_seconds: float) -> float:
    """By how much a track begins late or ends early: by a frame at least, less than what is told as a silence."""
    late = begins_late(found, wanted)
    return late if max(frame_seconds, _LENGTH_SECONDS) <= abs(late) < _SILENT_SECONDS else 0.0


def _envelopes_of_file(footage: IndexedSource) -> tuple[list[np.ndarray], list[float]]:
    """The envelope of each track of the finished file, and by how many seconds each ends before its picture."""
    tracks = tuple(range(len(footage.source.audio)))
    reader = AudioReader(footage, footage.frame_index.span, tracks)
    try:
        envelopes = [Envelope(footage.source.audio[track].sample_rate_hz) for track in tracks]
        _fill(envelopes, reader, footage.frame_index.span, footage.frame_index.rate.nominal)
        return [one.values() for one in envelopes], reader.missing_seconds
    finally:
        reader.close()


class SourceAudio:
    """The audio of sources, read once for all rows of one plan that are made from the same span of the same tracks."""

    def __init__(self) -> None:
        self._known: dict[tuple[object, ...], tuple[list[np.ndarray], list[float]]] = {}

    def envelopes(self, row: Row, tracks: tuple[int, ...]) -> tuple[list[np.ndarray], list[float]]:
        """The envelope of each of some tracks, and by how many seconds each ends before the last piece's picture."""
        key = (
            tracks,
            *((id(piece.shot.sound), *part) for piece, part in zip(row.pieces, parts_of(row), strict=True)),
        )
        if key not in self._known:
            self._known[key] = _envelopes_of_source(row, tracks)
        return self._known[key]


def _envelopes_of_source(row: Row, tracks: tuple[int, ...]) -> tuple[list[np.ndarray], list[float]]:
    ends: list[float] = []
    envelopes = [Envelope(row.audio_source.audio[track].sample_rate_hz) for track in tracks]
    for piece in row.pieces:
        reader = open_audio(piece, piece.span, tracks)
        try:
            _fill(envelopes, reader, piece.span, piece.shot.footage.frame_index.rate.nominal)
            ends = reader.missing_seconds if isinstance(reader, AudioReader) else []
        finally:
            reader.close()
    return [envelope.values() for envelope in envelopes], ends


def _wanted_envelopes(row: Row, audio: SourceAudio) -> tuple[list[np.ndarray], list[float]]:
    """The envelope of each track that a row's file should have, of the source's audio.

    And by how many seconds each ends before the last piece's picture in the source, of those that are no mix.
    """
    every = tuple((track,) for track in range(len(row.audio_source.audio)))
    places = every if row.is_copied else file_tracks(row.preset.audio, row.audio_tracks)
    used = tuple(sorted({track for positions in places for track in positions}))
    if not used:
        return [], []
    values, ends = audio.envelopes(row, used)
    return [_together([values[used.index(track)] for track in positions]) for positions in places], ends


def _together(envelopes: list[np.ndarray]) -> np.ndarray:
    """The envelope of several tracks at once, as far as all of them go."""
    length = min(map(len, envelopes))
    mixed: np.ndarray = np.mean([one[:length] for one in envelopes], axis=0)
    return mixed


def _fill(envelopes: list[Envelope], reader: AudioReader | EditAudio, span: Span, step: int) -> None:
    """Read the audio of a span, about a second at a time."""
    for frame in [*range(span.start + step, span.end, step), span.end]:
        for place, block in reader.until(frame):
            envelopes[place].add(block)
