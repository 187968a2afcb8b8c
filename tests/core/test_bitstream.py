"""Streams read bit by bit, cuts planned by the order of storing, and the order a decoder shows pictures in."""

from __future__ import annotations

import numpy as np
import pytest
from av.packet import Packet
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from boxkite.core.footage.bitstream.bits import BitReader, BitWriter
from boxkite.core.footage.bitstream.h264_pictures import CodedPicture, PictureReader
from boxkite.core.footage.bitstream.h264_sets import PictureSet, SequenceSet
from boxkite.core.footage.bitstream.h264_slices import read_slice
from boxkite.core.footage.bitstream.nal_units import AvcHeader, Framing, escaped, unescaped
from boxkite.core.footage.bitstream.obstacles import NotSpliceableError, Obstacle
from boxkite.core.footage.bitstream.starts import Entries
from boxkite.core.footage.cuts import cut
from boxkite.core.render.splice.h264_order import reorder_depth, shown_order
from boxkite.core.render.splice.h264_slices import Encoded, rewritten

SEQUENCE = bytes.fromhex("6764000aacb6105fcb08000003000800000301907891 37".replace(" ", ""))
PICTURE = bytes.fromhex("68ea80ecb22c")
"""The sets of an encoder: high profile, 128 x 72, order counts of type 2."""


@given(st.lists(st.tuples(st.sampled_from("use"), st.integers(0, 2**20)), max_size=30))
def test_numbers_are_read_as_they_were_written(numbers: list[tuple[str, int]]) -> None:
    written = BitWriter()
    for kind, value in numbers:
        if kind == "u":
            written.bits(21, value)
        elif kind == "e":
            written.unsigned(value)
        else:
            written.signed(value - 2**19)
    bits = BitReader(written.end())
    for kind, value in numbers:
        if kind == "u":
            assert bits.bits(21) == value
        else:
            assert (bits.unsigned() if kind == "e" else bits.signed() + 2**19) == value
    assert bits.place == bits.stop_bit
    with pytest.raises(NotSpliceableError):
        bits.bits(9)


@given(st.lists(st.sampled_from([0, 0, 0, 1, 2, 3, 4, 255]), max_size=40).map(bytes))
def test_no_start_code_is_left_in_a_payload_and_all_of_it_comes_back(payload: bytes) -> None:
    safe = escaped(payload)
    assert not any(safe[place : place + 3] in (b"\0\0\0", b"\0\0\1", b"\0\0\2") for place in range(len(safe)))
    assert not safe.endswith(b"\0")
    assert unescaped(safe) == payload or payload.endswith(b"\0")
    unit = b"\x65" + safe
    assert Framing(0).units(Framing(0).packed([unit, unit])) == [unit, unit]
    assert Framing(4).units(Framing(4).packed([unit, unit])) == [unit, unit]


def test_headers_of_containers_come_back_byte_for_byte_and_rubbish_is_refused() -> None:
    header = AvcHeader(Framing(4), (SEQUENCE,), (PICTURE,), b"\x01\x64\x00\x0a\xff", b"\xfd\xf8\xf8\x00")
    assert AvcHeader.read(header.written()) == header
    for damaged in (b"", b"\x01", header.written()[:9], b"\x02" + header.written()[1:], bytes(40)):
        with pytest.raises(NotSpliceableError):
            AvcHeader.read(damaged)


def test_what_is_no_slice_is_not_taken_for_the_first_one() -> None:
    """A message that lost its first byte, as in a clip that nobody here made, goes by its second."""
    header = AvcHeader(Framing(4), (SEQUENCE,), (PICTURE,), b"\x01\x64\x00\x0a\xff")
    message, picture = b"\x05\xff\xab\xdc\x45\xe9", b"\x65\x88\x84\x00\x5f\xfc"
    packet = Packet(header.framing.packed([message, picture]))
    assert not header.is_slice(message) and Entries(header=header).is_whole(packet)
    assert Entries(header=header).begins(packet)


def test_a_restriction_is_added_to_a_set_and_nothing_else_of_it_changes() -> None:
    plain = SequenceSet.read(SEQUENCE)
    for depth in (0, 2, 16):
        added = plain.with_reorder_depth(depth)
        assert added.reorder_depth == depth and added.buffer_frames >= max(depth, plain.buffer_frames)
        assert (
            replace(
                added, unit=plain.unit, reorder_depth=plain.reorder_depth, buffer_frames=plain.buffer_frames
            )
            == plain
        )


@pytest.mark.parametrize("order_type", [0, 2])
@pytest.mark.parametrize("number_bits", [4, 9, 16])
def test_a_slice_is_read_the_same_under_another_set(order_type: int, number_bits: int) -> None:
    own, pictures = SequenceSet.read(SEQUENCE), {0: PictureSet.read(PICTURE)}
    target = replace(own, order_type=order_type, order_bits=6 if order_type == 0 else 0,
                     frame_number_bits=number_bits)  # fmt: skip
    added = pictures[0].under(5, target)
    assert (added.number, added.sequence_set) == (5, target.number)
    encoded = Encoded(own, pictures, target, 5)
    for is_idr, after in ((True, 0), (False, 1), (False, 70)):
        unit = _slice(own, is_idr=is_idr, number=after % 16, body=b"\xb7\x00\x00\x01\x2a\x80")
        moved = rewritten(unit, encoded, after_idr=after, idr_number=3)
        before, now = read_slice(unit, pictures, own), read_slice(moved, {5: added}, target)
        assert (now.picture_set, now.frame_number) == (5, after % (1 << number_bits))
        assert now.order_low == (2 * after % 64 if order_type == 0 else 0)
        assert now.idr_number == (3 if is_idr else 0)
        assert (now.kind, now.quantiser, now.is_reference) == (before.kind, before.quantiser, True)
        assert unescaped(moved).endswith(b"\xb7\x00\x00\x01\x2a\x80")
    with pytest.raises(
        NotSpliceableError
    ):  # a picture that nothing is predicted from is not of such an encoder
        rewritten(b"\x01" + unit[1:], encoded, after_idr=1, idr_number=0)


def _slice(sequence: SequenceSet, *, is_idr: bool, number: int, body: bytes) -> bytes:
    """A slice of one reference picture, coded by CABAC."""
    bits = BitWriter()
    bits.unsigned(0), bits.unsigned(7 if is_idr else 5), bits.unsigned(0)
    bits.bits(sequence.frame_number_bits, number)
    if is_idr:
        bits.unsigned(0), bits.bits(2, 0)
    else:
        bits.bits(1, 0), bits.bits(1, 0), bits.bits(1, 0), bits.unsigned(0)
    bits.signed(-3)
    bits.unsigned(1)  # no deblocking
    bits.fill(1)
    return (b"\x65" if is_idr else b"\x41") + escaped(bits.whole() + body)


def test_what_cannot_be_joined_is_refused_with_the_reason() -> None:
    header = AvcHeader(Framing(4), (SEQUENCE,), (PICTURE,), b"\x01\x64\x00\x0a\xff")
    reader = PictureReader.of(header)
    packet = Framing(4).packed([_slice(reader.sequence, is_idr=False, number=1, body=b"\xff")])
    with pytest.raises(NotSpliceableError) as early:
        reader.read(packet)
    assert early.value.obstacle is Obstacle.NO_DECODING_START
    reader.read(Framing(4).packed([_slice(reader.sequence, is_idr=True, number=0, body=b"\xff")]))
    assert reader.read(packet).order == 2
    with pytest.raises(NotSpliceableError) as gap:
        reader.read(Framing(4).packed([_slice(reader.sequence, is_idr=False, number=3, body=b"\xff")]))
    assert gap.value.obstacle is Obstacle.GAPS
    other = Framing(4).packed([reader.sequence.with_reorder_depth(1).unit, PICTURE])
    with pytest.raises(NotSpliceableError) as changed:
        reader.read(other)
    assert changed.value.obstacle is Obstacle.SETS
    with pytest.raises(NotSpliceableError) as several:
        PictureReader.of(
            replace(header, sequence_sets=(SEQUENCE, reader.sequence.with_reorder_depth(1).unit))
        )
    assert several.value.obstacle is Obstacle.SETS


@st.composite
def _streams(draw: st.DrawFn) -> tuple[list[int], list[bool]]:
    """Frames as they are stored, by the number they are shown at: groups of an entry and shuffled ones after it."""
    order: list[int] = []
    starts: list[bool] = []
    for _ in range(draw(st.integers(1, 5))):
        group = draw(st.permutations(range(1, draw(st.integers(1, 7)))))
        order += [len(order) + place for place in (0, *group)]
        starts += [True] + [False] * len(group)
    return order, starts


@given(_streams(), st.data())
def test_a_cut_holds_every_wanted_frame_once_and_copies_all_that_can_be(
    stream: tuple[list[int], list[bool]], data: st.DataObject
) -> None:
    order, starts = stream
    begin = data.draw(st.integers(0, len(order) - 1))
    end = data.draw(st.integers(begin + 1, len(order)))
    entries = [place for place, is_start in enumerate(starts) if is_start and begin <= order[place] < end]
    try:
        found = cut(np.array(order) * 40, np.array(starts), begin * 40 - 20, end * 40 - 20)
    except NotSpliceableError as error:
        assert error.obstacle is Obstacle.NO_KEYFRAME and not entries
        return
    first, body_end = found.body
    assert first == entries[0]
    body = order[first:body_end]
    shown = [order[place] for place in found.head] + sorted(body) + [order[place] for place in found.tail]
    assert shown == list(range(begin, end))
    assert all(starts[place] for place in (found.head_from, found.tail_from)) and found.head_from <= first
    assert all(found.head_from <= place for place in found.head) and first <= found.tail_from < body_end
    for more in range(body_end + 1, len(order) + 1):  # no longer run is whole, and before the end
        longer = order[first:more]
        assert max(longer) >= end or sorted(longer) != list(range(order[first], order[first] + len(longer)))


@given(_streams())
def test_pictures_are_shown_in_their_order_and_a_depth_that_is_too_small_is_seen(
    stream: tuple[list[int], list[bool]],
) -> None:
    order, starts = stream
    depth = reorder_depth(order)
    header = read_slice(_slice(SequenceSet.read(SEQUENCE), is_idr=True, number=0, body=b"\xff"),
                        {0: PictureSet.read(PICTURE)}, SequenceSet.read(SEQUENCE))  # fmt: skip
    pictures, first = [], 0
    for place, is_start in enumerate(starts):
        first = order[place] if is_start else first
        own = replace(header, is_idr=is_start, is_reference=is_start)
        pictures.append(CodedPicture(own, 2 * (order[place] - first), False))
    sequence = replace(
        SequenceSet.read(SEQUENCE), most_references=1, reorder_depth=depth, buffer_frames=depth + 1
    )
    by_time = sorted(range(len(order)), key=order.__getitem__)
    assert shown_order(pictures, sequence) == by_time
    if depth:
        assert shown_order(pictures, replace(sequence, reorder_depth=depth - 1, buffer_frames=16)) != by_time
