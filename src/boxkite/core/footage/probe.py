"""Reading the metadata of one source from its container, without decoding."""

from __future__ import annotations

import contextlib
import os
import re
from collections.abc import Mapping, Sequence
from datetime import datetime
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
from av.audio.stream import AudioStream
from av.container import InputContainer
from av.video.format import VideoFormat
from av.video.stream import VideoStream
from msgspec.structs import replace

from boxkite.core.errors import BoxkiteError, FootageError
from boxkite.core.files.identity import FileIdentity, begins_as_movie, identity_of
from boxkite.core.footage.access import open_media
from boxkite.core.footage.exr import choose_layer, layers_of
from boxkite.core.footage.kinds import BARE_STREAMS, STILL_SUFFIXES
from boxkite.core.footage.opening import (
    MOST_PIXELS,
    current_identity,
    open_for_facts,
    open_sequence,
    open_undecoded,
    video_stream,
    video_streams,
)
from boxkite.core.footage.rotation import stored_rotation
from boxkite.core.footage.said_picture import PROGRESSIVE, SaidPicture, said_picture
from boxkite.core.footage.source import (
    AudioInfo,
    Chapter,
    ImageSettings,
    SequencePattern,
    Source,
    SourceKind,
    VideoInfo,
)
from boxkite.core.notices.footage import (
    IMAGES_MISSING,
    IMAGES_TINY,
    IMAGES_WITHOUT_RATE,
    NO_RATE,
    START_UNUSABLE,
)
from boxkite.core.notices.notice import Notice
from boxkite.core.timebase import FrameRate, Timecode

_FIELD_ORDERS = {1: "progressive", 2: "top first", 3: "bottom first", 4: "top first", 5: "bottom first"}
# Names of ISO/IEC 23091-2 (as ITU-T H.273), by their code points.
_PRIMARIES = {
    1: "BT.709", 4: "BT.470 M", 5: "BT.601 625", 6: "BT.601 525", 7: "ST 240", 8: "film", 9: "BT.2020",
    10: "ST 428", 11: "RP 431", 12: "P3 D65",
}  # fmt: skip
_TRANSFERS = {
    1: "BT.709", 4: "gamma 2.2", 5: "gamma 2.8", 6: "BT.601", 7: "ST 240", 8: "linear", 13: "sRGB", 14: "BT.2020",
    15: "BT.2020", 16: "PQ", 17: "ST 428", 18: "HLG",
}  # fmt: skip
_MATRICES = {1: "BT.709", 4: "FCC", 5: "BT.601", 6: "BT.601", 7: "ST 240", 9: "BT.2020", 10: "BT.2020"}
_DATE_KEYS = ("creation_time", "com.apple.quicktime.creationdate", "date", "modification_date")
SEQUENCE_RATE = FrameRate(Fraction(24))


def read_source(path: Path) -> Source:
    """Read the metadata of one media file. Raises FootageError with the reason when it is not one."""
    descriptor = open_media(path)
    try:
        identity = identity_of(descriptor, path)
        source = _read(path, identity, is_movie=begins_as_movie(descriptor))
        if not identity.is_status_of(os.fstat(descriptor)) or not identity.is_status_of(path.stat()):
            raise FootageError(
                "it changes while it is looked at", path=path, hint="wait until it is complete"
            )
        return source
    finally:
        os.close(descriptor)


def _read(path: Path, identity: FileIdentity, *, is_movie: bool) -> Source:
    source = _read_undecoded(path, identity.size_bytes) if is_movie else None
    if source is None:
        layers = layers_of(path)
        layer = choose_layer(layers, ImageSettings())
        with open_for_facts(path, layer, is_movie=is_movie) as container:
            source = _source_of(container, path, None, identity.size_bytes)
        source = replace(source, layers=layers, layer=layer)
    source = replace(source, identity=identity)
    video = source.video
    if video and source.container == "mov":
        turn = stored_rotation(path, video.width_px, video.height_px)
        if turn:
            source = replace(source, video=replace(video, rotation_degrees=turn))
    return source


def _read_undecoded(path: Path, size_bytes: int) -> Source | None:
    """The source as its header describes it; None where a frame must be decoded to know it."""
    with contextlib.suppress(FootageError), open_undecoded(path) as container:
        if said := said_picture(container):
            return _source_of(container, path, None, size_bytes, said)
    return None


def read_sequence(sequence: SequencePattern, images: ImageSettings | None = None) -> Source:
    """Read the metadata of numbered images from the first of them. Raises FootageError.

    Where images does not say a rate, it is the usual 24, with a warning.
    """
    images = images or ImageSettings()
    rate = images.rate
    missing = set(sequence.missing)
    sizes = [
        (sequence.folder / sequence.file_name(number)).stat().st_size
        for number in range(sequence.first, sequence.last + 1)
        if number not in missing
    ]
    size = sum(sizes)
    first = sequence.folder / sequence.file_name(sequence.first)
    layers = layers_of(first)
    layer = choose_layer(layers, images)
    with open_sequence(sequence, rate or SEQUENCE_RATE, layer) as container:
        source = replace(_source_of(container, first, sequence, size), layers=layers, layer=layer)
        source = replace(
            source, start_timecode=source.start_timecode or _timecode_in_image(container, source)
        )
    source = replace(source, identity=current_identity(source))
    usual = sorted(sizes)[len(sizes) // 2]
    odd = sum(one < usual // 20 for one in sizes)
    if odd:
        source = replace(source, warnings=(*source.warnings, IMAGES_TINY(count=odd)))
    if rate is None:
        guessed = IMAGES_WITHOUT_RATE(rate=str(SEQUENCE_RATE))
        source = replace(source, warnings=(*source.warnings, guessed))
    return source


def _timecode_in_image(container: InputContainer, source: Source) -> Timecode | None:
    """The timecode that the first image of a sequence holds in itself (DPX, OpenEXR)."""
    if not source.video or source.path.suffix.lower() not in (".dpx", ".exr"):
        return None
    try:
        picture = next(container.decode(video=0), None)
        text = next(
            (
                value
                for key, value in (picture.metadata if picture else {}).items()
                if key.lower() == "timecode"
            ),
            "",
        )
        return Timecode.parse(text, source.video.rate) if text else None
    except (BoxkiteError, av.error.FFmpegError, AttributeError):
        return None


def _source_of(
    container: InputContainer,
    path: Path,
    sequence: SequencePattern | None,
    size: int,
    said: SaidPicture | None = None,
) -> Source:
    """said: of its picture, where no frame was decoded."""
    picture = video_stream(container)
    audio_streams = [stream for stream in container.streams.audio if stream.codec_context is not None]
    if picture is None and not audio_streams:
        raise FootageError("there is neither picture nor audio the codec library can decode in it", path=path)
    tag_sets = _tag_sets_of(container)
    warnings: list[Notice] = []
    duration = Fraction(container.duration, av.time_base) if container.duration else Fraction(0)
    is_bare = container.format.name in BARE_STREAMS
    video = _video_info(picture, duration, warnings, said, is_bare=is_bare) if picture else None
    audio = tuple(_audio_info(stream) for stream in audio_streams)
    if video and sequence:
        count = sequence.last - sequence.first + 1
        video = replace(video, frame_count=count, frame_count_exact=True)
        duration = video.rate.seconds(count)
        if sequence.missing:
            missing = sequence.missing
            warnings.append(IMAGES_MISSING(count=len(missing), numbers=list(missing)))
    else:
        duration = _stream_duration(picture or audio_streams[0]) or duration
    kind = SourceKind.AUDIO
    if video:
        kind = SourceKind.SEQUENCE if sequence else SourceKind.VIDEO
        if kind is SourceKind.VIDEO and path.suffix.lower() in STILL_SUFFIXES:
            kind = SourceKind.STILL
            video = replace(video, frame_count=1, frame_count_exact=True)
    return Source(
        path=path,
        kind=kind,
        container=container.format.name.split(",")[0],
        size_bytes=size,
        duration=duration,
        video=video,
        audio=audio,
        start_timecode=_start_timecode(tag_sets, video, warnings),
        reel=_first_value(tag_sets, ("reel_name", "reel", "material_package_name")),
        chapters=_chapters(container),
        sequence=sequence,
        left_out=_left_out(container),
        warnings=tuple(warnings),
        metadata=dict(container.metadata),
        created=_created(tag_sets),
    )


def _created(tag_sets: Sequence[Mapping[str, str]]) -> datetime | None:
    """When the file says it was made."""
    for key in _DATE_KEYS:
        text = _first_value(tag_sets, (key,))
        try:
            if text:
                return datetime.fromisoformat(text.replace(" UTC", "+00:00"))
        except ValueError:
            continue
    return None


def _video_info(
    stream: VideoStream,
    duration: Fraction,
    warnings: list[Notice],
    said: SaidPicture | None,
    *,
    is_bare: bool,
) -> VideoInfo:
    context = stream.codec_context
    if not context.width or not context.height:
        raise FootageError(
            f"the picture has no size: it has more than {MOST_PIXELS // 1_000_000} million pixels, or makes no sense"
        )
    if context.width * context.height > MOST_PIXELS:
        raise FootageError(
            f"its picture is {context.width}x{context.height}: more than {MOST_PIXELS // 1_000_000} million pixels",
            hint="scale it down first",
        )
    rate = _rate(stream, warnings, is_bare=is_bare)
    count = stream.frames
    if not count:
        count = rate.frames_in(_stream_duration(stream) or duration)
    pixel_format = VideoFormat(said.pixel_format) if said else context.format
    components = pixel_format.components if pixel_format else ()
    colours = int(context.color_primaries or 0), int(context.color_trc or 0), int(context.colorspace or 0)
    full_range = {1: False, 2: True}.get(int(context.color_range or 0))
    field_order = int(getattr(context, "field_order", 0) or 0)
    if said:
        colours, field_order = said.colours or colours, PROGRESSIVE
        full_range = said.full_range
    return VideoInfo(
        index=stream.index,
        codec=context.codec.canonical_name if context.codec else "unknown",
        width_px=context.width,
        height_px=context.height,
        rate=rate,
        frame_count=count,
        frame_count_exact=bool(stream.frames),
        pixel_format=pixel_format.name if pixel_format else "",
        bit_depth=max((component.bits for component in components), default=8),
        sample_aspect=_fraction(stream.sample_aspect_ratio),
        field_order=_FIELD_ORDERS.get(field_order, ""),
        has_alpha=any(component.is_alpha for component in components),
        primaries=_PRIMARIES.get(colours[0], ""),
        transfer=_TRANSFERS.get(colours[1], ""),
        matrix=_MATRICES.get(colours[2], ""),
        full_range=full_range,
    )


def _left_out(container: InputContainer) -> tuple[str, ...]:
    """Tracks beside the picture and the audio; a timecode track is read, not left out."""
    counts = {
        "picture": max(0, len(video_streams(container)) - 1),
        "subtitle": len(container.streams.subtitles),
    }
    return tuple(f"{count} {kind} track{'s' * (count > 1)}" for kind, count in counts.items() if count)


def _fraction(ratio: Any) -> Fraction:
    """A ratio as PyAV gives it (before version 19 a Fraction, then a separate type), 1 where there is none."""
    return Fraction(int(ratio.numerator), int(ratio.denominator)) if ratio else Fraction(1)


def _rate(stream: VideoStream, warnings: list[Notice], *, is_bare: bool) -> FrameRate:
    """The stream's frames a second; the average where base and average agree, else the likelier of the two."""
    guessed = stream.guessed_rate
    average = guessed if is_bare else stream.average_rate
    for candidate in (average, guessed, stream.base_rate):
        if candidate and 0 < candidate <= 1000:
            if candidate is average and guessed and abs(guessed / candidate - 1) < Fraction(1, 200):
                # A short or slightly odd file's average is off its nominal rate; the base rate is not.
                candidate = guessed  # noqa: PLW2901
            return FrameRate.near(Fraction(candidate).limit_denominator(1_000_000))
    warnings.append(NO_RATE())
    return FrameRate(Fraction(25))


def _stream_duration(stream: VideoStream | AudioStream) -> Fraction | None:
    """How long the stream itself says it lasts: in its header, or in a DURATION tag (Matroska)."""
    if stream.duration and stream.time_base:
        return stream.duration * stream.time_base
    match = re.fullmatch(r"(\d+):(\d\d):(\d\d(?:\.\d+)?)", stream.metadata.get("DURATION", ""), re.ASCII)
    return int(match[1]) * 3600 + int(match[2]) * 60 + Fraction(match[3]) if match else None


def _audio_info(stream: AudioStream) -> AudioInfo:
    context = stream.codec_context
    return AudioInfo(
        index=stream.index,
        codec=context.codec.canonical_name if context.codec else "unknown",
        sample_rate_hz=context.sample_rate or 0,
        channels=context.channels,
        layout=context.layout.name if context.layout else "",
    )


def _tag_sets_of(container: InputContainer) -> list[dict[str, str]]:
    """The metadata of the streams and the container, with keys in lower case and values that are not empty."""
    places = [*(stream.metadata for stream in container.streams), container.metadata]
    return [
        {name.lower(): text for name, value in metadata.items() if (text := value.strip())}
        for metadata in places
    ]


def _first_value(tag_sets: Sequence[Mapping[str, str]], keys: tuple[str, ...]) -> str:
    """The first of these keys that any stream or the container holds."""
    return next((tags[key] for key in keys for tags in tag_sets if key in tags), "")


def _start_timecode(
    tag_sets: Sequence[Mapping[str, str]], video: VideoInfo | None, warnings: list[Notice]
) -> Timecode | None:
    text = _first_value(tag_sets, ("timecode",))
    if not text or not video:
        return None
    try:
        return Timecode.parse(text, video.rate)
    except BoxkiteError as error:
        warnings.append(START_UNUSABLE(reason=error.message))
        return None


def _chapters(container: InputContainer) -> tuple[Chapter, ...]:
    found = []
    for chapter in container.chapters():
        time_base = chapter["time_base"]
        if time_base:
            name = chapter["metadata"].get("title", "").strip()
            found.append(Chapter(name, chapter["start"] * time_base, chapter["end"] * time_base))
    return tuple(found)
