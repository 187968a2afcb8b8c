"""Going through a source once, from its first frame to its last, to find where it was cut."""

from __future__ import annotations

from collections.abc import Callable, Iterator

import av
from av.video.frame import VideoFrame
from msgspec import Struct

from boxkite.core.errors import FootageError
from boxkite.core.footage.ahead import ahead
from boxkite.core.footage.cache import memory
from boxkite.core.footage.frame_index import FrameIndex
from boxkite.core.footage.opening import open_source, video_stream
from boxkite.core.footage.reordering import prepare_decoder
from boxkite.core.footage.source import Source
from boxkite.core.marks.cut_decider import Change, CutDecider
from boxkite.core.marks.fingerprint import FingerprintTaker
from boxkite.core.marks.mark import Mark, MarkList, WrittenTime

_TOLD_EVERY = 50
_KINDS = frozenset({"cut", "dissolve"})
"""Keywords of marks that stand where a change was found."""
_AHEAD = 16
"""Frames decoded before they are looked at."""


def find_changes(
    source: Source, table: FrameIndex, progress: Callable[[int], None] = lambda _: None
) -> list[Change]:
    """The cuts and dissolves of a source, in frames of its table. progress gets the number of frames done.

    A separate thread decodes meanwhile. Raises FootageError when it cannot be decoded.
    """
    taker, decider = FingerprintTaker(), CutDecider()
    frames: list[int] = []
    changes: list[Change] = []
    for count, picture in enumerate(ahead(decoded(source), _AHEAD)):
        frames.append(table.frame_at(picture.pts) if table.timestamped and picture.pts is not None else count)
        changes += decider.hear(taker.look(picture))
        if count % _TOLD_EVERY == 0:
            progress(count)
    changes += decider.end()
    return [Change(frames[change.frame], change.length) for change in changes if change.frame < len(frames)]


class Changes(Struct, frozen=True):
    """All changes of one source, as they are kept."""

    found: tuple[Change, ...]


def remembered_changes(
    source: Source, table: FrameIndex, progress: Callable[[int], None] = lambda _: None
) -> list[Change]:
    """The same, but a file that was scanned before, and has not changed since, is not decoded again."""
    with memory() as known:
        kept = None if source.sequence else known.recall("changes", source.path, Changes)
        if kept is not None:
            return list(kept.found)
        changes = find_changes(source, table, progress)
        if not source.sequence:
            known.keep("changes", source.path, Changes(tuple(changes)))
        return changes


def decoded(source: Source) -> Iterator[VideoFrame]:
    """Every frame of a source in order of showing. Raises FootageError."""
    try:
        with open_source(source) as container:
            stream = video_stream(container)
            if stream is None:
                raise FootageError("there is no picture in it", path=source.path)
            prepare_decoder(stream)
            stream.thread_type = "AUTO"
            yield from container.decode(stream)
    except av.error.FFmpegError as error:
        raise FootageError("its frames cannot be decoded", path=source.path) from error


def is_detected(mark: Mark) -> bool:
    """Whether a mark comes of changes_as_marks, whatever somebody has made of it since."""
    return bool(_KINDS & set(mark.keywords))


def changes_as_marks(source: Source, changes: list[Change]) -> MarkList:
    """The shots that changes separate, as markers: one at the first frame, one at each change."""
    marks = [Mark("shot 001", WrittenTime("0"))]
    for number, change in enumerate(changes, start=2):
        kind = "dissolve" if change.length else "cut"
        note = f"dissolve of about {change.length} frames" if change.length else ""
        marks.append(Mark(f"shot {number:03d}", WrittenTime(str(change.frame)), keywords=(kind,), note=note))
    return MarkList(source.path, "detected cuts", tuple(marks))
