"""Where lines go: a terminal, with styles, or a pipe, plain. Of rich only what the moment needs: most needs none."""

from __future__ import annotations

import os
import sys
from collections.abc import Iterable
from functools import cached_property
from itertools import islice
from typing import TYPE_CHECKING, TextIO

from boxkite.cli.messages import printable

if TYPE_CHECKING:
    from rich.console import Console
    from rich.status import Status

_PIPED_WIDTH = 100_000
_LEAST_WINDOW = 20
_AT_ONCE = 1000
_CODES = {"bold": "1", "red": "31", "green": "32", "yellow": "33", "cyan": "36"}
"""Select Graphic Rendition, ECMA-48 8.3.117."""

Line = tuple[str, str]
"""A text and its style: words of _CODES, or nothing."""


class Screen:
    """The standard output, or the standard error where the output is for programs."""

    def __init__(self, *, stderr: bool = False) -> None:
        """A pipe is as wide as $COLUMNS says, or as the longest line."""
        self._stderr = stderr
        self.is_terminal = self.stream.isatty()

    @property
    def stream(self) -> TextIO:
        """Where it writes."""
        return sys.stderr if self._stderr else sys.stdout

    @cached_property
    def width(self) -> int:
        """Columns of the window."""
        if self.is_terminal:
            return os.get_terminal_size(self.stream.fileno()).columns or self.console.width
        asked = os.environ.get("COLUMNS", "")
        return int(asked) if asked.isdecimal() and int(asked) >= _LEAST_WINDOW else _PIPED_WIDTH

    @cached_property
    def console(self) -> Console:
        """The same for what draws on it: progress, and paragraphs."""
        from rich.console import Console

        width = None if self.is_terminal else self.width
        return Console(stderr=self._stderr, width=width, highlight=False, soft_wrap=not self.is_terminal)

    @cached_property
    def _has_styles(self) -> bool:
        if not self.is_terminal or os.environ.get("NO_COLOR") or sys.platform == "win32":
            return False
        return os.environ.get("TERM", "dumb") not in ("dumb", "unknown", "")

    def status(self, text: str) -> Status:
        """A line with a turning wheel, to be used as a context; nothing where there is no window."""
        return self.console.status(text)

    def print(self, text: str = "", style: str = "") -> None:
        """Print one line or, in a window, a wrapped paragraph; no markup is read in it."""
        self.print_lines([(text, style)])

    def print_lines(self, lines: Iterable[Line], *, wrapped: bool = True) -> None:
        """Print lines, each with its style. wrapped: those wider than the window are broken between words."""
        if not self.is_terminal:
            self._write_plainly(lines)
            return
        for text, style in lines:
            safe = printable(text)
            if sys.platform == "win32" or (wrapped and self._is_too_wide(safe)):
                from rich.text import Text

                self.console.print(Text(safe, style=style), soft_wrap=not wrapped)
            else:
                self.stream.write(self._styled(safe, style) + "\n")
        self.stream.flush()

    def _write_plainly(self, lines: Iterable[Line]) -> None:
        waiting = iter(lines)
        while some := [text for text, _ in islice(waiting, _AT_ONCE)]:
            whole = "".join(some)
            if not (whole.isascii() and whole.isprintable()):
                some = [printable(text) for text in some]
            self.stream.write("\n".join(some) + "\n")
        self.stream.flush()

    def _is_too_wide(self, text: str) -> bool:
        return width_of(text) > self.width

    def _styled(self, text: str, style: str) -> str:
        if not style or not self._has_styles:
            return text
        return f"\x1b[{';'.join(_CODES[word] for word in style.split())}m{text}\x1b[0m"


def width_of(text: str) -> int:
    """Columns a text takes in the window."""
    if text.isascii():
        return len(text)
    from rich.cells import cell_len

    return cell_len(text)
