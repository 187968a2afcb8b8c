"""A shot, and all that one way of cutting brought to light."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from enum import StrEnum
from fractions import Fraction

from msgspec import Struct, field

from boxkite.core.footage.frame_index import FrameIndex
from boxkite.core.footage.source import Source
from boxkite.core.looks.look import Look
from boxkite.core.notices.edit import (
    EFFECTS_NOT_MADE,
    FREEZE,
    HIDDEN_IN_EDIT,
    OWN_RATE,
    OWN_SPEED,
    TITLES_NOT_MADE,
    TRANSITION_NOT_MADE,
)
from boxkite.core.notices.notice import Notice
from boxkite.core.notices.shots import OVERLAP, SHORT
from boxkite.core.timebase import Span, Timecode


class ProductionSound(Struct, frozen=True):
    """Audio that takes the place of a source's own: a file of a sound recorder."""

    source: Source
    begins: Fraction
    """Seconds of that file at which frame 0 of the picture's source begins; below 0 where it starts later."""


class IndexedSource(Struct, frozen=True):
    """A source ready to be cut: its frame map, and the timecode of its first frame."""

    source: Source
    frame_index: FrameIndex
    start: Timecode
    has_timecode: bool
    """Whether that timecode was found or given, rather than taken as zero."""
    sound: ProductionSound | None = None
    """Where its audio comes from; None for its own."""
    composition: Composition | None = None
    """The layers an edit is rendered from."""

    @property
    def audio_source(self) -> Source:
        """The source that its audio comes from."""
        return self.sound.source if self.sound else self.source

    @property
    def sources(self) -> tuple[Source, ...]:
        """Every source that is read for it: its own, its audio's, those of the clips it is put together from."""
        if self.composition is None:
            return (self.source, self.sound.source) if self.sound else (self.source,)
        layers = [layer.footage for track in self.composition.tracks for layer in track if layer.footage]
        footages = {
            id(footage): footage for footage in (*layers, *(one.footage for one in self.composition.audio))
        }
        return tuple({id(one): one for footage in footages.values() for one in footage.sources}.values())

    def timecode(self, frame: int) -> Timecode:
        """The timecode of one of its frames."""
        return self.start + frame


class Layer(Struct, frozen=True):
    """A clip on a track of an edit."""

    record: Span
    """Frames of the timeline."""
    footage: IndexedSource | None
    first: Fraction
    """The source's frame that its first frame shows."""
    step: Fraction
    """Source frames for each frame after it, below 0 backwards, 0 a frozen frame."""
    fade_in: tuple[int, int] = (0, 0)
    fade_out: tuple[int, int] = (0, 0)
    """Frames before and after its start and its end over which it is mixed with what is there else."""
    tail: int = 0
    """Frames after its end in which the next clip is still mixed with it."""
    look: Look = ()

    @property
    def seen(self) -> Span:
        """The frames of the timeline in which it shows, mixed or not."""
        return Span(self.record.start - self.fade_in[0], self.record.end + max(self.tail, self.fade_out[1]))

    def frame_at(self, frame: int) -> int:
        """The source's frame it shows at a frame of the timeline, the nearest there is beyond its media's ends."""
        assert self.footage
        wanted = self.first + (frame - self.record.start) * self.step
        return min(max(0, wanted.numerator // wanted.denominator), self.footage.frame_index.frame_count - 1)


class AudioLayer(Struct, frozen=True):
    """The audio of a clip on a track of an edit."""

    record: Span
    """Frames of the timeline."""
    footage: IndexedSource
    span: Span
    """Of its source."""


class Composition(Struct, frozen=True):
    """The picture and audio of an edit: tracks of layers from the bottom up, each in order of time; audio."""

    tracks: tuple[tuple[Layer, ...], ...]
    audio: tuple[AudioLayer, ...]


class EditPlace(Struct, frozen=True):
    """Where a shot lies in an edit: record counts frames of the timeline, whose first has the timecode `start`."""

    timeline: str
    track: str
    event: str
    record: Span
    start: Timecode

    @property
    def record_in(self) -> Timecode:
        """Timecode of its first frame on the timeline."""
        return self.start + self.record.start


class EditDifference(StrEnum):
    """A difference between a shot and its edit, or from what is usual; counted in a plan's summary."""

    EFFECTS = "with effects"
    TITLES = "with titles above"
    TRANSITION = "with transitions"
    SPEED = "with another speed"
    HIDDEN = "hidden by a clip above"
    RATE = "with another rate"
    OVERLAP = "overlapping"
    SHORT = "shorter than a second"


DIFFERENCE_OF = {
    kind.name: difference
    for kind, difference in (
        (EFFECTS_NOT_MADE, EditDifference.EFFECTS),
        (TITLES_NOT_MADE, EditDifference.TITLES),
        (TRANSITION_NOT_MADE, EditDifference.TRANSITION),
        (OWN_SPEED, EditDifference.SPEED),
        (FREEZE, EditDifference.SPEED),
        (HIDDEN_IN_EDIT, EditDifference.HIDDEN),
        (OWN_RATE, EditDifference.RATE),
        (OVERLAP, EditDifference.OVERLAP),
        (SHORT, EditDifference.SHORT),
    )
}
"""The difference that a kind of warning tells of, by the kind's name."""
DIFFERENT_FROM_EDIT = tuple(EditDifference)[:6]
"""Those that an edit shows otherwise."""


class Shot(Struct, frozen=True):
    """A span of one source to hand over."""

    footage: IndexedSource
    span: Span
    marker: str = ""
    keywords: tuple[str, ...] = ()
    note: str = ""
    colour: str = ""
    circled: bool = False
    metadata: Mapping[str, str] = field(default_factory=dict)
    origin: str = ""
    """Where it was asked for, as "mill.edl:12"."""
    warnings: tuple[Notice, ...] = ()
    way: str = ""
    """How it was cut, one of the ways to cut."""
    clip: str = ""
    """Its name in the edit, where it comes from one."""
    edited: EditPlace | None = None
    handle_in: int = 0
    handle_out: int = 0
    """Frames of the span that lie before and after what was asked for."""
    problem: str = ""
    """Why it cannot be made, as missing media; such a shot never reaches a plan's rows."""

    @property
    def differences(self) -> tuple[EditDifference, ...]:
        """How it differs from the edit or from what is usual, by its warnings."""
        found = [DIFFERENCE_OF[one.kind] for one in self.warnings if one.kind in DIFFERENCE_OF]
        return tuple(dict.fromkeys(found))

    @property
    def sound(self) -> ProductionSound | None:
        """Where its audio comes from, None for its own source."""
        return self.footage.sound

    @property
    def clip_name(self) -> str:
        """Its name in the edit, else that of its source."""
        return self.clip or self.footage.source.clip_name


class LeftOut(Struct, frozen=True):
    """Something that could have become a shot and did not."""

    name: str
    origin: str
    """Where it stands, as "day.otio, track V2"."""
    reason: Notice


class Cut(Struct, frozen=True):
    """The shots in the order of their sources and times, notices, and the frames that no shot covers."""

    shots: tuple[Shot, ...]
    notices: tuple[Notice, ...] = ()
    uncovered: tuple[tuple[IndexedSource, Span], ...] = ()
    left_out: tuple[LeftOut, ...] = ()


def joined_cuts(cuts: Iterable[Cut]) -> Cut:
    """Several cuts as one, in their order."""
    listed = list(cuts)
    return Cut(
        tuple(shot for cut in listed for shot in cut.shots),
        tuple(notice for cut in listed for notice in cut.notices),
        tuple(gap for cut in listed for gap in cut.uncovered),
        tuple(left for cut in listed for left in cut.left_out),
    )
