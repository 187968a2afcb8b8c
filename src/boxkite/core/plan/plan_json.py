"""A plan as plain values, the same words as in the table."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

from boxkite.core.notices.notice import notice_as_json
from boxkite.core.plan.rows import Plan, Row
from boxkite.core.shots.shot import EditPlace, LeftOut


def row_as_json(row: Row, of_shot: dict[str, Any] | None = None) -> dict[str, Any]:
    """A row as plain values, the same words as in the table. of_shot: what shot_as_json gives, if it is known."""
    return {
        "number": row.number,
        "name": row.name,
        "path": row.place,
        "how": row.how,
        **({"encoded_frames": row.splice.encoded, "copied_frames": row.splice.body} if row.splice else {}),
        **({"chunks": len(row.chunks)} if row.chunks else {}),
        "action": row.action.value,
        **({"replaces": {"made_by_a_batch": row.replaces.is_ours}} if row.replaces else {}),
        **({"change": row.change} if row.change else {}),
        "preset": row.preset.name,
        **(of_shot or shot_as_json(row)),
        "frames": row.frames,
        "size": row.size,
        "look": list(map(str, row.look)),
        "expected_bytes": row.expected_bytes,
        "expected_between": list(row.bytes_between),
        "warnings": list(map(notice_as_json, row.warnings)),
    }


def shot_as_json(row: Row) -> dict[str, Any]:
    """The values that all rows of one shot and span share."""
    shot, span = row.shot, row.span
    return {
        "source": str(shot.footage.source.path),
        "by": shot.way,
        "marker": shot.marker,
        "clip": shot.clip_name,
        "keywords": list(shot.keywords),
        "circled": shot.circled,
        "origin": shot.origin,
        **_place_as_json(shot.edited),
        "in": str(row.in_timecode),
        "out": str(row.out_timecode),
        "in_frame": span.start,
        "out_frame": span.end,
        "source_frames": span.length,
        "handle_in": shot.handle_in,
        "handle_out": shot.handle_out,
        "rate": str(shot.footage.frame_index.rate),
        "differences": [kind.value for kind in shot.differences],
    }


def _rows_as_json(rows: Sequence[Row]) -> Iterator[dict[str, Any]]:
    """All rows; what those of one shot share is worked out once."""
    shot, span, common = None, None, None
    for row in rows:
        if row.shot is not shot or row.span != span:
            shot, span, common = row.shot, row.span, shot_as_json(row)
        yield row_as_json(row, common)


def _place_as_json(place: EditPlace | None) -> dict[str, Any]:
    if place is None:
        return {}
    return {
        "timeline": place.timeline,
        "track": place.track,
        "event": place.event,
        "record_in": str(place.record_in),
        "record_out": str(place.start + place.record.end),
        "record_in_frame": place.record.start,
        "record_out_frame": place.record.end,
    }


def left_out_as_json(left_out: Sequence[LeftOut]) -> list[dict[str, Any]]:
    """The shots that were left out, as plain values."""
    return [
        {"name": one.name, "origin": one.origin, "reason": notice_as_json(one.reason)} for one in left_out
    ]


def plan_as_json(plan: Plan) -> dict[str, Any]:
    """The whole plan as plain values."""
    return {
        "pattern": plan.pattern,
        "version": plan.version,
        "rows": list(_rows_as_json(plan.rows)),
        "notices": list(map(notice_as_json, plan.notices)),
        "left_out": left_out_as_json(plan.left_out),
        "unseen": [{"path": str(one.path), "reason": one.reason} for one in plan.unseen],
        "gone": [{"name": one.name, "path": str(one.path)} for one in plan.gone],
        "uncovered": [
            {
                "source": str(footage.source.path),
                "in": str(footage.timecode(span.start)),
                "out": str(footage.timecode(span.end)),
                "in_frame": span.start,
                "out_frame": span.end,
                "frames": span.length,
            }
            for footage, span in plan.uncovered
        ],
        "volumes": [
            {"folder": str(v.folder), "needed_bytes": v.needed_bytes, "free_bytes": v.free_bytes}
            for v in plan.volumes
        ],
    }
