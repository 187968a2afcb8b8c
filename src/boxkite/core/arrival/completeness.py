"""Whether a file is complete: nobody writes to it, and it can be read up to its very end."""

from __future__ import annotations

import os
import sys
from collections.abc import Iterable
from fractions import Fraction
from pathlib import Path

from boxkite.core.arrival.arrivals import Arrival
from boxkite.core.errors import BoxkiteError
from boxkite.core.footage.decoding import read_frames
from boxkite.core.footage.find import find_sources
from boxkite.core.footage.frame_index import measure_frames
from boxkite.core.footage.opening import open_source
from boxkite.core.footage.source import ImageSettings, Source
from boxkite.core.notices.footage import BREAKS_OFF, HEADER_LONGER
from boxkite.core.timebase import Span

_INDEXED = ("mov",)
_UNCERTAIN_SECONDS = Fraction(1, 5)
"""How far headers are off anyway: a frame or two, a packet of audio."""


def open_elsewhere(files: Iterable[Path]) -> Path | None:
    """The first of some files that another process has open, where the system tells (Linux, own processes)."""
    if sys.platform != "linux":
        return None
    wanted = {str(file.resolve()) for file in files}
    for process in Path("/proc").iterdir():
        if not process.name.isdigit() or int(process.name) == os.getpid():
            continue
        try:
            for descriptor in (process / "fd").iterdir():
                target = str(descriptor.readlink())
                if target in wanted and _is_written(process, descriptor.name):
                    return Path(target)
        except OSError:  # it has ended, or is another user's
            continue
    return None


def _is_written(process: Path, descriptor: str) -> bool:
    """Whether a process has a file open for writing: players and thumbnailers only read."""
    for line in (process / "fdinfo" / descriptor).read_text().splitlines():
        if line.startswith("flags:"):
            return int(line.split()[1], 8) & os.O_ACCMODE != os.O_RDONLY
    return False


def why_incomplete(arrival: Arrival, images: ImageSettings | None = None) -> str:
    """Why an arrival is not complete, or cannot be a source at all; empty where it is complete."""
    found = find_sources(arrival.files, images)
    if found.unreadable:
        bad = found.unreadable[0]
        return f"{bad.reason}" + (f" ({bad.hint})" if bad.hint else "")
    try:
        for source in found.sources:
            if out_of_space := _why_cut_off(source):
                return out_of_space
    except BoxkiteError as error:
        return error.text
    except (OSError, ValueError) as error:
        return str(error)
    return ""


def _why_cut_off(source: Source) -> str:
    if source.video:
        table = measure_frames(source)
        for warning in table.warnings:
            if warning.is_a(BREAKS_OFF, HEADER_LONGER):
                return str(warning)
        last = table.frame_count - 1
        for _ in read_frames(source, table, Span(last, last + 1), threads=1):
            pass
    return "" if source.sequence or source.container in _INDEXED else _ends_early(source)


def _ends_early(source: Source) -> str:
    """Of a container without an index of all its packets: they last as long as its header says."""
    start, end = None, Fraction(0)
    with open_source(source) as container:
        for packet in container.demux():
            if packet.size and packet.pts is not None and packet.time_base:
                begins = packet.pts * packet.time_base
                start = begins if start is None else min(start, begins)
                end = max(end, begins + (packet.duration or 0) * packet.time_base)
    lasts = end - (start or 0)
    if source.duration - lasts > _UNCERTAIN_SECONDS:
        return f"its header says {float(source.duration):.1f} s, what can be read ends after {float(lasts):.1f} s"
    return ""
