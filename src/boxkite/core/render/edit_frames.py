"""The frames and audio of an edit: the topmost clip of each frame, dissolves mixed, all audio added up."""

from __future__ import annotations

import contextlib
from collections.abc import Generator, Iterator
from fractions import Fraction

import av
import numpy as np
from av.audio.frame import AudioFrame
from av.video.frame import VideoFrame

from boxkite.core.footage.decoding import Damage, read_frames
from boxkite.core.picture.chain import PictureChain
from boxkite.core.picture.colour_coding import BT601, BT709, matrix_of
from boxkite.core.picture.conversion import FrameConversion
from boxkite.core.picture.converting import EXACTLY, Conversions
from boxkite.core.picture.pixel_layout import PixelLayout
from boxkite.core.picture.stamp import plane_array
from boxkite.core.presets.codecs import VideoCodec
from boxkite.core.presets.coding import Video
from boxkite.core.presets.geometry import Sizing, plan_geometry, steps_of
from boxkite.core.render.audio_blocks import as_block, interleaved
from boxkite.core.render.audio_reader import AudioReader
from boxkite.core.shots.composing import AUDIO
from boxkite.core.shots.shot import AudioLayer, Composition, IndexedSource, Layer
from boxkite.core.timebase import FrameRate, Span, round_fraction, sample_at

_BACKWARDS_AT_ONCE = 12
_LONGEST_WAY_ON = 50
"""Frames decoded in vain at most before looking for a nearer keyframe."""
_WORKING_CODEC: VideoCodec = "ffv1"
"""Takes the frames of an edit as they are; nothing is written in it."""


class EditFrames:
    """The frames of an edit, each asked for once and in order."""

    def __init__(self, footage: IndexedSource, threads: int, damage: Damage | None) -> None:
        assert footage.composition and footage.source.video
        self._tracks = footage.composition.tracks
        self._threads, self._damage = threads, damage
        self._conform = _Conform(footage)
        self._readers: dict[int, _LayerReader] = {}
        self._reached = [0] * len(self._tracks)

    def read(self, span: Span) -> Iterator[tuple[int, VideoFrame]]:
        """Yield (frame of the edit, picture)."""
        try:
            for frame in range(span.start, span.end):
                yield frame, self._stack(frame, len(self._tracks))
                self._let_go(frame)
        finally:
            with contextlib.ExitStack() as stack:
                for reader in self._readers.values():
                    stack.callback(reader.close)

    def _stack(self, frame: int, height: int) -> VideoFrame:
        """The frame that the lowest `height` tracks show."""
        for track in range(height - 1, -1, -1):
            shown = self._on_track(frame, track)
            if shown is not None:
                return shown
        return self._conform.black()

    def _on_track(self, frame: int, track: int) -> VideoFrame | None:
        """The frame of a track, mixed with the clip before, after or below it; None if it shows nothing."""
        active = self._active(frame, track)
        if not active:
            return None
        if len(active) > 1:  # the later clip comes up over the earlier one
            earlier, later = active[-2], active[-1]
            share = _share(frame, later.record.start, later.fade_in)
            return self._mixed(self._picture(earlier, frame), self._picture(later, frame), share)
        layer = active[0]
        coming = _share(frame, layer.record.start, layer.fade_in)
        going = _share(frame, layer.record.end, layer.fade_out)
        share = min(coming, 1 - going) if any(layer.fade_out) else coming
        if share >= 1:
            return self._picture(layer, frame)
        return self._mixed(self._stack(frame, track), self._picture(layer, frame), share)

    def _active(self, frame: int, track: int) -> list[Layer]:
        """The clips of a track that show at a frame: one, or the two of a dissolve."""
        layers = self._tracks[track]
        first = self._reached[track]
        while first < len(layers) and layers[first].seen.end <= frame:
            first += 1
        self._reached[track] = first
        found = []
        for layer in layers[first : first + 3]:
            if layer.seen.start <= frame < layer.seen.end:
                found.append(layer)
        return found

    def _picture(self, layer: Layer, frame: int) -> VideoFrame:
        if layer.footage is None:
            return self._conform.black()
        if id(layer) not in self._readers:
            self._readers[id(layer)] = _LayerReader(
                layer, layer.footage, self._conform, self._threads, self._damage
            )
        return self._readers[id(layer)].at(frame)

    def _mixed(self, below: VideoFrame, above: VideoFrame, share: Fraction) -> VideoFrame:
        """Two frames as one, `share` of the one above."""
        if share <= 0:
            return below
        return self._conform.mixed(below, above, float(share))

    def _let_go(self, frame: int) -> None:
        """Close the files of clips that are over."""
        for key, reader in list(self._readers.items()):
            if reader.layer.seen.end <= frame + 1:
                reader.close()
                del self._readers[key]


def _share(frame: int, cut: int, fade: tuple[int, int]) -> Fraction:
    """How far a fade of so many frames before and after a cut has come at a frame, 0 before it, 1 after it."""
    before, after = fade
    if not before + after:
        return Fraction(1 if frame >= cut else 0)
    return min(max(Fraction(frame - (cut - before) + 1, before + after + 1), Fraction(0)), Fraction(1))


class _Conform:
    """Brings frames of any source to the size and format of an edit."""

    def __init__(self, footage: IndexedSource) -> None:
        assert footage.composition and footage.source.video
        self.video = footage.source.video
        self.pixel_format = _working_format(footage.composition)
        self._layout = PixelLayout.of(self.pixel_format)
        self._matrix = BT709 if self.video.height_px >= 720 else BT601
        self._black: VideoFrame | None = None
        self._conversions = Conversions()

    def through(
        self, layer: Layer, footage: IndexedSource, pictures: Iterator[VideoFrame]
    ) -> Iterator[VideoFrame]:
        """Frames of a source, upright, progressive, sized with bars, with the clip's own look."""
        own = footage.source.video
        assert own
        sizing = Sizing(
            "fit",
            (self.video.width_px, self.video.height_px),
            bars=True,
            enlarge=True,
            square_pixels=self.video.sample_aspect == 1,
            steps=steps_of(_WORKING_CODEC, self.pixel_format),
        )
        geometry = plan_geometry(
            sizing,
            own.width_px,
            own.height_px,
            rotation_degrees=footage.frame_index.rotation_degrees,
            sample_aspect=own.sample_aspect,
        )
        working = Video(codec=_WORKING_CODEC, pixel_format=self.pixel_format)
        chain = PictureChain(
            FrameConversion(
                working, geometry, footage.frame_index.rate, look=layer.look, is_interlaced=own.is_interlaced
            )
        )
        for picture in pictures:
            for ready in chain.put(picture):
                yield self._in_matrix(ready, picture)
        for ready in chain.end():
            yield self._in_matrix(ready, None)

    def _in_matrix(self, picture: VideoFrame, decoded: VideoFrame | None) -> VideoFrame:
        """The picture in the edit's matrix, tagged with it."""
        own = matrix_of(decoded) if decoded is not None else matrix_of(picture)
        same = {own, self._matrix} <= {5, 6} or own == self._matrix
        if not same:
            picture = self._conversions.convert(
                picture,
                format=self.pixel_format,
                src_colorspace=own,
                dst_colorspace=self._matrix,
                interpolation=EXACTLY,
            )
        picture.colorspace = self._matrix
        return picture

    def black(self) -> VideoFrame:
        """A black frame; always the same one, never to be written on."""
        if self._black is None:
            self._black = self._new()
            scale = 1 << (self._layout.bit_depth - 8)
            for index in range(3):
                plane_array(self._black.planes[index], self._layout)[:] = (16 if index == 0 else 128) * scale
        return self._black

    def mixed(self, below: VideoFrame, above: VideoFrame, share: float) -> VideoFrame:
        """Two frames as one, by planes."""
        result = self._new()
        for index in range(3):
            first, second, target = (
                plane_array(frame.planes[index], self._layout) for frame in (below, above, result)
            )
            target[:] = np.rint(first + (second.astype(np.float32) - first) * np.float32(share))
        return result

    def _new(self) -> VideoFrame:
        frame = VideoFrame(self.video.width_px, self.video.height_px, self.pixel_format)
        frame.colorspace, frame.color_range = self._matrix, 1
        frame.color_primaries = frame.color_trc = BT709
        return frame


def _working_format(composition: Composition) -> str:
    """The pixel format that holds what all sources have: the most bits, the finest chroma."""
    formats = {
        layer.footage.source.video.pixel_format
        for track in composition.tracks
        for layer in track
        if layer.footage and layer.footage.source.video
    }
    deep = any(
        layer.footage.source.video.bit_depth > 8
        for track in composition.tracks
        for layer in track
        if layer.footage and layer.footage.source.video
    )
    if all("420" in one or one in ("nv12", "p010le") for one in formats):
        return "yuv420p10le" if deep else "yuv420p"
    if all("444" not in one and one.startswith(("yuv", "uyvy", "nv", "p0")) for one in formats):
        return "yuv422p10le" if deep else "yuv422p"
    return "yuv444p10le" if deep else "yuv444p"


class _LayerReader:
    """The frames of one clip at its speed, forwards, backwards or frozen."""

    def __init__(
        self, layer: Layer, footage: IndexedSource, conform: _Conform, threads: int, damage: Damage | None
    ) -> None:
        self.layer = layer
        self._footage, self._conform = footage, conform
        self._threads, self._damage = threads, damage
        self._stream: Iterator[tuple[int, VideoFrame]] | None = None
        self._pictures: Generator[tuple[int, VideoFrame], None, None] | None = None
        self._number, self._held = -1, None  # type: tuple[int, VideoFrame | None]
        self._behind: dict[int, VideoFrame] = {}

    def at(self, frame: int) -> VideoFrame:
        """The picture at a frame of the timeline."""
        wanted = self.layer.frame_at(frame)
        if self.layer.step < 0:
            return self._backwards(wanted)
        if self._held is None or not self._number <= wanted <= self._number + _LONGEST_WAY_ON:
            self.close()
            self._stream = self._open(Span(wanted, self._footage.frame_index.frame_count))
            self._number, self._held = next(self._stream)
        assert self._stream
        while self._number < wanted:
            following = next(self._stream, None)
            if following is None:
                break
            self._number, self._held = following
        return self._held

    def _backwards(self, wanted: int) -> VideoFrame:
        if wanted not in self._behind:
            span = Span(max(0, wanted + 1 - _BACKWARDS_AT_ONCE), wanted + 1)
            self._behind = dict(self._open(span))
            self.close()
        return self._behind[wanted]

    def _open(self, span: Span) -> Iterator[tuple[int, VideoFrame]]:
        pictures = self._pictures = read_frames(
            self._footage.source, self._footage.frame_index, span, threads=self._threads, damage=self._damage
        )
        conformed = self._conform.through(self.layer, self._footage, (picture for _, picture in pictures))
        return zip(range(span.start, span.end), conformed, strict=False)

    def close(self) -> None:
        """Let go of the file. Raises ChangedError."""
        pictures, self._pictures, self._stream, self._held = self._pictures, None, None, None
        if pictures:
            pictures.close()


class EditAudio:
    """The audio of an edit, all its tracks added up, as one stereo track; sample 0 is the edit's first frame."""

    def __init__(self, footage: IndexedSource, span: Span) -> None:
        assert footage.composition
        self._rate = footage.frame_index.rate
        self._waiting = [one for one in footage.composition.audio if one.record.clipped_to(span).length]
        self._waiting.sort(key=lambda one: one.record.start)
        self._playing: list[_ClipAudio] = []
        self._span = span
        self._reached = self._sample(span.start)
        self.silence_samples = 0
        """The most samples of a clip that its media are missing, in the file's own counting."""

    def until(self, frame: int) -> Iterator[tuple[int, AudioFrame]]:
        """Yield (0, audio) up to the moment a frame begins."""
        end = self._sample(min(frame, self._span.end))
        while self._waiting and self._sample(self._waiting[0].record.start) < end:
            self._playing.append(_ClipAudio(self._waiting.pop(0), self._rate, self._span))
        if end <= self._reached:
            return
        mixed = np.zeros((end - self._reached, AUDIO.channels), np.float32)
        for one in self._playing:
            one.add_to(mixed, self._reached, min(frame, self._span.end))
        for one in [one for one in self._playing if one.end <= end]:
            self.silence_samples = max(self.silence_samples, one.silence_samples)
            one.close()
            self._playing.remove(one)
        self._reached = end
        yield 0, as_block(np.clip(mixed, -1, 1), AUDIO.layout, AUDIO.sample_rate_hz)

    def close(self) -> None:
        """Let go of all files."""
        for one in self._playing:
            one.close()

    def _sample(self, frame: int) -> int:
        return sample_at(frame, self._rate, AUDIO.sample_rate_hz)


class _ClipAudio:
    """The audio of one clip while it is heard."""

    def __init__(self, layer: AudioLayer, rate: FrameRate, span: Span) -> None:
        self._layer, self._rate = layer, rate
        own = layer.footage.frame_index.rate
        self._scale = Fraction(1) if own.nominal == rate.nominal else own.fraction / rate.fraction
        heard = layer.record.clipped_to(span)
        self._position = sample_at(heard.start, rate, AUDIO.sample_rate_hz)
        self.end = sample_at(heard.end, rate, AUDIO.sample_rate_hz)
        start = layer.span.start + round_fraction((heard.start - layer.record.start) * self._scale)
        end = max(start, min(layer.span.end, layer.footage.frame_index.frame_count))
        self._reader = AudioReader(layer.footage, Span(start, end), (0,))
        self._resampler = av.AudioResampler(format="flt", layout=AUDIO.layout, rate=AUDIO.sample_rate_hz)
        self._source_end = end
        self._is_flushed = False

    @property
    def silence_samples(self) -> int:
        """Samples that its media are missing."""
        return self._reader.silence_samples

    def add_to(self, mixed: np.ndarray, begins: int, frame: int) -> None:
        """Add what is heard before a frame of the timeline to audio that begins at a sample."""
        ahead = round_fraction((frame - self._layer.record.start) * self._scale, "up")
        wanted = min(self._layer.span.start + ahead, self._source_end)
        for _, block in self._reader.until(wanted):
            for part in self._resampler.resample(block):
                self._add(mixed, begins, interleaved(part))
        if wanted >= self._source_end and not self._is_flushed:
            self._is_flushed = True
            for part in self._resampler.resample(None):
                self._add(mixed, begins, interleaved(part))

    def _add(self, mixed: np.ndarray, begins: int, samples: np.ndarray) -> None:
        start = self._position - begins
        samples = samples[: max(0, min(self.end - self._position, len(mixed) - start))]
        mixed[start : start + len(samples)] += samples
        self._position += len(samples)

    def close(self) -> None:
        """Let go of the file."""
        self._reader.close()
