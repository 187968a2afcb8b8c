"""Writing an edit that points at other media, and an edit of nothing but the shots."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from pathlib import Path

from boxkite.core.edit.edl.writing import edl_bytes
from boxkite.core.edit.otio.relinking import relinked_bytes
from boxkite.core.edit.timeline import Clip, ClipKind, Edit, MediaName, Timeline, Track, TrackKind
from boxkite.core.errors import RequestError
from boxkite.core.handover.described import Described
from boxkite.core.handover.relinking.matching import Relinked
from boxkite.core.handover.relinking.targets import Target
from boxkite.core.notices.handover import RELINK_LOST
from boxkite.core.notices.notice import Notice
from boxkite.core.timebase import Span, Timecode, round_fraction

WRITTEN = (".otio", ".edl", ".xml", ".fcpxml")


def edit_bytes(relinked: Relinked, into: Path, tracks: Sequence[str] = ()) -> bytes:
    """The edit as a file of the form its name says. Raises RequestError, MarksError."""
    suffix = into.suffix.lower()
    if suffix != ".edl":
        return relinked_bytes(relinked.edit, relinked.timelines, relinked.pointings, suffix, tracks)
    if len(relinked.timelines) > 1:
        names = ", ".join(timeline.name for timeline in relinked.timelines)
        raise RequestError(
            f"an edit decision list holds one timeline; here are {names}", path=into, hint="write .otio"
        )
    return edl_bytes(relinked.timelines[0], into)


def require_written_form(into: Path) -> None:
    """Raises RequestError for a form that no edit is written in."""
    if into.suffix.lower() not in WRITTEN:
        raise RequestError(f"an edit is written as {', '.join(WRITTEN[:-1])} or {WRITTEN[-1]}", path=into)


def lost_in(relinked: Relinked, into: Path) -> list[Notice]:
    """What the form does not hold."""
    suffix = into.suffix.lower()
    clips = [clip for timeline in relinked.timelines for track in timeline.tracks for clip in track.clips]
    if suffix in (".xml", ".fcpxml") and any(clip.kind in (ClipKind.TITLE, ClipKind.BLACK) for clip in clips):
        return [RELINK_LOST(form=suffix, what=["titles and black, which become gaps"])]
    if suffix != ".edl":
        return []
    found = {
        "markers on clips": any(clip.markers for clip in clips),
        "keywords, notes and circles": any(clip.keywords or clip.note or clip.circled for clip in clips),
        "effects": any(clip.effects for clip in clips),
        "disabled clips": any(not clip.enabled for clip in clips),
    }
    lost = [what for what, is_there in found.items() if is_there]
    return [RELINK_LOST(form=suffix, what=lost)] if lost else []


def shots_edit(name: str, targets: Sequence[Target], described: Mapping[Path, Described]) -> Edit:
    """A timeline of the files one after the other, in their order, each without its handles."""
    rate = Counter(one.rate for one in targets).most_common(1)[0][0]
    picture, audio, reached = [], [], 0
    for one in targets:
        length = one.span.length - one.handle_in - one.handle_out
        frames = max(1, round_fraction(length * rate.fraction / one.rate.fraction))
        record = Span(reached, reached + frames)
        reached += frames
        shot = described[one.path].shot
        path = one.first_image or one.path
        first = one.start.frame
        media = MediaName(path.name, str(path), one.source.source.reel, first, one.rate, one.span.length)
        clip = Clip(
            shot.marker or shot.clip_name, ClipKind.MEDIA, record, media, first + one.handle_in, one.rate,
            source_drop=one.start.drop, keywords=shot.keywords, note=shot.note, circled=shot.circled,
        )  # fmt: skip
        picture.append(clip)
        if one.has_audio and one.source.source.audio:
            audio.append(clip)
    tracks = [Track(TrackKind.PICTURE, "V1", tuple(picture))]
    tracks += [Track(TrackKind.AUDIO, "A1", tuple(audio))] if audio else []
    start = Timecode(rate.nominal * 3600, rate)
    return Edit(Path(name), "shots", (Timeline(name, rate, start, tuple(tracks)),))
