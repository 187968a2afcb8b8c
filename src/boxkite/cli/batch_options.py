"""The words that say how a batch is run: the same in every command that runs one."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from boxkite.core.batch.notices import Notices

TURNS = ("wait", "share")


def add_batch_arguments(parser: argparse.ArgumentParser) -> None:
    """How many shots at a time, beside what else, and who is told."""
    how = parser.add_argument_group("how it is run")
    how.add_argument(
        "--workers",
        type=int,
        metavar="N",
        help="shots made at the same time (default: one a core, fewer where memory is short)",
    )
    how.add_argument(
        "--turn",
        choices=TURNS,
        help="while other batches run: wait for its turn (default), or share the cores with them",
    )
    how.add_argument(
        "--when-ended",
        metavar="COMMAND",
        help="a command to run when the batch has ended; the facts stand in BOXKITE_… and on its input as JSON",
    )
    how.add_argument(
        "--web-hook", metavar="ADDRESS", help="an address of the web that is told when the batch has ended"
    )


def notices_from(arguments: argparse.Namespace) -> Notices:
    """Who is told. Raises RequestError."""
    from boxkite.core.batch.notices import Notices

    return Notices(arguments.when_ended or "", arguments.web_hook or "")
