"""TOML files of the user's, with errors that name the file and what is wrong in it."""

from __future__ import annotations

import tomllib
from pathlib import Path
from typing import Any

from boxkite.core.errors import RequestError
from boxkite.core.files.reading import read_bytes

_MOST_BYTES = 1_000_000


def read_toml(path: Path) -> dict[str, Any]:
    """The tables of a file. Raises FileNotFoundError where there is none, RequestError for one that cannot be read."""
    try:
        return tomllib.loads(read_bytes(path, _MOST_BYTES).decode("utf-8"))
    except FileNotFoundError:
        raise
    except OSError as error:
        raise RequestError(f"it cannot be read: {error.strerror or error}", path=path) from None
    except (tomllib.TOMLDecodeError, UnicodeDecodeError, RecursionError) as error:
        raise RequestError(f"this is not TOML: {error}", path=path) from None


def read_given_toml(path: Path) -> dict[str, Any]:
    """The same of a file that was named by the user. Raises RequestError where there is none, too."""
    try:
        return read_toml(path)
    except FileNotFoundError as error:
        raise RequestError(f"it cannot be read: {error.strerror}", path=path) from None
