"""Better sizes for a plan: short probes of its shots are really encoded, and thrown away."""

from __future__ import annotations

import tempfile
from collections.abc import Callable, Iterator, Sequence
from fractions import Fraction
from pathlib import Path

import av
from msgspec import Struct
from msgspec.structs import replace

from boxkite.core.batch.events import FileEnded
from boxkite.core.batch.executors.local import LocalExecutor
from boxkite.core.batch.running import run_plan
from boxkite.core.notices.files import NO_PROBE
from boxkite.core.plan.rows import Action, Plan, Row
from boxkite.core.plan.totals import by_output
from boxkite.core.timebase import Span

_PROBES, _FEWEST_PROBES = 16, 4
_USUAL_GOP_SECONDS = Fraction(2)
_BITRATE_SECONDS = Fraction(3)
_FRAMES_WITHOUT_GOP = 3
_SPREAD, _SPREAD_OF_BITRATE, _SPREAD_OF_WHOLE = (0.65, 1.35), (0.85, 1.15), (0.97, 1.03)

Progress = Callable[[int, int], None]


class _Measured(Struct, frozen=True):
    """The sizes of the probes of one output: bytes of packets per frame, and the rest of a file."""

    bytes_per_frame: float
    beside: float
    frames: int


def sample_sizes(plan: Plan, executor: LocalExecutor, progress: Progress = lambda done, total: None) -> Plan:
    """The plan with sizes estimated from probes. progress gets the number of probes done.

    Probes lie evenly over all frames of an output; each runs from keyframe to keyframe, or for
    a few frames in codecs without keyframes. What cannot be probed keeps its size and says so.
    """
    outputs = by_output(plan.to_make)
    sizes: dict[int, tuple[int, tuple[float, float]]] = {}
    failed = []
    with tempfile.TemporaryDirectory(prefix="boxkite-") as folder:
        probes = {
            key: list(_probes(rows, Path(folder) / str(place)))
            for place, (key, rows) in enumerate(outputs.items())
        }
        numbered: list[Row] = []
        owner = {}
        for key, rows in probes.items():
            for row in rows:
                owner[len(numbered) + 1] = key
                numbered.append(replace(row, number=len(numbered) + 1))
        taken = _encoded(replace(plan, rows=tuple(numbered)), executor, progress)
        for key, rows in outputs.items():
            own = [(row, path) for row, path in taken if owner[row.number] == key]
            if not own:
                if not rows[0].preset.copy:
                    failed.append(NO_PROBE().of(key[0]))
                continue
            measured = _measure(own)
            for row in rows:
                sizes[row.number] = _expected(row, measured, sum(one.span.length for one in rows))
    planned = tuple(
        replace(row, expected_bytes=sizes[row.number][0], spread=sizes[row.number][1])
        if row.number in sizes
        else row
        for row in plan.rows
    )
    return replace(plan, rows=planned, notices=(*plan.notices, *failed))


def _probes(rows: Sequence[Row], folder: Path) -> Iterator[Row]:
    """Rows for short spans, evenly over the frames of all rows; none for copies, whose size is known."""
    if rows[0].preset.copy:
        return
    ends, total = [], 0
    for row in rows:
        total += row.span.length
        ends.append(total)
    last_end: dict[int, int] = {}
    place = 0
    # no more than half of all frames, where that leaves some probes at all
    count = max(_FEWEST_PROBES, min(_PROBES, total // (2 * max(map(_probe_frames, rows)))))
    for number in range(count):
        wanted = total * (2 * number + 1) // (2 * count)
        while ends[place] <= wanted:
            place += 1
        row = rows[place]
        length = min(_probe_frames(row), row.span.length)
        inside = wanted - (ends[place] - row.span.length)
        start = min(max(0, inside - length // 2), row.span.length - length) + row.span.start
        start = max(start, last_end.get(place, 0))
        span = Span(start, min(start + length, row.span.end))
        if span.length < 1:
            continue
        last_end[place] = span.end
        shot = replace(row.shot, span=span)
        yield replace(row, shot=shot, folder=folder, name=f"probe{number}", action=Action.MAKE, chunks=())


def _probe_frames(row: Row) -> int:
    video, rate = row.preset.video, row.shot.footage.frame_index.rate.fraction
    if video is None:
        return max(1, round(rate))
    if video.bitrate_mbps:
        return max(1, round(_BITRATE_SECONDS * rate))
    if video.codec in ("h264", "hevc", "av1", "vp9"):
        seconds = Fraction(str(video.keyframe_seconds)) if video.keyframe_seconds else _USUAL_GOP_SECONDS
        return max(1, round(min(seconds, _USUAL_GOP_SECONDS) * rate))
    return _FRAMES_WITHOUT_GOP


def _encoded(plan: Plan, executor: LocalExecutor, progress: Progress) -> list[tuple[Row, Path]]:
    """The probes that could be made, each with its file."""
    made = []
    for done, event in enumerate(
        (event for event in run_plan(plan.to_make, executor) if isinstance(event, FileEnded)), start=1
    ):
        progress(done, len(plan.rows))
        if event.result.verification:
            made.append((event.row, event.row.path))
    return made


def _measure(made: Sequence[tuple[Row, Path]]) -> _Measured:
    packets, whole, frames = 0, 0, 0
    for row, path in made:
        frames += row.span.length
        if path.is_dir():
            size = sum(image.stat().st_size for image in path.iterdir())
            packets, whole = packets + size, whole + size
            continue
        whole += path.stat().st_size
        with av.open(f"file:{path}", options={"protocol_whitelist": "file"}) as container:
            packets += sum(packet.size for packet in container.demux() if packet.size)
    return _Measured(packets / frames, (whole - packets) / len(made), frames)


def _expected(row: Row, measured: _Measured, frames_of_output: int) -> tuple[int, tuple[float, float]]:
    video = row.preset.video
    size = measured.bytes_per_frame * row.span.length + measured.beside
    if measured.frames >= frames_of_output:
        return round(size), _SPREAD_OF_WHOLE
    if video and video.bitrate_mbps:
        return round(min(size, row.expected_bytes * 1.02)), _SPREAD_OF_BITRATE
    if video is None or video.codec in ("dnxhr", "dpx"):
        return round(size), _SPREAD_OF_WHOLE
    return round(size), _SPREAD
