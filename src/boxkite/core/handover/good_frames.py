"""A frame that shows what a file is about: not black, not blurred, not in a fade; or some at fixed places."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from pathlib import Path

import av
import numpy as np
from av.container import InputContainer
from av.video.frame import VideoFrame
from av.video.stream import VideoStream
from msgspec import Struct
from PIL import Image

from boxkite.core.errors import BoxkiteError
from boxkite.core.handover.described import Described
from boxkite.core.preview.stills import as_image
from boxkite.core.render.still import source_frame

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


def good_frames(one: Described, count: int, width_px: int) -> list[GoodFrame]:
    """One good frame of a file, or its first, middle and last. width_px: they are made that wide at most.

    Empty for files without a picture, or that cannot be decoded.
    """
    best: list[GoodFrame] = []
    best_score = 0.0
    try:
        for number, frame, turn in _candidates(one, PLACES if count == 1 else _THREE, exact=count > 1):
            if count > 1:
                best.append(GoodFrame(_seen(frame, turn, width_px), number))
                continue
            score = _score(_small(frame))
            if not best or score > best_score * _CLEARLY:
                best, best_score = [GoodFrame(_seen(frame, turn, width_px), number)], score
    except (BoxkiteError, av.error.FFmpegError, OSError, ValueError, StopIteration):
        return best
    return best


def _candidates(
    one: Described, shares: Sequence[float], *, exact: bool
) -> Iterator[tuple[int, VideoFrame, int]]:
    frames = max(1, one.frames)
    numbers = [min(frames - 1, round(share * (frames - 1))) for share in shares]
    if not one.is_made:
        yield from _of_source(one, numbers)
    elif one.parts or one.file.path.is_dir():
        images = list(one.parts) or one.file.parts()
        for number in numbers:
            with av.open(f"file:{images[min(number, len(images) - 1)]}") as container:
                yield number, next(container.decode(video=0)), 0
    else:
        fps = one.frames / one.seconds if one.seconds else 25.0
        yield from _of_file(one.file.path, numbers, fps, exact=exact)


def _of_source(one: Described, numbers: Sequence[int]) -> Iterator[tuple[int, VideoFrame, int]]:
    """(number, frame, degrees to rotate it) of what a planned file is going to be made from."""
    row = one.row
    if row is None or row.shot.footage.source.video is None:
        return
    piece = row.pieces[0]
    for number in numbers:
        shown = piece.span.start + min(piece.span.length - 1, piece.frame_shown(number))
        yield number, source_frame(piece, shown), piece.shot.footage.frame_index.rotation_degrees


def frame_of_file(path: Path, frame: int, fps: float) -> Image.Image | None:
    """A frame of a media file as it is seen; None where it cannot be decoded."""
    try:
        for _, found, turn in _of_file(path, [frame], fps, exact=True):
            return _seen(found, turn, found.width)
    except (BoxkiteError, av.error.FFmpegError, OSError, ValueError):
        return None
    return None


def _of_file(
    path: Path, numbers: Sequence[int], fps: float, *, exact: bool
) -> Iterator[tuple[int, VideoFrame, int]]:
    """Frames of a media file: keyframes near the places, or exactly those."""
    with av.open(
        f"file:{path}", options={"protocol_whitelist": "file"}, metadata_errors="replace"
    ) as container:
        if not container.streams.video:
            return
        stream = container.streams.video[0]
        base, start = stream.time_base, stream.start_time or 0
        assert base
        if exact:
            stream.thread_type = "AUTO"
            yield from _exact(container, stream, numbers, fps)
            return
        stream.codec_context.thread_count = 1  # with more a frame would come only after several others
        seen: dict[int, float] = {}
        for number in numbers:
            container.seek(start + round(number / fps / base), stream=stream)
            frame = _keyframe(container, stream)
            if frame is not None and frame.pts is not None and frame.pts not in seen:
                seen[frame.pts] = _score(_small(frame))
                yield round(float((frame.pts - start) * base) * fps), frame, _turn(frame)
                if len(seen) >= 2 and max(seen.values()) > _GOOD:
                    return
        if max(seen.values(), default=0) > _FLAT:
            return
        container.seek(start, stream=stream)
        step = max(1, min(max(numbers), _MOST_IN_A_ROW) // len(numbers))
        for place, frame in enumerate(container.decode(stream)):
            if place % step == step // 2:
                yield place, frame, _turn(frame)
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
) -> Iterator[tuple[int, VideoFrame, int]]:
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
            yield number, last, _turn(last)


def _turn(frame: VideoFrame) -> int:
    return round(frame.rotation / 90) * 90 % 360


def _seen(frame: VideoFrame, turn: int, width_px: int) -> Image.Image:
    """A frame upright, made smaller to a width, never larger."""
    width = min(frame.width, round(width_px * frame.width / frame.height) if turn % 180 else width_px)
    height = max(1, round(frame.height * width / frame.width))
    small = (
        frame if width == frame.width else frame.reformat(width=width, height=height, interpolation="AREA")
    )
    image = as_image(small)
    return image.rotate(turn, expand=True) if turn else image


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
