"""List what is there: a row per source, and every file that cannot be read with the reason."""

from __future__ import annotations

import argparse
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from boxkite.cli.messages import printable
from boxkite.cli.options import add_job_options, current_user, images_from
from boxkite.cli.screen import Screen
from boxkite.core.files.reading import path_from

if TYPE_CHECKING:
    from boxkite.core.footage.deep import DeepInfo
    from boxkite.core.footage.source import Findings, Source

EXAMPLES = """\
examples:
  boxkite inspect mill.mov
  boxkite inspect card1/ card2/ --json
  boxkite inspect mill.mov --deep
  boxkite inspect day.otio
  boxkite inspect --tokens
  boxkite inspect card/A-vat2.mov --tokens --metadata slates.csv
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The paths, and how they are shown."""
    parser.add_argument(
        "paths", nargs="*", metavar="PATH", help="media files or folders, subfolders included"
    )
    add_job_options(parser, "inspect")
    parser.add_argument(
        "--deep",
        action="store_true",
        help="read every packet too: whether the frame rate is constant, where keyframes are",
    )
    parser.add_argument(
        "--tokens",
        action="store_true",
        help="list the tokens of name patterns; with a PATH also its value, origin and what it overrides",
    )
    parser.add_argument("--json", action="store_true", help="print JSON instead of tables")


def run(arguments: argparse.Namespace) -> int:
    """Show the sources; status 1 when some files could not be read, 2 when none could."""
    from boxkite.core.errors import FootageError, RequestError

    if not arguments.paths:
        if arguments.tokens:
            return _show_all_tokens(as_json=arguments.json)
        raise RequestError("nothing to inspect", hint="name files or folders: boxkite inspect card1/")
    from boxkite.core.edit.reading import is_edit
    from boxkite.core.footage.find import find_sources

    paths = [path_from(path) for path in arguments.paths]
    edits = [path for path in paths if is_edit(path)]
    if edits:
        from boxkite.cli.edit_tables import show_edits

        if len(edits) < len(paths):
            raise RequestError(
                "timelines and footage are shown one kind at a time", hint="name only one of them"
            )
        return show_edits(edits, arguments.marks_rate, as_json=arguments.json)
    found = find_sources(paths, images_from(arguments))
    named_and_unreadable = [item for item in found.unreadable if item.path in paths]
    if not found.sources and len(found.unreadable) == 1 and named_and_unreadable:
        only = found.unreadable[0]
        raise FootageError(only.reason, path=only.path, hint=only.hint)
    if not found.sources and [one.path for one in found.unseen] == paths:
        raise FootageError(found.unseen[0].reason, path=paths[0])
    if arguments.tokens:
        return _show_tokens_of(found.sources, arguments)
    deep = _read_deep(found.sources) if arguments.deep else {}
    if arguments.json:
        from boxkite.cli.source_info import source_as_json
        from boxkite.cli.tables import print_json

        print_json(
            {
                "sources": [source_as_json(source, deep.get(source.path)) for source in found.sources],
                "unreadable": [
                    {"path": str(item.path), "reason": item.reason, "hint": item.hint}
                    for item in found.unreadable
                ],
                "junk": found.junk,
                "unseen": [{"path": str(one.path), "reason": one.reason} for one in found.unseen],
            },
            "inspect",
        )
    else:
        _show(found, deep, arguments.deep)
    if not found.sources:
        return 2
    return 1 if named_and_unreadable or found.unseen else 0


def _read_deep(sources: Sequence[Source]) -> dict[Path, DeepInfo]:
    """Read the packets of each source; the results are remembered by file, since that takes long."""
    from boxkite.core.footage.deep import remembered_deep

    with Screen(stderr=True).status("reading packets") as status:
        return remembered_deep(
            sources, lambda source: status.update(f"reading packets of {printable(source.label)}")
        )


def _show(found: Findings, deep: Mapping[Path, DeepInfo], wants_deep: bool) -> None:
    from boxkite.cli.tables import Column, counted, file_size, print_table

    screen = Screen()
    sources, unreadable = found.sources, found.unreadable
    if sources:
        columns = [
            Column("source", gives_way=True),
            Column("picture"),
            Column("codec", optional=True),
            Column("rate", right=True),
            Column("frames", right=True),
            Column("starts at"),
            Column("length", optional=True),
            Column("audio"),
        ]
        print_table(screen, columns, [_row(source) for source in sources])
        size = file_size(sum(source.size_bytes for source in sources))
        screen.print()
        junk = f"; {counted(found.junk, 'file')} of the system skipped" if found.junk else ""
        screen.print(f"{counted(len(sources), 'source')}, {size}{junk}", "bold")
        if len(sources) == 1 or wants_deep:
            for source in sources:
                _show_facts(screen, source, deep.get(source.path), named=len(sources) > 1)
    for source in sources:
        for warning in source.warnings:
            screen.print(f"  {source.label}: {warning.marked}", "yellow")
    if unreadable:
        screen.print(f"{counted(len(unreadable), 'file')} not read:", "bold")
        for item in unreadable:
            hint = f" ({item.hint})" if item.hint else ""
            screen.print(f"  {item.path}: {item.reason}{hint}")
    from boxkite.cli.warnings import show_unseen

    show_unseen(screen, found.unseen)


def _show_facts(screen: Screen, source: Source, deep: DeepInfo | None, *, named: bool) -> None:
    """Everything about one source, a line each; what only the packets tell says "not measured" without --deep."""
    from boxkite.cli.source_info import lines_about_source

    if named:
        screen.print(source.label, "bold")
    for word, value in lines_about_source(source, deep, max(16, min(screen.width - 18, 80))):
        screen.print(f"  {word:<14}{value}")


def _row(source: Source) -> list[str]:
    from boxkite.cli.source_info import clock_of, is_uncounted, length_of

    video = source.video
    if video is None:
        return [
            str(source.path.parent / source.label),
            "",
            source.audio[0].codec,
            "",
            "",
            "",
            clock_of(source),
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
        "" if is_uncounted(source) else f"{about}{video.frame_count}",
        str(source.start_timecode or "none"),
        "" if is_uncounted(source) else length_of(source),
        _sound(source),
    ]


def _sound(source: Source) -> str:
    layouts = [audio.shown_layout for audio in source.audio]
    if not layouts:
        return "none"
    if len(set(layouts)) == 1 and len(layouts) > 1:
        return f"{len(layouts)} × {layouts[0]}"
    return " + ".join(layouts)


def _show_tokens_of(sources: Sequence[Source], arguments: argparse.Namespace) -> int:
    """Every token of each source with value, origin and what lost to it; rows and sources without partner."""
    from boxkite.cli.tables import Column, print_json, print_table
    from boxkite.core.metadata.lookup import know
    from boxkite.core.notices.notice import notice_as_json
    from boxkite.core.shots.token_listing import list_tokens

    tables = [path_from(path) for path in arguments.metadata or ()]
    known, notices = know(sources, tables, arguments.match_by)
    listed = {source.path: list_tokens(source, known[source.path], current_user()) for source in sources}
    if arguments.json:
        print_json(
            {
                "sources": [
                    {
                        "path": str(path),
                        "tokens": [
                            {
                                "token": line.token,
                                "value": line.value,
                                "origin": line.origin,
                                "overrides": [
                                    {"value": entry.value, "origin": entry.origin} for entry in line.lost
                                ],
                            }
                            for line in lines
                        ],
                    }
                    for path, lines in listed.items()
                ],
                "notices": list(map(notice_as_json, notices)),
            },
            "tokens-of",
        )
        return 0
    screen = Screen()
    for path, lines in listed.items():
        if len(listed) > 1:
            screen.print(str(path), "bold")
        rows = [
            (
                f"@{line.token}" if line.token.isalpha() else f"@({line.token})",
                line.value,
                line.origin,
                "; ".join(f"{entry.value} ({entry.origin})" for entry in line.lost),
            )
            for line in lines
            if line.value
        ]
        columns = [
            Column("token"),
            Column("value", gives_way=True),
            Column("from"),
            Column("overrides", gives_way=True),
        ]
        print_table(screen, columns if any(row[3] for row in rows) else columns[:3], rows)
        empty = ", ".join(line.token for line in lines if not line.value)
        screen.print(f"empty here: {empty}")
        screen.print()
    for notice in notices:
        screen.print(f"! {notice.marked}", "yellow")
    return 0


def _show_all_tokens(*, as_json: bool) -> int:
    from boxkite.cli.tables import Column, print_json, print_table
    from boxkite.core.job.allowed import DEFAULT_PATTERNS
    from boxkite.core.shots.tokens import TOKENS

    if as_json:
        print_json(
            {
                "tokens": {name: token.help for name, token in TOKENS.items()},
                "default_patterns": DEFAULT_PATTERNS,
            },
            "tokens",
        )
        return 0
    screen = Screen()
    rows = [(f"@{name}", token.help) for name, token in TOKENS.items()]
    print_table(screen, [Column("token"), Column("meaning", gives_way=True)], rows)
    screen.print()
    screen.print("Every column of a table of ranges or metadata is a token too: @(Paper weight)")
    for by, pattern in DEFAULT_PATTERNS.items():
        screen.print(f'names when cutting by {by}, if no pattern is given: "{pattern}"')
    return 0
