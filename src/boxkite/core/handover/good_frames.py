"""A frame that shows what a file is about: not black, not blurred, not in a fade; or some at fixed places."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator, Sequence
from fractions import Fraction
from itertools import islice
from pathlib import Path

import av
import numpy as np
from av.container import InputContainer
from av.video.frame import VideoFrame
from av.video.stream import VideoStream
from msgspec import Struct
from PIL import Image

from boxkite.core.errors import BoxkiteError
from boxkite.core.footage.decoding import read_frames
from boxkite.core.footage.frame_index import measure_frames
from boxkite.core.footage.probe import read_source
from boxkite.core.footage.stream_start import show_note
from boxkite.core.handover.described import Described
from boxkite.core.presets.geometry import drawn_aspect
from boxkite.core.preview.stills import as_image
from boxkite.core.render.still import source_frame
from boxkite.core.timebase import Span

PLACES = (0.5, 0.3, 0.7, 0.12, 0.88)
"""Where a good frame is looked for, as shares of the length; the first wins where they are alike."""
_THREE = (0.0, 0.5, 1.0)
_SMALL = 240
_BLACK, _FLAT = 20.0, 6.0
"""Of 8-bit lightness: a mean below is black, a spread below has nothing in it."""
_GOOD = 25.0
"""A score with which nothing better is looked for."""
_CLEARLY = 1.25
"""So much better than an earlier candidate a frame must be to be preferred."""
_MOST_IN_A_ROW = 240
"""Frames decoded one after the other where there are no keyframes near."""


class GoodFrame(Struct, frozen=True):
    """A frame of a file as it is seen, upright, with square pixels."""

    image: Image.Image
    frame: int
    """Its number in the file, counted from 0, about: keyframes near a place are taken."""


class _Decoded(Struct, frozen=True):
    """A frame as it is stored, and how it is to be seen."""

    number: int
    picture: VideoFrame
    turn_degrees: int
    """To rotate it by, counter-clockwise."""
    pixel_aspect: Fraction
    """Width ÷ height of a pixel as it is stored."""

    def seen(self, width_px: int | None = None) -> Image.Image:
        """It upright with square pixels, made smaller to a width; only pixels that are not square are stretched.

        width_px: None for its own.
        """
        aspect = drawn_aspect(self.pixel_aspect)
        wide, high = (
            self.picture.width * max(aspect, Fraction(1)),
            self.picture.height / min(aspect, Fraction(1)),
        )
        across = high if self.turn_degrees % 180 else wide
        share = min(Fraction(1), (width_px or across) / across)
        size = max(1, round(wide * share)), max(1, round(high * share))
        small = self.picture
        if size != (small.width, small.height):
            small = small.reformat(width=size[0], height=size[1], interpolation="AREA")
        image = as_image(small)
        return image.rotate(self.turn_degrees, expand=True) if self.turn_degrees else image


def good_frames(one: Described, count: int, width_px: int) -> list[GoodFrame]:
    """One good frame of a file, or its first, middle and last. width_px: they are made that wide at most.

    Empty for files without a picture, or that cannot be decoded.
    """
    best: list[GoodFrame] = []
    best_score = 0.0
    try:
        for found in _candidates(one, PLACES if count == 1 else _THREE, exact=count > 1):
            if count > 1:
                best.append(GoodFrame(found.seen(width_px), found.number))
                continue
            score = _score(_small(found.picture))
            if not best or score > best_score * _CLEARLY:
                best, best_score = [GoodFrame(found.seen(width_px), found.number)], score
    except (BoxkiteError, av.error.FFmpegError, OSError, ValueError, StopIteration):
        return best
    return best


def _candidates(one: Described, shares: Sequence[float], *, exact: bool) -> Iterator[_Decoded]:
    frames = max(1, one.frames)
    numbers = [min(frames - 1, round(share * (frames - 1))) for share in shares]
    if not one.is_made:
        yield from _of_source(one, numbers)
    elif one.parts or one.file.path.is_dir():
        images = list(one.parts) or one.file.parts()
        for number in numbers:
            with av.open(f"file:{images[min(number, len(images) - 1)]}") as container:
                aspect = _pixel_aspect(container.streams.video[0])
                yield from (_Decoded(number, one, 0, aspect) for one in islice(container.decode(video=0), 1))
    elif exact and one.is_copied:
        yield from _of_copy(one.file.path, numbers)
    else:
        yield from _of_file(one.file.path, numbers, one.fps, exact=exact)


def _of_source(one: Described, numbers: Sequence[int]) -> Iterator[_Decoded]:
    """Frames of what a planned file is going to be made from."""
    row = one.row
    if row is None or row.shot.footage.source.video is None:
        return
    piece, aspect = row.pieces[0], row.shot.footage.source.video.sample_aspect
    for number in numbers:
        shown = piece.span.start + min(piece.span.length - 1, piece.frame_shown(number))
        turn = piece.shot.footage.frame_index.rotation_degrees
        yield _Decoded(number, source_frame(piece, shown), turn, aspect)


def frame_of_file(path: Path, frame: int, fps: float, *, is_copied: bool) -> Image.Image | None:
    """A frame of a media file as it is seen; None where it cannot be decoded. is_copied: as of _of_copy."""
    try:
        for found in _of_copy(path, [frame]) if is_copied else _of_file(path, [frame], fps, exact=True):
            return found.seen()
    except (BoxkiteError, av.error.FFmpegError, OSError, ValueError):
        return None
    return None


def _of_copy(path: Path, numbers: Sequence[int]) -> Iterator[_Decoded]:
    """Frames of a file that holds its source's own times, which need not be regular: counted as those of a source."""
    source = read_source(path)
    if source.video is None:
        return
    table = measure_frames(source)
    for number in numbers:
        with contextlib.closing(read_frames(source, table, Span(number, number + 1))) as frames:
            for _, picture in frames:
                yield _Decoded(number, picture, table.rotation_degrees, source.video.sample_aspect)


def _of_file(path: Path, numbers: Sequence[int], fps: float, *, exact: bool) -> Iterator[_Decoded]:
    """Frames of a media file: keyframes near the places, or exactly those."""
    with av.open(
        f"file:{path}", options={"protocol_whitelist": "file"}, metadata_errors="replace"
    ) as container:
        if not container.streams.video:
            return
        stream = container.streams.video[0]
        base, start, aspect = stream.time_base, stream.start_time or 0, _pixel_aspect(stream)
        assert base
        if exact:
            stream.thread_type = "AUTO"
            show_note(container, stream)
            yield from _exact(container, stream, numbers, fps)
            return
        stream.codec_context.thread_count = 1  # with more a frame would come only after several others
        show_note(container, stream)
        seen: dict[int, float] = {}
        for number in numbers:
            container.seek(start + round(number / fps / base), stream=stream)
            frame = _keyframe(container, stream)
            if frame is not None and frame.pts is not None and frame.pts not in seen:
                seen[frame.pts] = _score(_small(frame))
                place = round(float((frame.pts - start) * base) * fps)
                yield _Decoded(place, frame, _turn(frame), aspect)
                if len(seen) >= 2 and max(seen.values()) > _GOOD:
                    return
        if max(seen.values(), default=0) > _FLAT:
            return
        container.seek(start, stream=stream)
        step = max(1, min(max(numbers), _MOST_IN_A_ROW) // len(numbers))
        for place, frame in enumerate(container.decode(stream)):
            if place % step == step // 2:
                yield _Decoded(place, frame, _turn(frame), aspect)
            if place > _MOST_IN_A_ROW:
                return


def _keyframe(container: InputContainer, stream: VideoStream) -> VideoFrame | None:
    """The next keyframe, without what follows it."""
    for packet in container.demux(stream):
        if packet.is_keyframe and packet.size:
            frames = [*packet.decode(), *stream.decode(None)]
            return frames[0] if frames else None
    return None


def _exact(
    container: InputContainer, stream: VideoStream, numbers: Sequence[int], fps: float
) -> Iterator[_Decoded]:
    """The frames of some numbers, each decoded from the keyframe before it."""
    base, start = stream.time_base, stream.start_time or 0
    assert base
    for number in numbers:
        wanted = start + round(number / fps / base)
        container.seek(max(start, wanted), stream=stream)
        last: VideoFrame | None = None
        for frame in container.decode(stream):
            last = frame
            if frame.pts is not None and frame.pts >= wanted - round(0.5 / fps / base):
                break
        if last is not None:
            yield _Decoded(number, last, _turn(last), _pixel_aspect(stream))


def _turn(frame: VideoFrame) -> int:
    return round(frame.rotation / 90) * 90 % 360


def _pixel_aspect(stream: VideoStream) -> Fraction:
    """Width ÷ height of a pixel; 1 where the file does not say."""
    ratio = stream.sample_aspect_ratio
    return Fraction(ratio.numerator, ratio.denominator) if ratio else Fraction(1)


def _small(frame: VideoFrame) -> np.ndarray:
    """A frame's lightness, small."""
    width = min(_SMALL, frame.width)
    height = max(1, round(frame.height * width / frame.width))
    small = frame.reformat(width=width, height=height, format="gray", interpolation="AREA")
    return small.to_ndarray().astype(np.float32)


def _score(light: np.ndarray) -> float:
    """How much is to be seen: spread of lightness and sharp edges; next to nothing for black and flat frames."""
    spread = float(light.std())
    if float(light.mean()) < _BLACK and float(light.max()) < 3 * _BLACK:
        return 0.0
    if spread < _FLAT:
        return spread / 10
    edges = np.abs(np.diff(light, axis=0)).mean() + np.abs(np.diff(light, axis=1)).mean()
    return spread + 4 * float(edges)
