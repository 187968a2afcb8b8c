"""The totals of a plan: files, length, size, time, and differences from the edit."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from fractions import Fraction
from pathlib import Path
from typing import Any

from msgspec import Struct

from boxkite.core.errors import RecordsError
from boxkite.core.plan.rows import Plan, Row, rows_by_folder
from boxkite.core.records.store import Records
from boxkite.core.shots.shot import DIFFERENT_FROM_EDIT, EditDifference


class ExpectedTime(Struct, frozen=True):
    """How long a plan takes on so many workers, by so many files that this machine made before."""

    seconds: float
    workers: int
    files: int


class Totals(Struct, frozen=True):
    """The totals of the rows to be made."""

    files: int
    shots: int
    seconds: Fraction
    """Of footage."""
    expected_bytes: int
    bytes_between: tuple[int, int]
    """The least and the most expected."""
    spliced: tuple[int, int, int]
    """Files that are cut exactly without encoding all of them; their frames that are encoded, and copied."""
    chunked: tuple[int, int]
    """Files that are encoded in chunks, and how many of these."""
    sources: int
    source_bytes: int
    """The size of the files they are made from."""
    differences: Mapping[EditDifference, int]

    @property
    def different_from_edit(self) -> dict[EditDifference, int]:
        """Those kinds that an edit shows otherwise."""
        return {kind: count for kind, count in self.differences.items() if kind in DIFFERENT_FROM_EDIT}


def expected_sizes(rows: Sequence[Row]) -> tuple[int, tuple[int, int]]:
    """How many bytes rows are expected to take together, and the least and the most."""
    by_spread: dict[tuple[float, float], int] = {}
    for row in rows:
        by_spread[row.spread] = by_spread.get(row.spread, 0) + row.expected_bytes
    least = sum(round(size * low) for (low, _), size in by_spread.items())
    most = sum(round(size * high) for (_, high), size in by_spread.items())
    return sum(by_spread.values()), (least, most)


def add_up(rows: Sequence[Row]) -> Totals:
    """Add up the rows that are to be made."""
    shots = {id(row.shot): row.shot for row in rows}
    expected_bytes, bytes_between = expected_sizes(rows)
    spliced = [row.splice for row in rows if row.splice]
    chunked = [row.chunks for row in rows if row.chunks]
    footages = {id(shot.footage): shot.footage for shot in shots.values()}
    sources = {footage.source.path: footage.source for footage in footages.values()}
    differences: dict[EditDifference, int] = {}
    frames = dict.fromkeys(footages, 0)
    for shot in shots.values():
        frames[id(shot.footage)] += shot.span.length
        for kind in shot.differences:
            differences[kind] = differences.get(kind, 0) + 1
    seconds = [footages[one].frame_index.rate.seconds(many) for one, many in frames.items()]
    return Totals(
        files=len(rows),
        shots=len(shots),
        seconds=sum(seconds, Fraction(0)),
        expected_bytes=expected_bytes,
        bytes_between=bytes_between,
        spliced=(len(spliced), sum(one.encoded for one in spliced), sum(one.body for one in spliced)),
        chunked=(len(chunked), sum(map(len, chunked))),
        sources=len(sources),
        source_bytes=sum(source.size_bytes for source in sources.values()),
        differences=dict(sorted(differences.items(), key=lambda one: list(EditDifference).index(one[0]))),
    )


def expected_time(plan: Plan, workers: int) -> ExpectedTime | None:
    """How long the plan will take, by what this machine made with its presets before; None where it made nothing.

    Copies are taken to cost nothing beside encoding.
    """
    if not Records.are_kept():
        return None
    rows = plan.to_make
    presets = {row.preset.name for row in rows}
    try:
        with Records() as records:
            known = records.seconds_per_pixel(presets)
    except RecordsError:
        return None
    pixels: dict[str, int] = {}
    for row in rows:
        name, geometry = row.preset.name, row.geometry
        if geometry and not (row.preset.copy or row.splice):
            many = geometry.width_px * geometry.height_px * row.span.length
            pixels[name] = pixels.get(name, 0) + many
    if not pixels.keys() <= known.keys():
        return None
    seconds = sum(known[name][0] * many for name, many in pixels.items())
    files = sum(count for _, count in known.values())
    most = {id(row.shot): len(row.chunks) or 1 for row in rows}
    side_by_side = min(workers, sum(most.values()) or 1)
    return ExpectedTime(seconds / side_by_side, side_by_side, files) if files else None


def totals_as_json(plan: Plan, time: ExpectedTime | None) -> dict[str, Any]:
    """The totals as plain values."""
    totals = add_up(plan.to_make)
    return {
        "files": totals.files,
        "shots": totals.shots,
        "seconds": float(totals.seconds),
        "spliced": dict(zip(("files", "encoded_frames", "copied_frames"), totals.spliced, strict=True)),
        "chunked": dict(zip(("files", "chunks"), totals.chunked, strict=True)),
        "expected_bytes": totals.expected_bytes,
        "expected_between": list(totals.bytes_between),
        "sources": totals.sources,
        "source_bytes": totals.source_bytes,
        "differences": {kind.value: count for kind, count in totals.differences.items()},
        "expected_seconds": round(time.seconds, 1) if time else None,
    }


def by_output(rows: Sequence[Row]) -> dict[tuple[str, Path], list[Row]]:
    """The rows of each output: by preset and folder, in the order of the plan."""
    by_preset: dict[str, list[Row]] = {}
    for row in rows:
        by_preset.setdefault(row.preset.name, []).append(row)
    return {
        (preset, folder): members
        for preset, its in by_preset.items()
        for folder, members in rows_by_folder(its).items()
    }
