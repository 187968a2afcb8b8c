"""Write a manifest of finished files: a media hash list (ASC MHL), or a plain list of checksums."""

from __future__ import annotations

import argparse

from boxkite.cli.handover import add_delivery, bytes_progress, note
from boxkite.cli.screen import Screen
from boxkite.core.job.manifest_forms import MANIFEST_FORMS

EXAMPLES = """\
examples:
  boxkite manifest
  boxkite manifest 2026-11-23.1 --form md5
  boxkite manifest /media/copy/out/review
  boxkite verify /media/copy/out/review

A media hash list goes into the folder ascmhl; where there is one already, as on a second copy,
the bytes are compared with it and a generation is added. Plain lists are read by the checksum
programs of every system. Checksums that a batch took are not taken again.
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Of what, and which form."""
    add_delivery(parser)
    parser.add_argument(
        "--form", choices=MANIFEST_FORMS, default=MANIFEST_FORMS[0], metavar="FORM",
        help=f"{', '.join(MANIFEST_FORMS)} (default: {MANIFEST_FORMS[0]})",
    )  # fmt: skip
    parser.add_argument("--author", metavar="NAME", help="who vouches for it (default: the user's name)")
    parser.add_argument("--json", action="store_true", help="print JSON instead of lines")


def run(arguments: argparse.Namespace) -> int:
    """Write it."""
    from boxkite.cli.options import current_user
    from boxkite.cli.tables import counted, print_json
    from boxkite.core.handover.delivery import delivery_of
    from boxkite.core.handover.manifests import bytes_to_read, write_manifests
    from boxkite.core.records.handovers import MANIFEST

    screen = Screen(stderr=arguments.json)
    delivery = delivery_of(arguments.delivery)
    author = current_user() if arguments.author is None else arguments.author
    with bytes_progress(screen, "reading", bytes_to_read(delivery, arguments.form)) as progress:
        written = write_manifests(delivery, arguments.form, author=author, progress=progress)
    for one in written:
        note(screen, delivery, MANIFEST, one.path, counted(one.files, "file"))
        generation = f", generation {one.generation}" if one.generation else ""
        taken = one.files - one.read
        before = f"; {counted(taken, 'checksum')} taken by the batch" if taken else ""
        screen.print(f"{one.path}: {counted(one.files, 'file')}{generation}{before}", "bold green")
    if delivery.not_made:
        screen.print(
            f"! {counted(len(delivery.not_made), 'file')} of the batch not made, and not listed", "yellow"
        )
    if arguments.json:
        print_json(
            {
                "manifests": [
                    {"path": str(one.path), "files": one.files, "read": one.read,
                     "generation": one.generation or None}
                    for one in written
                ]
            },
            "manifest",
        )  # fmt: skip
    return 0
