"""Packets read ahead by a thread."""

from __future__ import annotations

import contextlib
import threading
from collections.abc import Iterator
from typing import Any

import pytest

from boxkite.core.footage.read_ahead import read_ahead


class Weighed:
    """A packet as far as reading ahead knows one."""

    def __init__(self, number: int) -> None:
        self.number = number
        self.size = 900_000


def test_packets_keep_their_order_and_errors_of_reading_come_after_them() -> None:
    def broken() -> Iterator[Any]:
        yield from map(Weighed, range(50))
        raise OSError("the card was pulled out")

    seen = []
    with contextlib.closing(read_ahead(broken())) as packets, pytest.raises(OSError, match="pulled out"):
        for packet in packets:
            seen.append(packet.number)
    assert seen == list(range(50))


def test_reading_ends_when_no_more_is_wanted_and_never_runs_far_ahead() -> None:
    read: list[int] = []

    def endless() -> Iterator[Any]:
        while True:
            read.append(len(read))
            yield Weighed(read[-1])

    before = threading.active_count()
    with contextlib.closing(read_ahead(endless())) as packets:
        assert [next(packets).number for _ in range(7)] == list(range(7))
    assert threading.active_count() == before
    assert len(read) < 60
