"""The order in which a decoder gives out the pictures of a stream (ITU-T H.264, 8.2.5 and C.4)."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from msgspec import Struct

from boxkite.core.footage.bitstream.h264_pictures import CodedPicture
from boxkite.core.footage.bitstream.h264_sets import SequenceSet
from boxkite.core.footage.bitstream.obstacles import NotSpliceableError, Obstacle

_UNMARK, _UNMARK_LONG, _TO_LONG, _MOST_LONG, _, _CURRENT_LONG = range(1, 7)


class _Held(Struct):
    """A frame in the decoder's buffer."""

    place: int
    order: int
    frame_number: int
    waits: bool = True
    """For being given out."""
    is_reference: bool = False
    long_index: int | None = None


class FrameBuffer:
    """A decoder's buffer of frames, as the standard describes it."""

    def __init__(self, sequence: SequenceSet) -> None:
        self._most_references = max(sequence.most_references, 1)
        self._size = max(sequence.buffer_frames, 1)
        self._depth = sequence.reorder_depth
        self._number_limit = 1 << sequence.frame_number_bits
        self._held: list[_Held] = []
        self.shown: list[int] = []
        """The places of the frames given out so far."""

    def put(self, place: int, picture: CodedPicture) -> None:
        """Decode the next picture. Raises NotSpliceableError where the stream breaks the rules of marking."""
        header = picture.header
        now = _Held(place, picture.order, header.frame_number, is_reference=header.is_reference)
        if header.is_idr:
            self.end()
            now.long_index = 0 if header.long_term else None
        elif header.is_reference:
            if header.marking is None:
                self._slide(header.frame_number)
            else:
                self._mark(header.marking, now)
            if sum(one.is_reference for one in self._held) >= self._most_references:
                raise NotSpliceableError(Obstacle.UNREADABLE)
        self._drop_unused()
        while len(self._held) >= self._size:
            waiting = [one.order for one in self._held if one.waits]
            if not now.is_reference and (not waiting or now.order < min(waiting)):
                self.shown.append(place)
                return
            if not waiting:
                raise NotSpliceableError(Obstacle.UNREADABLE)
            self._give_out()
        self._held.append(now)
        while self._depth is not None and sum(one.waits for one in self._held) > self._depth:
            self._give_out()

    def end(self) -> None:
        """Give out all that is left."""
        while any(one.waits for one in self._held):
            self._give_out()
        self._held.clear()

    def _give_out(self) -> None:
        first = min((one for one in self._held if one.waits), key=lambda one: one.order)
        first.waits = False
        self.shown.append(first.place)
        self._drop_unused()

    def _drop_unused(self) -> None:
        self._held = [one for one in self._held if one.waits or one.is_reference]

    def _short_number(self, one: _Held, current: int) -> int:
        """FrameNumWrap (8.2.4.1)."""
        return one.frame_number - self._number_limit if one.frame_number > current else one.frame_number

    def _slide(self, current: int) -> None:
        """Sliding window (8.2.5.3)."""
        references = [one for one in self._held if one.is_reference]
        if len(references) >= self._most_references:
            short = [one for one in references if one.long_index is None]
            if not short:
                raise NotSpliceableError(Obstacle.UNREADABLE)
            min(short, key=lambda one: self._short_number(one, current)).is_reference = False

    def _mark(self, operations: Iterable[tuple[int, ...]], now: _Held) -> None:
        """Adaptive memory control (8.2.5.4), for frames."""
        for kind, *numbers in operations:
            if kind in (_UNMARK, _TO_LONG):
                wanted = now.frame_number - numbers[0] - 1
                found = [
                    one
                    for one in self._held
                    if one.is_reference
                    and one.long_index is None
                    and self._short_number(one, now.frame_number) == wanted
                ]
                if not found:
                    raise NotSpliceableError(Obstacle.UNREADABLE)
                if kind == _UNMARK:
                    found[0].is_reference = False
                else:
                    self._free_long(numbers[1])
                    found[0].long_index = numbers[1]
            elif kind == _UNMARK_LONG:
                self._free_long(numbers[0])
            elif kind == _MOST_LONG:
                for one in self._held:
                    if one.long_index is not None and one.long_index >= numbers[0]:
                        one.is_reference, one.long_index = False, None
            elif kind == _CURRENT_LONG:
                self._free_long(numbers[0])
                now.long_index = numbers[0]
            else:
                raise NotSpliceableError(Obstacle.DROPS)

    def _free_long(self, index: int) -> None:
        for one in self._held:
            if one.long_index == index:
                one.is_reference, one.long_index = False, None


def shown_order(pictures: Sequence[CodedPicture], sequence: SequenceSet) -> list[int]:
    """The places of pictures, in the order a decoder gives them out. Raises NotSpliceableError."""
    buffer = FrameBuffer(sequence)
    for place, picture in enumerate(pictures):
        buffer.put(place, picture)
    buffer.end()
    return buffer.shown


def reorder_depth(order: Sequence[int]) -> int:
    """How many pictures at most are stored before one that is shown before them. order: of showing, as stored."""
    deepest = 0
    waiting: list[int] = []
    for now in order:
        deepest = max(deepest, sum(earlier > now for earlier in waiting))
        waiting = [one for one in (*waiting, now) if one > now - 64][-64:]
    return deepest
