"""An edit made ready to be rendered: which picture lies on each track when, and which audio."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from fractions import Fraction

from msgspec import Struct

from boxkite.core.edit.timeline import Clip, ClipKind, Timeline, Transition
from boxkite.core.footage.source import AudioInfo
from boxkite.core.looks.look import Look
from boxkite.core.notices.edit import (
    AUDIO_EFFECTS_NOT_RENDERED,
    EFFECTS_NOT_RENDERED,
    NO_AUDIO_FOR_TRACK,
    RENDERED_AS_DISSOLVE,
    SPED_AUDIO_LEFT_OUT,
    TITLES_NOT_RENDERED,
)
from boxkite.core.notices.notice import Notice
from boxkite.core.notices.shots import TITLE
from boxkite.core.shots.conforming import source_frames_of
from boxkite.core.shots.edit_clips import PlacedClip, flattened
from boxkite.core.shots.shot import AudioLayer, Composition, IndexedSource, Layer, LeftOut
from boxkite.core.timebase import Span

AUDIO = AudioInfo(0, "mixed", 48_000, 2, "stereo")
"""The track that all audio tracks of an edit are mixed to."""
_DISSOLVES = ("dissolve", "cross dissolve", "smpte_dissolve", "fade")


class TrackChoice(Struct, frozen=True):
    """The tracks of an edit to be rendered, by name, case ignored; all if none is named."""

    tracks: tuple[str, ...] = ()

    def takes(self, track: str) -> bool:
        """Whether a track is wanted."""
        return not self.tracks or track.casefold() in {name.casefold() for name in self.tracks}


def compose(
    timeline: Timeline,
    origin: str,
    footage_of_clip: Callable[[Clip], IndexedSource],
    look_of_clip: Callable[[Clip, IndexedSource], Look],
    wished: TrackChoice,
) -> tuple[Composition, list[Notice]]:
    """The layers of a timeline, nested ones opened, and what of it cannot be rendered.

    Frames hide those on tracks below; audio are added up. Times of layers are frames of the timeline.
    """
    notices: list[Notice] = []
    left: list[LeftOut] = []
    by_layer: dict[tuple[int, ...], list[PlacedClip]] = {}
    for flat in flattened(timeline, left, origin):
        if wished.takes(flat.track):
            by_layer.setdefault(flat.layer, []).append(flat)
    titles = dict.fromkeys(one.name for one in left if one.reason.is_a(TITLE))
    if titles:
        notices.append(TITLES_NOT_RENDERED(names=list(titles)))
    tracks = []
    for _, flats in sorted(by_layer.items()):
        flats.sort(key=lambda one: one.record.start)
        layers = [_layer(timeline, one, flats, footage_of_clip, look_of_clip, notices) for one in flats]
        tracks.append(tuple(layers))
    audio_layers = _audio_layers(timeline, footage_of_clip, wished, notices)
    return Composition(tuple(tracks), tuple(audio_layers)), list(dict.fromkeys(notices))


def _layer(
    timeline: Timeline,
    flat: PlacedClip,
    on_track: Sequence[PlacedClip],
    footage_of_clip: Callable[[Clip], IndexedSource],
    look_of_clip: Callable[[Clip, IndexedSource], Look],
    notices: list[Notice],
) -> Layer:
    clip = flat.clip
    if flat.effects:
        names = list(dict.fromkeys(flat.effects))
        notices.append(EFFECTS_NOT_RENDERED(names=names, clip=clip.name))
    place = on_track.index(flat)
    is_followed = place + 1 < len(on_track) and on_track[place + 1].record.start == flat.record.end
    fade_in = _fade(clip.transition_in, notices)
    fade_out = (0, 0) if is_followed else _fade(clip.transition_out, notices)
    tail = _fade(on_track[place + 1].clip.transition_in, []) if is_followed else (0, 0)
    if clip.kind is ClipKind.BLACK:
        return Layer(flat.record, None, Fraction(0), Fraction(0), fade_in, fade_out, tail[1])
    footage = footage_of_clip(clip)
    first, step = source_frames_of(timeline, clip, footage, flat.record, flat.head, flat.speed)
    return Layer(
        flat.record, footage, first, step, fade_in, fade_out, tail[1], look_of_clip(clip, footage)
    )  # fmt: skip


def longest_hold(layer: Layer) -> int:
    """Frames of the timeline for which a layer shows one and the same frame, or black."""
    if layer.footage is None or not layer.step:
        return layer.record.length
    count, last = layer.footage.frame_index.frame_count, layer.first + (layer.record.length - 1) * layer.step
    begins, ends = min(layer.first, last), max(layer.first, last)
    beyond = max(Fraction(0), -begins) + max(Fraction(0), ends - (count - 1))
    return int(beyond / abs(layer.step))


def _fade(transition: Transition | None, notices: list[Notice]) -> tuple[int, int]:
    """Frames before and after a cut over which two frames are mixed."""
    if transition is None or not transition.length:
        return 0, 0
    if transition.kind.casefold() not in _DISSOLVES:
        notices.append(RENDERED_AS_DISSOLVE(transition=transition.kind))
    return transition.before, transition.after


def _audio_layers(
    timeline: Timeline,
    footage_of_clip: Callable[[Clip], IndexedSource],
    wished: TrackChoice,
    notices: list[Notice],
) -> list[AudioLayer]:
    found = []
    for track in timeline.audio_tracks:
        if not (track.enabled and wished.takes(track.name)):
            continue
        for clip in track.clips:
            if not clip.enabled or clip.kind is not ClipKind.MEDIA:
                continue
            if clip.speed != 1:
                notices.append(SPED_AUDIO_LEFT_OUT(clip=clip.name, track=track.name))
                continue
            if clip.effects:
                names = list(dict.fromkeys(clip.effects))
                notices.append(AUDIO_EFFECTS_NOT_RENDERED(names=names, clip=clip.name))
            footage = footage_of_clip(clip)
            if not footage.audio_source.audio:
                notices.append(NO_AUDIO_FOR_TRACK(source=footage.source.label, track=track.name))
                continue
            first, step = source_frames_of(timeline, clip, footage, clip.record, Fraction(0), Fraction(1))
            start = int(first)
            frames = -(-clip.record.length * step.numerator // step.denominator)
            found.append(AudioLayer(clip.record, footage, Span(start, start + frames)))
    return found
