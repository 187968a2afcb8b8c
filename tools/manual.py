"""Writes a manual page (man, section 1) for Box Kite and each of its commands, from their parsers."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path

from argparse_manpage.manpage import Manpage  # type: ignore[import-untyped]

from boxkite import __version__
from boxkite.cli.dispatch import Parser, build_parser
from boxkite.cli.main import COMMANDS


def page(parser: argparse.ArgumentParser, name: str, summary: str) -> str:
    """The manual page of a parser, as troff."""
    described = {"project_name": "Box Kite", "version": __version__, "prog": name, "manual_section": "1"}
    described |= {"description": summary, "manual_title": "Box Kite"}
    made = Manpage(parser, _data=described)
    head = str(made).partition("\n")
    return f".TH {name.upper()} " + head[0].partition('"')[1] + head[0].partition('"')[2] + head[1] + head[2]


def whole() -> argparse.ArgumentParser:
    """A parser that lists the commands."""
    parser = Parser(prog="boxkite", description="Cut programs and footage into single shots, name them by rule,"
                    " transcode them, and verify that every frame is there.")  # fmt: skip
    actions = parser.add_subparsers(metavar="COMMAND")
    for name, summary in COMMANDS.items():
        actions.add_parser(name, help=summary)
    return parser


def main() -> int:
    """Write the pages into a folder."""
    folder = Path(sys.argv[1])
    folder.mkdir(parents=True, exist_ok=True)
    (folder / "boxkite.1").write_text(page(whole(), "boxkite", "cut, name, transcode and verify shots"))
    for name, summary in COMMANDS.items():
        (folder / f"boxkite-{name}.1").write_text(page(build_parser(name), f"boxkite-{name}", summary))
    print(f"{folder}: {len(COMMANDS) + 1} pages; MANPATH={folder.parent} man boxkite")
    return 0


if __name__ == "__main__":
    sys.exit(main())
