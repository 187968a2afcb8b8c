"""Finished files against what they were made from: every frame, through the same chain, and the audio."""

from __future__ import annotations

from array import array
from collections.abc import Iterator, Sequence
from functools import partial
from pathlib import Path

import numpy as np
from av.video.frame import VideoFrame
from msgspec import Struct, field

from boxkite.core.errors import BoxkiteError, FootageError, RenderError
from boxkite.core.footage.ahead import ahead
from boxkite.core.footage.decoding import Damage, read_frames
from boxkite.core.footage.find import group_sequences
from boxkite.core.footage.frame_index import measure_frames
from boxkite.core.footage.opening import current_identity
from boxkite.core.footage.probe import read_sequence, read_source
from boxkite.core.notices.footage import BREAKS_OFF, HEADER_LONGER
from boxkite.core.notices.handover import (
    NOT_AS_PLANNED,
    NOT_COMPARED,
    NOT_DECODED,
    OTHER_FRAMES,
    OTHER_TIMES,
    POOR,
)
from boxkite.core.notices.notice import Notice
from boxkite.core.picture.chain import PictureChain
from boxkite.core.picture.conversion import conversion_of
from boxkite.core.plan.rows import Row
from boxkite.core.presets.codecs import IMAGE_EXTENSIONS
from boxkite.core.render.comparing_audio import SourceAudio, audio_faults
from boxkite.core.render.inputs import frames_until
from boxkite.core.render.out_of_place import Neighbours, Prints, faults_of_frames
from boxkite.core.render.quality import BEST_DB, Closeness, QualityMeter
from boxkite.core.render.shared_reading import AHEAD, SharedReading, parts_of
from boxkite.core.render.still import through_encoder
from boxkite.core.shots.placing import index_source
from boxkite.core.shots.shot import IndexedSource
from boxkite.core.timebase import Timecode

_SAMPLES = 5
_POORER_DB = 3.0
"""Below single frames through the preset's encoder, which a whole file may be; more where a codec or limit needs it."""
_POORER_BY_CODEC = {"av1": 6.0, "vp9": 11.0}
_POORER_BY_LIMIT = 8.0
_FILLED = 0.5
_NEAR_DB = 1.5
"""So near to what is allowed, a single frame does not tell."""


class ToCompare(Struct):
    """A finished file that is to be decoded throughout."""

    path: Path
    """Of the file, or folder of images."""
    row: Row | None = None
    """What it was made from, as far as that is known."""
    frames_short: int = 0
    """By how many frames it ends before its plan, as its making said."""

    @property
    def made_from(self) -> object:
        """What tells the frames that it was made from; of the same plan's files those with the same go in step."""
        return parts_of(self.row) if self.row else self.path


class Comparison(Struct):
    """What decoding a finished file throughout has found."""

    frames: int = 0
    psnr_db: array[float] = field(default_factory=lambda: array("f"))
    """Of each frame against the frame it was made from; empty where it is not compared."""
    ssim: array[float] = field(default_factory=lambda: array("f"))
    start: Timecode | None = None
    """Of its first frame."""
    faults: list[Notice] = field(default_factory=list)
    notices: list[Notice] = field(default_factory=list)

    @property
    def mean_psnr_db(self) -> float:
        """Of all its frames; there must be some."""
        return float(np.mean(self.psnr_db))

    @property
    def mean_ssim(self) -> float:
        """Of all its frames; there must be some."""
        return float(np.mean(self.ssim))

    def worst(self, count: int) -> list[int]:
        """So many of its frames, by number, the furthest from the source first."""
        return [int(place) for place in np.argsort(np.array(self.psnr_db), kind="stable")[:count]]


class _Wanted(Struct):
    """What a frame of a file should be."""

    frame: VideoFrame
    """Without its chroma where that is not needed to compare it."""
    source: VideoFrame | None = None
    """As decoded, where the frame is without its chroma."""
    piece: Row | None = None
    place: int = 0
    """Which of the frames of its piece."""

    def whole(self) -> VideoFrame:
        """The frame with its chroma."""
        if self.source is None or self.piece is None:
            return self.frame
        return next(PictureChain(conversion_of(self.piece), first=self.place).put(self.source))


class _Compared(Struct):
    """One of the files that are compared in step."""

    file: ToCompare
    footage: IndexedSource
    found: Comparison
    row_there: Row | None
    """The file's row where its source can be read as it was."""


def compare(files: Sequence[ToCompare], cores: int) -> list[Comparison]:
    """Decode finished files to their ends, each against its source where it has a row and the source is there.

    All in step: what several rows of one plan are made from is decoded once. cores: that these files may use. What is
    wrong with a file raises nothing: its comparison tells.
    """
    found = [Comparison() for _ in files]
    read = [_opened(*one) for one in zip(files, found, strict=True)]
    rows = [one.row_there if one else None for one in read]
    threads = max(1, cores // (len(files) + any(rows)))
    # where there are cores to spare, a thread for each stream costs less than several that share in its frames
    is_threaded = cores > 1 and any(rows)
    reading, audio = SharedReading(rows, threads, is_threaded=is_threaded), SourceAudio()
    steps = {
        number: _steps(one, number, reading, audio, threads, is_threaded)
        for number, one in enumerate(read)
        if one
    }
    over = object()
    while steps:
        slower = [number for number in steps if not reading.is_ahead(number)]
        for number in slower or [*steps]:
            if next(steps[number], over) is over:
                reading.leave(number)
                del steps[number]
    return found


def _opened(file: ToCompare, found: Comparison) -> _Compared | None:
    try:
        footage = _finished(file.path)
    except (BoxkiteError, OSError) as error:
        found.faults.append(NOT_DECODED(reason=_reason(error)))
        return None
    found.start = file.row.start_timecode if file.row else footage.start
    found.faults += [one for one in footage.frame_index.warnings if one.is_a(BREAKS_OFF, HEADER_LONGER)]
    reason = _why_not(file.row) if file.row else ""
    if reason:
        found.notices.append(NOT_COMPARED(reason=reason))
    return _Compared(file, footage, found, None if reason else file.row)


def _steps(
    one: _Compared, number: int, reading: SharedReading, audio: SourceAudio, threads: int, is_threaded: bool
) -> Iterator[None]:
    """Compare one file, giving way to the others after each of its frames."""
    found, footage = one.found, one.footage
    try:
        if footage.source.video:
            yield from _compare_frames(one, number, reading, threads, is_threaded)
        if footage.source.audio:
            faults, notices = audio_faults(
                footage, one.file.row, one.row_there, audio, lambda frame: _at(found, frame)
            )
            found.faults += faults
            found.notices += notices
    except (BoxkiteError, OSError) as error:
        found.faults.append(NOT_DECODED(reason=_reason(error)))
    except (
        ValueError,
        ArithmeticError,
        LookupError,
        TypeError,
    ) as error:  # one odd file does not end the others
        found.faults.append(NOT_DECODED(reason=f"{type(error).__name__}: {error}"))


def _reason(error: Exception) -> str:
    if isinstance(error, BoxkiteError):
        return error.message
    return (getattr(error, "strerror", None) or str(error)).lower()


def _finished(path: Path) -> IndexedSource:
    """The finished file as footage. Raises FootageError."""
    if path.is_dir():
        sequences, _ = group_sequences(sorted(path.iterdir()))
        if not sequences:
            singles = [one for one in sorted(path.iterdir()) if one.suffix in IMAGE_EXTENSIONS.values()]
            if len(singles) != 1:
                raise FootageError("it holds no numbered images")
            source = read_source(singles[0])
        else:
            source = read_sequence(sequences[0])
    else:
        source = read_source(path)
    return index_source(source, measure_frames(source), None)


def _why_not(row: Row) -> str:
    """Why a row's source cannot be read as it was; empty where it can."""
    for source in {id(one): one for piece in row.pieces for one in piece.shot.footage.sources}.values():
        place = source.path if not source.sequence else source.sequence.folder
        if not place.exists():
            return f"{source.label} is no longer there"
        try:
            if source.identity and (difference := source.identity.difference(current_identity(source))):
                return f"{source.label} has changed since: {difference}"
        except (BoxkiteError, OSError) as error:
            return f"{source.label}: {_reason(error)}"
    return ""


def _wanted_frames(row: Row, reading: SharedReading, reader: int) -> Iterator[_Wanted]:
    """The frames that a row's file should hold, as its encoder got them, or as its source stores them for a copy."""
    for place, piece in enumerate(row.pieces):
        frames = reading.frames(reader, row, place)
        if row.is_copied:
            yield from (_Wanted(frame) for _, frame in frames)
            continue
        chain, count = PictureChain(conversion_of(piece), luma_alone=True), 0
        for number, frame in frames:
            for _ in range(_times_shown(piece, number)):
                for ready in chain.put(frame):
                    yield _Wanted(ready, frame, piece, count) if chain.gives_luma_alone else _Wanted(ready)
                    count += 1
        yield from map(_Wanted, chain.end())


def _times_shown(row: Row, number: int) -> int:
    """How often a file shows a frame of its source: once, unless it has a rate of its own."""
    if not row.preset.frame_rate:
        return 1
    place = number - row.span.start
    return frames_until(row, place + 1) - frames_until(row, place)


def _compare_frames(
    one: _Compared, number_of_reader: int, reading: SharedReading, threads: int, is_threaded: bool
) -> Iterator[None]:
    found, row, row_there, short = one.found, one.file.row, one.row_there, one.file.frames_short
    index = one.footage.frame_index
    if row and index.frame_count != row.frames - short:
        found.faults.append(OTHER_FRAMES(found=index.frame_count, wanted=row.frames - short))
    elif row and not row.is_copied and not index.constant:
        found.faults.append(OTHER_TIMES())
    damage = Damage(accepted=True)
    decoded = read_frames(one.footage.source, index, index.span, threads=threads, damage=damage)
    if is_threaded:
        decoded = ahead(decoded, AHEAD)
    wanted = _wanted_frames(row_there, reading, number_of_reader) if row_there else iter(())
    own, theirs, meter = Prints(), Prints(), QualityMeter()
    neighbours = Neighbours(found.psnr_db)
    sampled = {round((place + 0.5) * index.frame_count / _SAMPLES) for place in range(_SAMPLES)}
    samples: list[tuple[int, VideoFrame]] = []
    for number, frame in decoded:
        yield
        found.frames += 1
        own.add(frame)
        planned_frame = next(wanted, None)
        if planned_frame is None:
            continue
        match = _of_planned_size(planned_frame.frame, frame, row_there)
        try:
            close = meter.compare(frame, match)
            theirs.add(match)
        except ValueError:
            found.faults.append(
                NOT_AS_PLANNED(
                    reason=f"its frames are {frame.width}x{frame.height}, not {match.width}x{match.height}"
                )
            )
            row_there, wanted = None, iter(())
            continue
        found.psnr_db.append(close.psnr_db)
        found.ssim.append(close.ssim)
        neighbours.add(frame, match)
        if number in sampled and row_there and not row_there.is_copied:
            samples.append((number, planned_frame.whole() if planned_frame.source else match))
    if len(damage.missing + damage.corrupt) > len(reading.damage.missing + reading.damage.corrupt):
        first = min(damage.missing + damage.corrupt)
        reason = f"{len(damage.missing) + len(damage.corrupt)} frames are damaged, the first at {_at(found, first)}"
        found.faults.append(NOT_DECODED(reason=reason))
    neighbours.end()
    faults, notices = faults_of_frames(
        own.values(),
        theirs.values(),
        np.array(found.psnr_db),
        neighbours.shows,
        float(index.rate.fraction),
        partial(_at, found),
        is_copied=bool(row_there and row_there.is_copied),
    )
    found.faults += faults
    found.notices += notices
    if row_there and not found.faults and not _is_filled(one.footage, row_there):
        _poor(found, row_there, samples)


def _of_planned_size(wanted: VideoFrame, frame: VideoFrame, row: Row | None) -> VideoFrame:
    """The wanted frame in the size of the file's, where that is as planned: the source may change its size."""
    size = frame.width, frame.height
    if row is None or row.geometry is None or (wanted.width, wanted.height) == size:
        return wanted
    if size != (row.geometry.width_px, row.geometry.height_px):
        return wanted
    return wanted.reformat(width=size[0], height=size[1], interpolation="BICUBIC", threads=1)


def _at(found: Comparison, frame: int) -> str:
    return str(found.start + frame) if found.start else f"frame {frame}"


def _is_filled(footage: IndexedSource, row: Row) -> bool:
    """Whether a file uses the bits a second that its preset limits it to: then they alone say how close it can be."""
    video, audio, index = row.preset.video, row.preset.audio, footage.frame_index
    if not video or not video.bitrate_mbps:
        return False
    of_audio = 1000 * (audio.bitrate_kbps or 0) * len(footage.source.audio) if audio else 0
    seconds = float(index.rate.seconds(index.frame_count))
    return footage.source.size_bytes * 8 / seconds - of_audio > _FILLED * 1_000_000 * video.bitrate_mbps


def _poor(found: Comparison, row: Row, samples: list[tuple[int, VideoFrame]]) -> None:
    """Whether some frames are much further from the source than the preset's own encoder makes them.

    Where all are about as far as each other, the middle one tells as much as all, unless it is near what is allowed.
    """
    video = row.preset.video
    allowed = _POORER_DB + _POORER_BY_CODEC.get(video.codec if video else "", 0.0)
    allowed += _POORER_BY_LIMIT if video and video.bitrate_mbps else 0.0
    middle = len(samples) // 2
    samples = samples[middle : middle + 1] + samples[:middle] + samples[middle + 1 :]
    own, meter = [found.psnr_db[number] for number, _ in samples], QualityMeter()
    are_alike = bool(own) and max(own) - min(own) <= _POORER_DB
    fresh: list[float] = []
    for _, wanted in samples:
        try:
            made: Closeness = meter.compare(through_encoder(row, wanted), wanted)
        except (RenderError, ValueError):
            return
        fresh.append(made.psnr_db)
        if len(fresh) == 1 and are_alike and own[0] >= fresh[0] - (allowed - _NEAR_DB):
            return
    if own and np.mean(own) < np.mean(fresh) - allowed:
        found.faults.append(POOR(found=float(np.mean(own)), wanted=min(float(np.mean(fresh)), BEST_DB)))
