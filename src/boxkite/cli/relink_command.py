"""Write an edit that points at finished files, and back at the originals; or one of just the shots."""

from __future__ import annotations

import argparse

from boxkite.cli.handover import add_existing, note
from boxkite.cli.screen import Screen

EXAMPLES = """\
examples:
  boxkite relink day.otio --to last --into day-shots.otio
  boxkite relink day.edl --rate 25 --to out/review --preset review --into day-review.edl
  boxkite relink day-shots.otio --to last --originals --into day-originals.otio
  boxkite relink --to last --into shots.otio

Each clip points at the file that holds its frames, transitions included; one without such a file
keeps its media and is listed. Without an edit, the shots follow one another in the order of the plan.
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Which edit, at which files, where to."""
    parser.add_argument("edit", nargs="?", metavar="EDIT",
                        help=".otio, .edl, .xml or what an adapter reads (default: an edit of the shots)")  # fmt: skip
    parser.add_argument("--to", metavar="BATCH|FOLDER", default="last",
                        help="the files: a batch by its name, or a folder (default: last, the last batch)")  # fmt: skip
    parser.add_argument(
        "--into", metavar="FILE", required=True, help="the edit to write: .otio, .edl, .xml, .fcpxml"
    )
    parser.add_argument(
        "--originals", action="store_true", help="point an edit of these files at their sources"
    )
    parser.add_argument(
        "--preset", metavar="NAME", default="", help="the files of this preset (default: the first)"
    )
    parser.add_argument("--tracks", metavar="NAMES", default="", help="keep only these tracks, as V1,A1")
    parser.add_argument("--rate", metavar="FPS", help="frame rate of a decision list (default: of the files)")
    add_existing(parser)
    parser.add_argument("--json", action="store_true", help="print JSON instead of lines")


def run(arguments: argparse.Namespace) -> int:
    """Write it, and list the clips that keep their media."""
    from boxkite.cli.options import current_user
    from boxkite.cli.tables import counted, print_json
    from boxkite.core.files.reading import path_from
    from boxkite.core.handover.delivery import delivery_of
    from boxkite.core.handover.relinking.relinking import relink
    from boxkite.core.handover.written import write
    from boxkite.core.notices.notice import notice_as_json

    screen = Screen(stderr=arguments.json)
    delivery = delivery_of(arguments.to)
    found = relink(
        path_from(arguments.edit) if arguments.edit else None, delivery, path_from(arguments.into),
        back=arguments.originals, preset=arguments.preset, tracks=_tracks(arguments.tracks), rate=arguments.rate,
        existing=arguments.existing, user=current_user(),
    )  # fmt: skip
    write(found.into, found.content, arguments.existing)
    note(screen, delivery, "edit", found.into.absolute(), counted(found.pointing, "clip"))
    for notice in (*found.notices, *found.kept):
        screen.print(f"! {notice.marked}", "yellow")
    kept = f", {len(found.kept)} keep their media" if found.kept else ""
    screen.print(f"{found.into}: {counted(found.pointing, 'clip')} point at {found.at}{kept}", "bold green")
    if arguments.json:
        print_json({
            "edit": str(found.into), "relinked": found.pointing,
            "kept": [notice_as_json(one) for one in found.kept],
            "notices": [notice_as_json(one) for one in found.notices],
        }, "relink")  # fmt: skip
    return 0


def _tracks(text: str) -> tuple[str, ...]:
    return tuple(name.strip().upper() for name in text.split(",") if name.strip())
