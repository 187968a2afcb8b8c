"""List what is there: a row per source, and every file that cannot be read with the reason."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING, Any

from boxkite.cli.options import add_images_rate

if TYPE_CHECKING:
    from boxkite.core.footage.source import Source

EXAMPLES = """\
examples:
  boxkite inspect mill.mov
  boxkite inspect card1/ card2/ --json
  boxkite inspect --tokens
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What to look at, and how to show it."""
    parser.add_argument(
        "paths", nargs="*", metavar="PATH", help="media files, or folders with all below them"
    )
    add_images_rate(parser)
    parser.add_argument("--tokens", action="store_true", help="list the tokens that name patterns can use")
    parser.add_argument("--json", action="store_true", help="print JSON instead of tables")


def run(arguments: argparse.Namespace) -> int:
    """Show the sources; status 1 when some files could not be read, 2 when none could."""
    from boxkite.core.errors import FootageError, RequestError

    if arguments.tokens:
        return _show_tokens(as_json=arguments.json)
    if not arguments.paths:
        raise RequestError("nothing to inspect", hint="name files or folders: boxkite inspect card1/")
    from boxkite.core.footage.find import find_sources
    from boxkite.core.timebase import FrameRate

    paths = [Path(path).expanduser() for path in arguments.paths]
    rate = FrameRate.parse(arguments.images_rate) if arguments.images_rate else None
    found = find_sources(paths, rate)
    named_and_unreadable = [item for item in found.unreadable if item.path in paths]
    if not found.sources and len(found.unreadable) == 1 and named_and_unreadable:
        only = found.unreadable[0]
        raise FootageError(only.reason, path=only.path, hint=only.hint)
    if arguments.json:
        from boxkite.cli.tables import print_json

        print_json(
            {
                "sources": [_as_json(source) for source in found.sources],
                "unreadable": [
                    {"path": str(item.path), "reason": item.reason, "hint": item.hint}
                    for item in found.unreadable
                ],
            }
        )
    else:
        _show(found.sources, found.unreadable)
    if not found.sources:
        return 2
    return 1 if named_and_unreadable else 0


def _show(sources: Any, unreadable: Any) -> None:
    from boxkite.cli.tables import Column, counted, file_size, make_console, print_line, print_table

    console = make_console()
    if sources:
        columns = [
            Column("source", gives_way=True),
            Column("picture"),
            Column("codec", optional=True),
            Column("rate", right=True),
            Column("frames", right=True),
            Column("starts at"),
            Column("length", optional=True),
            Column("sound"),
        ]
        print_table(console, columns, [_row(source) for source in sources])
        size = file_size(sum(source.size_bytes for source in sources))
        console.print()
        print_line(console, f"{counted(len(sources), 'source')}, {size}", "bold")
    for source in sources:
        for warning in source.warnings:
            print_line(console, f"  {source.label}: {warning}", "yellow")
    if unreadable:
        print_line(console, f"{counted(len(unreadable), 'file')} not read:", "bold")
        for item in unreadable:
            hint = f" ({item.hint})" if item.hint else ""
            print_line(console, f"  {item.path}: {item.reason}{hint}")


def _row(source: Source) -> list[str]:
    video = source.video
    if video is None:
        return [
            str(source.path.parent / source.label),
            "",
            source.audio[0].codec,
            "",
            "",
            "",
            _clock(source),
            _sound(source),
        ]
    if source.kind.value == "still":
        return [str(source.path.parent / source.label), video.size, video.codec, "", "", "", "", ""]
    about = "" if video.frame_count_exact else "~"
    return [
        str(source.path.parent / source.label),
        video.size,
        video.codec,
        str(video.rate),
        f"{about}{video.frame_count}",
        str(source.start_timecode or "none"),
        _length(source),
        _sound(source),
    ]


def _length(source: Source) -> str:
    from boxkite.core.timebase import Timecode

    assert source.video
    drop = bool(source.start_timecode and source.start_timecode.drop)
    return str(Timecode(source.video.frame_count, source.video.rate, drop))


def _clock(source: Source) -> str:
    seconds = float(source.duration)
    return f"{int(seconds // 3600):02d}:{int(seconds // 60) % 60:02d}:{seconds % 60:06.3f}"


def _sound(source: Source) -> str:
    layouts = [audio.shown_layout for audio in source.audio]
    if not layouts:
        return "none"
    if len(set(layouts)) == 1 and len(layouts) > 1:
        return f"{len(layouts)} × {layouts[0]}"
    return " + ".join(layouts)


def _as_json(source: Source) -> dict[str, Any]:
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
            "length": _length(source),
            "pixel_format": video.pixel_format,
            "bit_depth": video.bit_depth,
            "sample_aspect": str(video.sample_aspect),
            "field_order": video.field_order,
        },
        "start_timecode": str(source.start_timecode) if source.start_timecode else None,
        "reel": source.reel,
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
        "warnings": list(source.warnings),
    }


def _show_tokens(*, as_json: bool) -> int:
    from boxkite.cli.tables import Column, make_console, print_json, print_line, print_table
    from boxkite.core.naming.tokens import DEFAULT_PATTERNS, TOKENS

    if as_json:
        print_json({"tokens": TOKENS, "default_patterns": DEFAULT_PATTERNS})
        return 0
    console = make_console()
    rows = [(f"@{name}", text) for name, text in TOKENS.items()]
    print_table(console, [Column("token"), Column("stands for", gives_way=True)], rows)
    console.print()
    print_line(console, "Every column of a table of ranges or facts is a token too: @(Paper weight)")
    for by, pattern in DEFAULT_PATTERNS.items():
        print_line(console, f'names when cutting by {by}, if no pattern is given: "{pattern}"')
    return 0
