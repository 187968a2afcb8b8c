"""Sharing the machine out: how many shots side by side, in what order, with how many threads each."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence

from boxkite.core.machine import free_memory_bytes, usable_cores
from boxkite.core.plan.rows import Row, decode_groups, group_span
from boxkite.core.timebase import Span

_OF_A_WORKER = 130_000_000
"""Bytes of memory a worker takes before its first frame: the libraries, and what they load."""
_HELD = {"h264": 60, "hevc": 60, "av1": 90, "vp9": 40}
"""Frames an encoder looks ahead at, its references and what is on its way; of codecs that know no others few."""
_HELD_BY_OTHERS, _HELD_BY_DECODER = 6, 20
_SHARE_OF_MEMORY = 0.8
_MOST_SECONDS_OF_STRETCH, _LEAST_STRETCHES_OF_WORKER = 20, 4
_NEAR_SECONDS = 5
_DEEP = re.compile("p1[0246]|48|64|gbrpf")


def in_order(rows: Sequence[Row]) -> list[tuple[Row, ...]]:
    """The shots of a plan in the order they are begun: the longest first, so that the last does not run alone."""
    return sorted(shot_groups(rows), key=lambda members: -effort_of(members))


def shot_groups(rows: Sequence[Row]) -> list[tuple[Row, ...]]:
    """The rows that are made together: those of a decode group that are encoded in the same chunks, or in none."""
    found = []
    for members in decode_groups(rows):
        by_chunks: dict[tuple[Span, ...], list[Row]] = {}
        for row in members:
            by_chunks.setdefault(row.chunks, []).append(row)
        found += [tuple(alike) for alike in by_chunks.values()]
    return found


def stretches_of(
    rows: Sequence[Row], threads: Mapping[int, int], workers: int
) -> list[list[tuple[Row, ...]]]:
    """The groups that share one reading, in stretches of such as lie close behind each other in one source; what takes
    longest comes first.

    One worker makes a stretch, and its decoder goes on from each group to the next. It is short against what each
    worker has to do, so that all end at about the same time. threads: for each row, by its number, alike in a stretch.
    """
    stretches: list[list[tuple[Row, ...]]] = []
    for count in sorted(set(threads.values())):
        groups = shot_groups([row for row in rows if threads[row.number] == count])
        whole = sum(
            float(one[0].shot.footage.frame_index.rate.seconds(group_span(one).length)) for one in groups
        )
        most = min(_MOST_SECONDS_OF_STRETCH, whole / workers / _LEAST_STRETCHES_OF_WORKER)
        first = len(stretches)
        for members in sorted(groups, key=lambda one: (id(one[0].shot.footage), group_span(one))):
            if len(stretches) > first and _is_near(stretches[-1], members, most):
                stretches[-1].append(members)
            else:
                stretches.append([members])
    return sorted(stretches, key=lambda one: (-sum(map(effort_of, one)), one[0][0].number))


def _is_near(stretch: Sequence[tuple[Row, ...]], members: tuple[Row, ...], most_seconds: float) -> bool:
    """Whether a decoder that has read a stretch may well go on to another group, and it is not too long with that."""
    footage = stretch[0][0].shot.footage
    if (
        members[0].shot.footage is not footage
        or footage.composition
        or members[0].chunks
        or stretch[-1][0].chunks
    ):
        return False
    if any(row.is_copied or row.splice or not row.preset.video for row in (members[0], stretch[-1][0])):
        return False
    first, last, span = group_span(stretch[0]), group_span(stretch[-1]), group_span(members)
    seconds = footage.frame_index.rate.seconds
    near = span.start - last.end >= 0 and seconds(span.start - last.end) <= _NEAR_SECONDS
    return near and seconds(span.end - first.start) <= most_seconds


def tasks_of(rows: Sequence[Row]) -> int:
    """How many workers there is something to do for at the same time."""
    return sum(len(members[0].chunks) or 1 for members in shot_groups(rows))


def settle_threads(rows: Sequence[Row], cores: int, workers: int) -> dict[int, int]:
    """Threads for each row, by its number: as many as make use of all cores while so many shots are left.

    Settled once, before the first shot: an encoder's frames depend on how many threads it has.
    """
    shots, left = in_order(rows), tasks_of(rows)
    alone = min(workers, left) == 1
    settled: dict[int, int] = {}
    for members in shots:
        side_by_side = min(workers, left)
        left -= len(members[0].chunks) or 1
        threads = cores + cores // 2 if alone else -(-cores // side_by_side)
        settled |= {row.number: max(1, threads) for row in members}
    return settled


def workers_for(rows: Sequence[Row], wanted: int, threads: Mapping[int, int], memory_bytes: int) -> int:
    """How many shots side by side the memory allows, at most so many as wanted and at least one."""
    needs = [
        _memory_of(members, threads)
        for members in shot_groups(rows)
        for _ in range(min(wanted, len(members[0].chunks) or 1))
    ]
    heaviest = sorted(needs, reverse=True)
    taken, room = 0, round(memory_bytes * _SHARE_OF_MEMORY)
    for count, need in enumerate(heaviest[:wanted]):
        taken += need
        if taken > room:
            return max(1, count)
    return wanted


def fitting_workers(rows: Sequence[Row], wanted: int) -> int:
    """How many of the wanted workers the memory that is free allows."""
    return workers_for(rows, wanted, settle_threads(rows, usable_cores(), wanted), free_memory_bytes())


def effort_of(rows: Sequence[Row]) -> int:
    """About how much there is to do for some rows; the more, the earlier they are begun."""
    return sum(map(_effort, rows))


def _effort(row: Row) -> int:
    """About how much there is to do for a row: its frames' pixels, and those that are decoded for it."""
    video = row.shot.footage.source.video
    pixels = row.geometry.width_px * row.geometry.height_px if row.geometry else 0
    read = video.width_px * video.height_px // 4 if video else 0
    return row.span.length * (pixels + read + 1)


def _memory_of(rows: Sequence[Row], threads: Mapping[int, int]) -> int:
    """About how much memory a worker takes for a shot."""
    total = _OF_A_WORKER
    video = rows[0].shot.footage.source.video
    if video and not all(row.is_copied for row in rows):
        depth = 2 if video.bit_depth > 8 else 1
        held = _HELD_BY_DECODER + threads.get(rows[0].number, 1)
        total += video.width_px * video.height_px * 2 * depth * held
    for row in rows:
        if row.geometry and row.preset.video and not row.is_copied:
            held = _HELD.get(row.preset.video.codec, _HELD_BY_OTHERS) + threads.get(row.number, 1)
            deep = 2 if _DEEP.search(row.preset.video.written_format) else 1
            total += row.geometry.width_px * row.geometry.height_px * 2 * deep * held
    return total
