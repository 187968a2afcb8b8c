"""Metadata about one source as JSON and as lines for people."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

from boxkite.core.footage.kinds import BARE_STREAMS
from boxkite.core.notices.notice import counted, notice_as_json
from boxkite.core.timebase import Timecode

if TYPE_CHECKING:
    from boxkite.core.footage.deep import DeepInfo
    from boxkite.core.footage.source import Source

NOT_MEASURED, NOT_COUNTED = "not measured (--deep does)", "not counted (--deep does)"


def length_of(source: Source) -> str:
    """The length of the picture as timecode."""
    assert source.video
    drop = bool(source.start_timecode and source.start_timecode.drop)
    return str(Timecode(source.video.frame_count, source.video.rate, drop))


def clock_of(source: Source) -> str:
    """The length in hours, minutes and seconds."""
    seconds = float(source.duration)
    return f"{int(seconds // 3600):02d}:{int(seconds // 60) % 60:02d}:{seconds % 60:06.3f}"


def lines_about_source(source: Source, deep: DeepInfo | None, columns: int) -> Iterator[tuple[str, str]]:
    """(word, value) of everything known of a source; columns: room for the row of its keyframes."""
    video = source.video
    yield "path", str(source.path)
    yield "container", f"{source.container}, {source.kind.value}"
    if video:
        yield "picture", _picture(source, deep)
        scan = video.field_order or "not stated"
        yield "fields", scan if not video.is_interlaced else f"interlaced, {scan}"
        if source.layers:
            yield "layers", ", ".join(layer.label for layer in source.layers)
        yield "pixel aspect", f"{video.sample_aspect.numerator}:{video.sample_aspect.denominator}"
        rotation = f"{video.rotation_degrees}° counter-clockwise" if video.rotation_degrees else "none"
        yield "rotation", rotation
        yield "colour", video.colour or "not tagged"
        rate = f"{video.rate} ({video.rate.fraction.numerator}/{video.rate.fraction.denominator})"
        yield "frame rate", f"{rate}, {_constancy(deep)}"
        if deep and (spacing := deep.spacing):
            least, median, longest = spacing
            every = f"every {least}" if least == longest else f"every {least} to {longest}, median {median},"
            spaced = "every frame" if longest == 1 else f"{every} frames"
            yield "keyframes", f"{spaced}; {len(deep.keyframes)} in all"
            yield "", deep.drawn(columns)
            yield "exact cuts", _exact_cuts(deep)
        else:
            yield "keyframes", "none" if deep else NOT_MEASURED
    if deep and deep.odd_images:
        named = ", ".join(map(str, deep.odd_images[:8])) + (" …" if len(deep.odd_images) > 8 else "")
        yield "odd images", f"{len(deep.odd_images)} of another size or broken: {named}"
    yield "starts at", str(source.start_timecode or "no timecode")
    yield "reel", source.reel or "none"
    yield "created", source.created.isoformat(" ") if source.created else "not stated"
    for number, audio in enumerate(source.audio, start=1):
        yield f"audio {number}", f"{audio.codec}, {audio.shown_layout}, {audio.sample_rate_hz} Hz"
    if source.chapters:
        yield "chapters", ", ".join(chapter.name or "unnamed" for chapter in source.chapters)


def _picture(source: Source, deep: DeepInfo | None) -> str:
    video = source.video
    assert video
    alpha = ", with transparency" if video.has_alpha else ""
    frames = f"{'' if video.frame_count_exact else 'about '}{counted(video.frame_count, 'frame')}, {length_of(source)}"
    if not video.frame_count_exact and deep and not deep.is_variable:
        frames = f"{counted(deep.pictures, 'frame')}, {Timecode(deep.pictures, video.rate)}"
    elif is_uncounted(source):
        frames = f"frames {NOT_COUNTED}"
    return f"{video.size}, {video.codec}, {video.pixel_format}, {video.bit_depth} bit{alpha}; {frames}"


def is_uncounted(source: Source) -> bool:
    """Whether a file tells neither how many frames it has nor how long it lasts."""
    return bool(source.video and not source.video.frame_count_exact and source.container in BARE_STREAMS)


def _exact_cuts(deep: DeepInfo) -> str:
    if deep.uncut_because:
        return f"encode the shot: {deep.uncut_because}"
    if len(deep.keyframes) == deep.pictures:
        return "at any frame, nothing is encoded"
    if deep.longest_uncut >= deep.pictures:
        return "encode the shot: there is no second keyframe that decoding can start at"
    return f"at any frame, encoding up to {counted(deep.longest_uncut, 'frame')} at each end"


def _constancy(deep: DeepInfo | None) -> str:
    if deep is None:
        return "constant or not: not measured (--deep does)"
    if deep.is_variable and deep.least_rate and deep.most_rate:
        return f"variable: {float(deep.least_rate):.3f} to {float(deep.most_rate):.3f} fps"
    return "constant" if deep.least_rate else "the file stores no times"


def source_as_json(source: Source, deep: DeepInfo | None = None) -> dict[str, Any]:
    """A source as plain values; what only packets tell is null unless they were read."""
    video = source.video
    return {
        "path": str(source.path),
        "label": source.label,
        "kind": source.kind.value,
        "container": source.container,
        "size_bytes": source.size_bytes,
        "duration_seconds": round(float(source.duration), 6),
        "video": video
        and {
            "codec": video.codec,
            "width": video.width_px,
            "height": video.height_px,
            "rate": str(video.rate),
            "rate_fraction": f"{video.rate.fraction.numerator}/{video.rate.fraction.denominator}",
            "frames": video.frame_count,
            "frames_exact": video.frame_count_exact,
            "length": length_of(source),
            "pixel_format": video.pixel_format,
            "bit_depth": video.bit_depth,
            "alpha": video.has_alpha,
            "sample_aspect": str(video.sample_aspect),
            "field_order": video.field_order,
            "rotation_degrees": video.rotation_degrees,
            "primaries": video.primaries,
            "transfer": video.transfer,
            "matrix": video.matrix,
            "full_range": video.full_range,
        },
        "start_timecode": str(source.start_timecode) if source.start_timecode else None,
        "reel": source.reel,
        "created": source.created.isoformat() if source.created else None,
        "audio": [
            {
                "codec": audio.codec,
                "sample_rate_hz": audio.sample_rate_hz,
                "channels": audio.channels,
                "layout": audio.shown_layout,
            }
            for audio in source.audio
        ],
        "chapters": [
            {"name": chapter.name, "start_seconds": float(chapter.start)} for chapter in source.chapters
        ],
        "layers": [{"name": layer.name, "view": layer.view} for layer in source.layers],
        "missing_images": list(source.sequence.missing) if source.sequence else [],
        "deep": deep
        and {
            "pictures": deep.pictures,
            "variable_rate": deep.is_variable,
            "least_rate": float(deep.least_rate) if deep.least_rate else None,
            "most_rate": float(deep.most_rate) if deep.most_rate else None,
            "keyframes": list(deep.keyframes),
            "odd_images": list(deep.odd_images),
            "exact_cuts": {
                "encoded_at_most": deep.longest_uncut,
                "encode_because": deep.uncut_because or None,
            },
            "keyframe_spacing": deep.spacing
            and dict(zip(("least", "median", "longest"), deep.spacing, strict=True)),
        },
        "metadata": source.metadata,
        "warnings": list(map(notice_as_json, source.warnings)),
    }
