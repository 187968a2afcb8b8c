"""KEY=VALUE on the command line."""

from __future__ import annotations

import argparse


def add_settings(parser: argparse._ActionsContainer, what: str) -> None:
    """--set, as often as wanted. what: it may say."""
    parser.add_argument(
        "--set",
        metavar="KEY=VALUE",
        action="append",
        default=[],
        dest="changes",
        help=f"{what} (repeatable)",
    )
