"""One small model of an edit, whatever it was read from: timelines of tracks of clips, all times in whole frames.

Frames of a timeline count from 0 at its first frame, at its own rate. Where a clip lies in its media is kept
as the edit says it, since only the media themselves can tell where their timecode starts.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from enum import StrEnum
from fractions import Fraction
from pathlib import Path

from msgspec import Struct, field

from boxkite.core.notices.notice import Notice
from boxkite.core.timebase import FrameRate, Span, Timecode

NO_REELS = frozenset({"AX", "AUX", "BL", "BLK", "BLACK"})
"""Names in place of a reel, in edit decision lists, for auxiliary sources and for black."""


class ClipKind(StrEnum):
    """The content of a clip. Only MEDIA and TIMELINE lead to camera footage."""

    MEDIA = "media"
    TITLE = "title or generator"
    BLACK = "black"
    TIMELINE = "timeline"


class TrackKind(StrEnum):
    """The content of a track."""

    PICTURE = "picture"
    AUDIO = "audio"


class Transition(Struct, frozen=True):
    """A change from one clip to the next."""

    kind: str
    before: int
    after: int
    """Its frames on either side of the cut between them."""

    @property
    def length(self) -> int:
        """Frames from its first to its last."""
        return self.before + self.after


class ColourDecision(Struct, frozen=True):
    """An ASC CDL: slope, offset and power for red, green and blue, and one saturation."""

    slope: tuple[float, float, float] = (1.0, 1.0, 1.0)
    offset: tuple[float, float, float] = (0.0, 0.0, 0.0)
    power: tuple[float, float, float] = (1.0, 1.0, 1.0)
    saturation: float = 1.0

    @property
    def fault(self) -> str:
        """Which of its values the specification (ASC CDL 1.2) does not allow; empty where all are allowed."""
        if min(self.power) <= 0:
            return "power must be above 0"
        return "slope and saturation cannot be below 0" if min(*self.slope, self.saturation) < 0 else ""


class MediaName(Struct, frozen=True):
    """All that an edit says of the media of a clip."""

    name: str = ""
    """Of clip or file."""
    path: str = ""
    """As written, empty where there is none."""
    reel: str = ""
    """Tape or camera roll."""
    first: int | None = None
    rate: FrameRate | None = None
    frames: int | None = None
    """The first frame of the media in its own counting, at `rate`, and how many there are, where the edit knows it."""

    @property
    def tape(self) -> str:
        """The reel, where it names one: AX and BL stand for whatever is not on a reel."""
        return "" if self.reel.upper() in NO_REELS else self.reel

    @property
    def label(self) -> str:
        """Its name for people."""
        return self.name or Path(self.path).name or self.reel or "media without a name"


class EditMarker(Struct, frozen=True):
    """A marker or range on a timeline or a clip, in frames of the timeline; `end` is None for a point."""

    name: str
    start: int
    end: int | None = None
    colour: str = ""
    note: str = ""
    keywords: tuple[str, ...] = ()
    circled: bool = False


class Clip(Struct, frozen=True):
    """One clip on a track."""

    name: str
    kind: ClipKind
    record: Span
    """Where it lies on its timeline."""
    media: MediaName = MediaName()
    source_start: int = 0
    """Frame of the media that its first frame shows, in the counting the edit uses (timecode as frames since midnight,
    or frames of the file), at `source_rate`."""
    source_rate: FrameRate | None = None
    source_from_zero: bool | None = None
    """True where that is known to count from the first frame of the file, False where it is known to be timecode, None
    where only the media can tell."""
    source_drop: bool = False
    """That it counts drop-frame."""
    source_frames: int | None = None
    """How many frames of the media an edit decision list writes down, whatever the speed says."""
    speed: Fraction = Fraction(1)
    """Frames of media for one frame of the timeline, below 0 backwards, 0 a frozen frame."""
    enabled: bool = True
    event: str = ""
    origin: str = ""
    """Where it stands, as "line 12" or "track V1, item 3"."""
    transition_in: Transition | None = None
    transition_out: Transition | None = None
    effects: tuple[str, ...] = ()
    markers: tuple[EditMarker, ...] = ()
    keywords: tuple[str, ...] = ()
    note: str = ""
    circled: bool = False
    colour_decision: ColourDecision | None = None
    metadata: Mapping[str, str] = field(default_factory=dict)
    nested: Timeline | None = None


class Track(Struct, frozen=True):
    """Clips in the order of time; picture tracks further up hide those below."""

    kind: TrackKind
    name: str
    """As V1, A2."""
    clips: tuple[Clip, ...]
    enabled: bool = True
    effects: tuple[str, ...] = ()


class Timeline(Struct, frozen=True):
    """One edit."""

    name: str
    rate: FrameRate
    start: Timecode
    """Timecode of its frame 0."""
    tracks: tuple[Track, ...]
    """Picture tracks from the bottom up, then audio."""
    markers: tuple[EditMarker, ...] = ()
    start_known: bool = True
    """Whether the edit itself says so, rather than its being taken as zero."""
    effects: tuple[str, ...] = ()

    @property
    def length(self) -> int:
        """Frames up to the end of its last clip."""
        return max((track.clips[-1].record.end for track in self.tracks if track.clips), default=0)

    @property
    def picture_tracks(self) -> tuple[Track, ...]:
        """Tracks that carry frames, from the bottom up."""
        return tuple(track for track in self.tracks if track.kind is TrackKind.PICTURE)

    @property
    def audio_tracks(self) -> tuple[Track, ...]:
        """Tracks that carry audio."""
        return tuple(track for track in self.tracks if track.kind is TrackKind.AUDIO)

    def nested_timelines(self) -> Iterator[Timeline]:
        """The timelines that lie in this one as picture clips, each name once."""
        seen: set[str] = set()
        for track in self.picture_tracks:
            for clip in track.clips:
                if clip.nested and clip.nested.name not in seen:
                    seen.add(clip.nested.name)
                    yield clip.nested


class Edit(Struct, frozen=True):
    """All timelines of one file, and what in it was not understood or cannot be kept."""

    path: Path
    kind: str
    timelines: tuple[Timeline, ...]
    warnings: tuple[Notice, ...] = ()
