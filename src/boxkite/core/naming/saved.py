"""Patterns saved under a name, in the user's own file."""

from __future__ import annotations

import os
from pathlib import Path

from boxkite.core.errors import PatternError, RequestError
from boxkite.core.files.reading import path_from, read_bytes
from boxkite.core.suggest import did_you_mean

FILE_VARIABLE = "BOXKITE_PATTERNS"
_MOST_BYTES = 1_000_000
PREFIX = "saved:"
"""Before the name of a saved pattern, where a pattern is asked for; no pattern can begin so."""


def patterns_file() -> Path:
    """Where patterns are saved; $BOXKITE_PATTERNS names another file."""
    if named := os.environ.get(FILE_VARIABLE):
        return path_from(named)
    import platformdirs

    return Path(platformdirs.user_config_dir("boxkite")) / "patterns.toml"


def saved_patterns() -> dict[str, str]:
    """Every saved pattern by its name. Raises RequestError for a file that cannot be read."""
    import tomllib

    path = patterns_file()
    try:
        found = tomllib.loads(read_bytes(path, _MOST_BYTES).decode("utf-8"))
    except FileNotFoundError:
        return {}
    except (OSError, UnicodeDecodeError, tomllib.TOMLDecodeError) as error:
        raise RequestError(f"the saved patterns cannot be read: {error}", path=path) from None
    for name, text in found.items():
        if not isinstance(text, str):
            raise RequestError('a pattern is a text in quotes, as "@marker"', path=path, key=name)
    return found


def pattern_of(text: str | None) -> str | None:
    """The pattern that is meant: "saved:NAME" is looked up, anything else is one. Raises PatternError."""
    if text is None or not text.startswith(PREFIX):
        return text
    name = text.removeprefix(PREFIX)
    patterns = saved_patterns()
    if name not in patterns:
        hint = did_you_mean(name, patterns) or "boxkite patterns lists them"
        raise PatternError(f"no pattern is saved as “{name}”", hint=hint)
    return patterns[name]


def save_pattern(name: str, text: str) -> Path:
    """Save a pattern under a name, in the place of one that bore it. Returns the file.

    Raises PatternError for what is no pattern, RequestError for what is no name.
    """
    if not name or not all(character.isalnum() or character in "-_" for character in name):
        raise RequestError(f"“{name}” is no name for a pattern", hint="letters, digits, dashes: delivery")
    from boxkite.core.naming.pattern import read_pattern

    read_pattern(text)
    return _write({**saved_patterns(), name: text})


def forget_pattern(name: str) -> Path:
    """Remove a saved pattern. Raises PatternError where there is none of that name."""
    pattern_of(PREFIX + name)
    return _write({one: text for one, text in saved_patterns().items() if one != name})


def _write(patterns: dict[str, str]) -> Path:
    import tomli_w

    from boxkite.core.files.writing import replace_file

    path = patterns_file()
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        replace_file(path, tomli_w.dumps(dict(sorted(patterns.items()))).encode("utf-8"))
    except OSError as error:
        raise RequestError(f"the patterns cannot be saved: {error.strerror or error}", path=path) from None
    return path
