"""What status prints as JSON."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from collections.abc import Sequence

    from boxkite.core.records.overview import Overview
    from boxkite.core.records.store import Records

AT_WORK = ("started", "ready", "failed")
"""States of the files that are shown where not all are."""


def status_as_json(
    records: Records, found: Sequence[Overview], name: str, *, with_all: bool
) -> dict[str, Any]:
    """All batches, or one with its files. with_all: every file, not only those at work or failed."""
    batches = [_overview_as_json(one) for one in found]
    if not name:
        return {"batches": batches}
    from boxkite.core.notices.notice import notice_as_json

    files = [
        {
            "number": file.number,
            "name": file.path.name,
            "path": str(file.path),
            "source": str(file.source),
            "in_frame": file.in_frame,
            "out_frame": file.out_frame,
            "marker": file.marker,
            "clip": file.clip,
            "preset": file.preset,
            "state": file.state,
            "frames": file.frames,
            "frames_done": file.frames_done,
            "attempts": file.attempts,
            "threads": file.threads,
            "failure": file.failure or None,
            "warnings": list(map(notice_as_json, file.warnings)),
            "started": file.started or None,
            "ended": file.ended or None,
            "seconds": round(file.seconds, 3),
            "size_bytes": file.size_bytes,
            "checksum": file.checksum or None,
        }
        for file in (records.batch(name).files if with_all else records.files_of(name, AT_WORK))
    ]
    from boxkite.core.records.handovers import handovers_of

    handovers = [
        {
            "at": one.at,
            "who": one.who,
            "kind": one.kind,
            "path": str(one.path) if one.path else None,
            "note": one.note,
        }
        for one in handovers_of(records, found[0].name)
    ]
    from boxkite.core.records.steps import steps_of

    after = [
        {"step": one.kind, "state": one.state, "outcome": one.outcome or None, "at": one.at or None}
        for one in steps_of(records, found[0].name)
    ]
    machine = records.batch(found[0].name, with_files=False).machine
    return {**batches[0], "machine": machine, "files": files, "handovers": handovers, "after": after}


def _overview_as_json(one: Overview) -> dict[str, Any]:
    return {
        "batch": one.name,
        "state": one.shown_state,
        "running": one.held,
        "started": one.started.isoformat(),
        "seconds": round(one.seconds, 1),
        "folders": [str(folder) for folder in one.folders],
        "file_count": one.files,
        "verified": one.verified,
        "failed": one.failed,
        "frames": one.frames,
        "frames_done": one.frames_done,
        "frames_a_second": round(one.frames_a_second, 1),
        "size_bytes": one.size_bytes,
        "note": one.note or None,
    }
