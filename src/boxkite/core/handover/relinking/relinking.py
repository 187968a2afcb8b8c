"""An edit that points at the files of a delivery, or back at their sources."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from msgspec import Struct

from boxkite.core.edit.reading import read_edit
from boxkite.core.errors import RequestError
from boxkite.core.handover.delivery import Delivery
from boxkite.core.handover.described import describe
from boxkite.core.handover.relinking.matching import Relinked, Relinker
from boxkite.core.handover.relinking.targets import Target, targets_of
from boxkite.core.handover.relinking.writing import edit_bytes, lost_in, require_written_form, shots_edit
from boxkite.core.handover.written import Existing, free_path
from boxkite.core.notices.handover import RELINK_FINISHED, RELINK_PRESETS
from boxkite.core.notices.notice import Notice
from boxkite.core.timebase import FrameRate


class RelinkedEdit(Struct, frozen=True):
    """An edit to be written."""

    into: Path
    content: bytes
    pointing: int
    """Clips that point at other media than before."""
    at: str
    """What at, as people say it."""
    kept: tuple[Notice, ...]
    """Clips that keep their media, with the reason."""
    notices: tuple[Notice, ...]


def relink(
    edit_path: Path | None,
    delivery: Delivery,
    into: Path,
    *,
    back: bool = False,
    preset: str = "",
    tracks: Sequence[str] = (),
    rate: str | None = None,
    existing: Existing = "stop",
    user: str = "",
) -> RelinkedEdit:
    """Work out an edit anew. Raises RequestError, MarksError, PlanError; nothing is written.

    edit_path: None for one of just the shots. back: from the files to their sources. tracks: names of those that
    stay. rate: of an edit decision list, else that of the files.
    """
    require_written_form(into)
    into = free_path(into, existing)
    described = describe(delivery, user=user)
    targets, presets = targets_of(described.files, preset)
    notices: list[Notice] = []
    if len(presets) > 1 and not preset and not back:
        notices.append(RELINK_PRESETS(presets=list(presets), taken=targets[0].preset))
    if back and not preset:
        targets = [one for name in presets for one in targets_of(described.files, name)[0]]
    if edit_path is None:
        edit = shots_edit(into.stem, targets, {one.file.path: one for one in described.files})
        found = Relinked(edit, edit.timelines, {})
        count = len(edit.timelines[0].tracks[0].clips)
    else:
        edit = read_edit(edit_path, FrameRate.parse(rate) if rate else _rate_of(targets))
        notices += edit.warnings
        _require_tracks(edit_path, tracks, {track.name for one in edit.timelines for track in one.tracks})
        found = Relinker(edit, targets, back=back).relinked(tracks)
        count = len(found.pointings)
        if not count:
            hint = str(found.kept[0]) if found.kept else ""
            raise RequestError(
                "no clip of it could point elsewhere; nothing was written", path=edit_path, hint=hint
            )
    if finished := sum(one.is_finished for one in found.pointings.values()):
        notices.append(RELINK_FINISHED(count=finished))
    notices += lost_in(found, into)
    at = "originals" if back else f"files of {delivery.label}"
    return RelinkedEdit(into, edit_bytes(found, into, tracks), count, at, found.kept, tuple(notices))


def _rate_of(targets: Sequence[Target]) -> FrameRate:
    rates = [one.place.start.rate for one in targets if one.place] or [one.rate for one in targets]
    return max(set(rates), key=rates.count)


def _require_tracks(path: Path, wanted: Sequence[str], known: set[str]) -> None:
    for name in wanted:
        if name not in known:
            raise RequestError(
                f"there is no track {name}", path=path, hint=f"tracks: {', '.join(sorted(known))}"
            )
