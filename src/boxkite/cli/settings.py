"""KEY=VALUE on the command line."""

from __future__ import annotations

import argparse
from typing import Any


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


def read_setting(text: str) -> tuple[str, Any]:
    """Read video.quality=18 into the key and a value as TOML has it; what is no TOML value is plain text.

    Raises RequestError.
    """
    import tomllib

    from boxkite.core.errors import RequestError

    key, equals, value = text.partition("=")
    if not equals or not key.strip() or not all(part.strip() for part in key.split(".")):
        raise RequestError(f"--set {text}: give a key and a value", hint="as --set video.quality=18")
    try:
        return key.strip(), tomllib.loads(f"value = {value.strip()}")["value"]
    except tomllib.TOMLDecodeError:
        return key.strip(), value.strip()
