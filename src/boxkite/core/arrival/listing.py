"""The sources that arrived in a watched folder, with their state, and those that wait."""

from __future__ import annotations

import re
from collections.abc import Iterable
from pathlib import Path

from msgspec import Struct

from boxkite.core.arrival.arrivals import look_into
from boxkite.core.arrival.watching import watch_key
from boxkite.core.files.walking import Unseen
from boxkite.core.records.arrivals import ArrivalLog, ArrivalRecord
from boxkite.core.records.batch_lock import is_held
from boxkite.core.records.overview import Overview, overviews
from boxkite.core.records.record import FileRecord
from boxkite.core.records.store import Records


class Listed(Struct, frozen=True):
    """One source of a watched folder."""

    path: Path
    state: str
    """Its state, as a phrase."""
    batch: str = ""
    reason: str = ""
    """Why, where that is known."""
    at: str = ""
    """When it was taken or set aside, in ISO 8601; empty for one that waits."""
    files: int = 0
    """Made of it."""
    verified: int = 0
    """Of these."""


class Listing(Struct, frozen=True):
    """A watched folder."""

    folder: Path
    is_watched: bool
    """Whether a process watches it now."""
    sources: tuple[Listed, ...]
    unseen: tuple[Unseen, ...]
    """Folders that could not be entered."""


def list_folder(records: Records, folder: Path) -> Listing:
    """Every source that has landed, with what became of it, then those that wait. Raises RecordsError, OSError."""
    is_watched = is_held(records.folder, watch_key(folder))
    landings = ArrivalLog(records, folder).all()
    names = tuple(dict.fromkeys(one.batch for one in landings.values() if one.batch))
    known = {one.name for one in overviews(records, latest=-1)}
    batches = {one.name: one for name in names if name in known for one in overviews(records, (name,))}
    files = {name: records.batch(name).files for name in batches}
    found = [
        _landed(one, batches.get(one.batch), files.get(one.batch, ()), is_watched)
        for one in landings.values()
    ]
    arrivals, unseen = look_into(folder)
    for arrival in arrivals:
        landing = landings.get(arrival.path)
        if landing is None or landing.stamp != arrival.stamp:
            why = "" if is_watched else "nobody watches this folder now"
            changed = "it has changed since" if landing else ""
            found.append(Listed(arrival.path, "waiting", reason=", ".join(filter(None, (changed, why)))))
    return Listing(folder, is_watched, tuple(found), tuple(unseen))


def _landed(
    one: ArrivalRecord, batch: Overview | None, files: Iterable[FileRecord], is_watched: bool
) -> Listed:
    if one.state != "taken":
        return Listed(one.path, one.state, one.batch, one.reason, one.at)
    if batch is None:
        return Listed(one.path, "taken", one.batch, "its batch is no longer on record", one.at)
    own = [file for file in files if _is_of(file.source, one.path)]
    verified = sum(file.state == "verified" for file in own)
    failed = [file for file in own if file.state == "failed"]
    state, reason = _state(batch, is_watched), ""
    if own and verified == len(own):
        state = "verified"
    elif batch.waits_for == "room":
        reason = failed[0].failure if failed else batch.note
    elif failed and verified + len(failed) == len(own):
        state, reason = "failed", failed[0].failure
    return Listed(one.path, state, one.batch, reason, one.at, len(own), verified)


def _state(batch: Overview, is_watched: bool) -> str:
    if batch.held or batch.waits_for != "room":
        return batch.shown_state
    return "waiting for room" if is_watched else "stopped, no room"


def _is_of(source: Path, landed: Path) -> bool:
    """Whether a source is the one that landed; of numbered images its first one is."""
    if source == landed:
        return True
    if source.parent != landed.parent or "#" not in landed.name:
        return False
    pattern = re.sub(
        "#+", lambda found: rf"\\d{{{len(found[0])},}}", re.escape(landed.name).replace(r"\#", "#")
    )
    return re.fullmatch(pattern, source.name) is not None
