"""The treatment of all shots of one source in one output: size, audio, streams left out, reasons against it."""

from __future__ import annotations

from collections.abc import Mapping
from fractions import Fraction

from msgspec import Struct

from boxkite.core.footage.source import Source, SourceKind
from boxkite.core.job.job import Output
from boxkite.core.naming.values import Value
from boxkite.core.notices.files import (
    ALPHA_LEFT_OUT,
    AUDIO_LEFT_OUT,
    FIRST_TRACK_ONLY,
    SILENT_TRACK_ADDED,
    STREAM_LEFT_OUT,
    TRACKS_OF_OTHER_RATE,
    TRACKS_UNDECODABLE,
)
from boxkite.core.notices.footage import TIMES_RESTART
from boxkite.core.notices.notice import Notice
from boxkite.core.plan.copies import uncopied_extension
from boxkite.core.presets.audio_tracks import layout_notices, unheld_audio
from boxkite.core.presets.codecs import MXF_RATES, keeps_alpha
from boxkite.core.presets.geometry import Geometry, plan_geometry, sizing_of
from boxkite.core.presets.model import Preset
from boxkite.core.shots.shot import IndexedSource
from boxkite.core.shots.tokens import OutputFacts, output_values

_COPY_SPREAD = (0.8, 1.3)


class Treatment(Struct, frozen=True):
    """How the shots of one source are made in one output."""

    output: Output
    preset: Preset
    geometry: Geometry | None
    values: Mapping[str, Value]
    audio_tracks: tuple[int, ...]
    bytes_per_frame: Fraction
    warnings: tuple[Notice, ...]
    spread: tuple[float, float] = (1.0, 1.0)
    unfit: str = ""
    """Why they cannot be; empty where they can."""

    def bytes_of(self, frames: int) -> int:
        """About how large a file of so many frames is."""
        size = self.bytes_per_frame
        return size.numerator * frames // size.denominator  # once a row: a Fraction would cost more

    @classmethod
    def of(
        cls, footage: IndexedSource, output: Output, preset: Preset, *, has_audio_file: bool = False
    ) -> Treatment:
        """Settle it for a source. has_audio_file: the audio goes into a file that is made along with this one."""
        source, video = footage.source, footage.source.video
        unfit = _unfit(footage, preset)
        geometry = None
        if video and preset.video:
            geometry = plan_geometry(
                sizing_of(preset),
                video.width_px,
                video.height_px,
                rotation_degrees=footage.frame_index.rotation_degrees,
                sample_aspect=video.sample_aspect,
            )
            unfit = unfit or preset.video.unfit_size(geometry.width_px, geometry.height_px)
        spread = preset.video.spread if preset.video else (0.95, 1.05)
        values = output_values(_output_facts(preset, geometry, video.codec if video else ""))
        if preset.copy:
            tracks = tuple(range(len(source.audio)))
            size = Fraction(source.size_bytes, max(1, footage.frame_index.frame_count))
            warned = footage.frame_index.warnings
            return cls(output, preset, geometry, values, tracks, size, warned, _COPY_SPREAD, unfit)
        tracks, warnings = _audio_tracks(footage.audio_source, preset)
        if has_audio_file and preset.audio is None:
            warnings = [one for one in warnings if not one.is_a(AUDIO_LEFT_OUT)]
        if preset.video:
            warnings += [STREAM_LEFT_OUT(stream=left) for left in source.left_out]
            if video and video.has_alpha and not keeps_alpha(preset.video.written_format):
                warnings.append(ALPHA_LEFT_OUT())
        elif not tracks:
            unfit = unfit or "there is no audio in it"
        width, height = (geometry.width_px, geometry.height_px) if geometry else (0, 0)
        rate = preset.frame_rate or footage.frame_index.rate
        size = preset.bytes_per_frame(width, height, rate.fraction, len(tracks))
        size *= rate.fraction / footage.frame_index.rate.fraction
        if not tracks and preset.audio and preset.audio.if_none == "silence":
            warnings.append(SILENT_TRACK_ADDED())
        all_warnings = (*footage.frame_index.warnings, *warnings)
        return cls(output, preset, geometry, values, tracks, size, all_warnings, spread, unfit)


def _output_facts(preset: Preset, geometry: Geometry | None, source_codec: str) -> OutputFacts:
    """source_codec: of the picture, which a copy keeps."""
    codec = source_codec if preset.copy else preset.video.codec if preset.video else ""
    return OutputFacts(preset.name, geometry.size if geometry else "", codec)


def _unfit(footage: IndexedSource, preset: Preset) -> str:
    source = footage.source
    if source.video is None and (preset.video or preset.copy):
        return "there is no picture in it"
    if preset.copy and source.kind is SourceKind.TIMELINE:
        return "an edit is rendered, not copied: give a preset that encodes"
    if preset.copy and source.sequence:
        return "numbered images are not cut by copying: give a preset that writes images"
    if preset.copy and any(notice.is_a(TIMES_RESTART) for notice in footage.frame_index.warnings):
        return "the times in it start over, so it is not cut by copying: give a preset that encodes"
    if preset.copy:
        return uncopied_extension(source)
    rate = preset.frame_rate or footage.frame_index.rate
    if preset.container == "mxf" and preset.video and rate.fraction not in MXF_RATES:
        return f"MXF is not made at {rate} fps: set rate=25 or another usual one"
    return unheld_audio(footage.audio_source, preset.audio) if preset.audio else ""


def _audio_tracks(source: Source, preset: Preset) -> tuple[tuple[int, ...], list[Notice]]:
    """Which audio streams go along, by position, and notices of the others."""
    usable = [index for index, audio in enumerate(source.audio) if audio.sample_rate_hz and audio.channels]
    warnings: list[Notice] = []
    if len(usable) < len(source.audio):
        warnings.append(TRACKS_UNDECODABLE(count=len(source.audio) - len(usable)))
    if preset.audio is None:
        return (), [*warnings, AUDIO_LEFT_OUT()] if usable else warnings
    if preset.audio.tracks == "first" and len(usable) > 1:
        warnings.append(FIRST_TRACK_ONLY(count=len(usable)))
        usable = usable[:1]
    rates = {source.audio[index].sample_rate_hz for index in usable}
    if preset.audio.tracks in ("merged", "mixed") and len(rates) > 1:
        first = source.audio[usable[0]].sample_rate_hz
        alike = [index for index in usable if source.audio[index].sample_rate_hz == first]
        warnings.append(TRACKS_OF_OTHER_RATE(count=len(usable) - len(alike)))
        usable = alike
    return tuple(usable), [*warnings, *layout_notices(source, preset.audio, tuple(usable))]
