"""The demo's edit: a short film cut from the card, with all that an edit can hold, and its finished program."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path

import numpy as np
from av.video.frame import VideoFrame
from msgspec.structs import replace
from PIL import Image, ImageDraw, ImageFont

from boxkite.core.edit.edl.writing import write_edl_edit
from boxkite.core.edit.otio.writing import write_otio_edit
from boxkite.core.edit.timeline import (
    Clip,
    ClipKind,
    EditMarker,
    MediaName,
    Timeline,
    Track,
    TrackKind,
    Transition,
)
from boxkite.core.picture.pixel_layout import PixelLayout
from boxkite.core.picture.stamp import plane_array
from boxkite.core.presets.fonts import TEXT_FONT
from boxkite.core.timebase import FrameRate, Span, Timecode
from boxkite.demo.pictures import LEADER, Place, draw_picture

NAME = "day"
START = "10:00:00:00"
DISSOLVE_FRAMES = 12


@dataclass(frozen=True)
class CardClip:
    """A clip of the card: name without extension, number in the bar code, what it shows, start timecode, reel."""

    name: str
    number: int
    place: Place
    timecode: str
    reel: str


class DayEdit:
    """The edit over some clips of a card, at one rate."""

    def __init__(self, card: list[CardClip], rate: FrameRate, media_folder: str) -> None:
        """media_folder: where the clips lie, as the edit writes it."""
        self.rate = rate
        self.folder = media_folder
        self.card = {clip.name: clip for clip in card}

    def timeline(self, *, nested: bool) -> Timeline:
        """Two picture and three audio tracks; nested: with the loft as a separate timeline, else flattened."""
        inner: list[tuple[str, int, int, dict[str, object]]] = [
            ("B-loft7", 50, 15, {}),
            ("A-couch1", 10, 15, {}),
        ]
        loft = Timeline(
            "loft",
            self.rate,
            Timecode(0, self.rate),
            (Track(TrackKind.PICTURE, "V1", tuple(self._row(inner, 0))),),
            (),
        )
        opening: list[tuple[str, int, int, dict[str, object]]] = [
            ("A-vat2", 5, 20, {"keywords": ("vat",), "circled": True}),
            ("A-vat2", 40, 20, {"keywords": ("vat", "hands")}),
            (
                "B-loft7",
                10,
                25,
                {"transition_in": Transition("dissolve", 0, DISSOLVE_FRAMES), "circled": True},
            ),
            ("A-press4", 0, 20, {"keywords": ("press",)}),
        ]
        ending: list[tuple[str, int, int, dict[str, object]]] = [
            ("A-couch1", 25, 15, {"speed": Fraction(2)}),
            ("", 0, 10, {}),
            ("A-vat2", 70, 20, {"keywords": ("vat",)}),
            ("A-press4", 30, 20, {}),
            ("B-loft7", 70, 25, {"keywords": ("light",), "circled": True}),
            ("A-couch1", 0, 10, {}),
        ]
        first = self._row(opening, 0)
        middle = first[-1].record.end
        if nested:
            where = Span(middle, middle + loft.length)
            one = Clip(
                "loft", ClipKind.TIMELINE, where, source_rate=self.rate, source_from_zero=True, nested=loft
            )
            between = [one]
        else:
            between = self._row(inner, middle)
        last = self._row(ending, between[-1].record.end)
        bottom = (*first, *between, *last)
        quiet, hidden = last[1].record, last[3].record
        title = Clip("A Hundred Sheets", ClipKind.TITLE, Span(5, 15), source_rate=self.rate)
        top = [
            title,
            *self._row([("A-press4", 55, 10, {"enabled": False})], quiet.end + 3),
            *self._row([("B-loft7", 40, 8, {})], hidden.start + 6),
        ]
        length = bottom[-1].record.end
        audio_tracks = [
            self._audio_track(
                "A1", [replace(clip, transition_in=None) for clip in bottom if clip.kind is ClipKind.MEDIA]
            ),
            self._audio_track("A2", self._row([("A-vat2", 0, 90, {})], 0)),
            self._audio_track("A3", self._row([("B-loft7", 0, 60, {})], length - 60)),
        ]
        markers = (EditMarker("light changes", first[2].record.start + 15, colour="yellow"),)
        pictures = [Track(TrackKind.PICTURE, "V1", bottom), Track(TrackKind.PICTURE, "V2", tuple(top))]
        return Timeline(
            NAME, self.rate, Timecode.parse(START, self.rate), (*pictures, *audio_tracks), markers
        )

    def _audio_track(self, name: str, clips: list[Clip]) -> Track:
        return Track(TrackKind.AUDIO, name, tuple(clips))

    def _row(self, wanted: list[tuple[str, int, int, dict[str, object]]], start: int) -> list[Clip]:
        """Clips one after another: (name, first frame of the source, length on the timeline, what else)."""
        found = []
        for name, first, length, more in wanted:
            record = Span(start, start + length)
            start = record.end
            if not name:
                found.append(Clip("black", ClipKind.BLACK, record, source_rate=self.rate))
                continue
            clip = self.card[name]
            begins = Timecode.parse(clip.timecode, self.rate).frame
            media = MediaName(f"{name}.mov", f"{self.folder}/{name}.mov", clip.reel, begins, self.rate)
            found.append(
                Clip(
                    name,
                    ClipKind.MEDIA,
                    record,
                    media,
                    begins + first,
                    self.rate,
                    False,
                    **more,  # type: ignore[arg-type]
                )
            )
        return found

    def picture(self, width: int, height: int) -> Callable[[int], VideoFrame]:
        """The function that draws each frame of the finished program."""
        timeline = self.timeline(nested=False)

        def draw(frame: int) -> VideoFrame:
            layers = [(clip, track) for track in timeline.picture_tracks for clip in track.clips]
            shown = [
                clip for clip, _ in layers if clip.enabled and clip.record.start <= frame < clip.record.end
            ]
            media = [clip for clip in shown if clip.kind is not ClipKind.TITLE]
            picture = self._drawn(media[-1] if media else None, frame, width, height)
            clip = media[-1] if media else None
            if clip and clip.transition_in and frame < clip.record.start + DISSOLVE_FRAMES:
                tracks = timeline.picture_tracks[0].clips
                before = tracks[tracks.index(clip) - 1]
                share = (frame - clip.record.start + 1) / (DISSOLVE_FRAMES + 1)
                picture = _mixed(self._drawn(before, frame, width, height), picture, share)
            if any(one.kind is ClipKind.TITLE for one in shown):
                _draw_title(picture, "A Hundred Sheets")
            return picture

        return draw

    def _drawn(self, clip: Clip | None, frame: int, width: int, height: int) -> VideoFrame:
        if clip is None or clip.kind is ClipKind.BLACK:
            return draw_picture(LEADER, 0, frame, width, height)
        card = self.card[clip.name]
        begins = Timecode.parse(card.timecode, self.rate).frame
        number = clip.source_start - begins + int((frame - clip.record.start) * clip.speed)
        return draw_picture(card.place, card.number, number, width, height)

    def write(self, folder: Path) -> None:
        """Write the edit as day.otio, with its nested timeline, and as day-cut.edl, flattened."""
        write_otio_edit(folder / f"{NAME}.otio", self.timeline(nested=True))
        write_edl_edit(folder / f"{NAME}-cut.edl", self.timeline(nested=False))


def _mixed(first: VideoFrame, second: VideoFrame, share: float) -> VideoFrame:
    """Two frames as one, `share` of the second."""
    planes = first.to_ndarray() * (1 - share) + second.to_ndarray() * share
    mixed = VideoFrame.from_ndarray(np.rint(planes).astype(np.uint8), format="yuv420p")
    mixed.colorspace, mixed.color_primaries, mixed.color_trc, mixed.color_range = 1, 1, 1, 1
    return mixed


def _draw_title(picture: VideoFrame, text: str) -> None:
    """White letters across the lower third, away from the bar code."""
    width, height = picture.width, picture.height
    font = ImageFont.truetype(str(TEXT_FONT), height // 10)
    letters = Image.new("L", (width, height // 8), 0)
    ImageDraw.Draw(letters).text((width // 2, height // 16), text, font=font, anchor="mm", fill=255)
    layout = PixelLayout.of("yuv420p")
    plane = plane_array(picture.planes[0], layout)
    top = height * 84 // 100
    area = plane[top : top + letters.height, :width]
    share = np.asarray(letters, dtype=np.float32) / 255
    area[:] = (area * (1 - share) + 235 * share).astype(np.uint8)
