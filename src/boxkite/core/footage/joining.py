"""Whether the streams of some sources can follow each other in one file."""

from __future__ import annotations

from collections.abc import Sequence

from boxkite.core.errors import FootageError, PlanError
from boxkite.core.footage.source import Source


def check_joinable(sources: Sequence[Source]) -> None:
    """Raise PlanError, with what differs, where copies of these sources cannot become one file."""
    first, *others = {source.path: source for source in sources}.values()
    wanted = _streams(first)
    for source in others:
        for (what, one), (_, other) in zip(wanted, _streams(source), strict=False):
            if one != other:
                raise PlanError(
                    f"{first.label} and {source.label} cannot be joined: {what} differs ({one}, {other})",
                    hint="leave one of them out, or give a preset that encodes and join later",
                )


def _streams(source: Source) -> list[tuple[str, object]]:
    """The properties that streams must share to follow each other in one file, each with its name."""
    video = source.video
    assert video
    settings: list[tuple[str, object]] = [
        ("the codec", video.codec),
        ("the picture size", video.size),
        ("the pixel format", video.pixel_format),
        ("the rate", str(video.rate)),
        ("the number of audio tracks", len(source.audio)),
    ]
    for audio in source.audio:
        settings.append(("the audio", f"{audio.codec} {audio.sample_rate_hz} Hz {audio.shown_layout}"))
    from boxkite.core.footage.opening import open_source

    try:
        with open_source(source) as container:
            set_up = [
                bytes(stream.codec_context.extradata or b"")
                for stream in container.streams
                if stream.type in ("video", "audio") and stream.codec_context
            ]
    except FootageError as error:
        raise PlanError(error.message, path=error.path) from None
    return [*settings, ("the set-up of their encoders", [hash(one) for one in set_up])]
