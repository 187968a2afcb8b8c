"""How a shot is cut exactly without encoding all of it."""

from __future__ import annotations

from msgspec import Struct


class Splice(Struct, frozen=True):
    """How many frames of a shot are encoded at its beginning, copied, and encoded at its end."""

    head: int
    body: int
    tail: int

    @property
    def encoded(self) -> int:
        """Frames at both ends."""
        return self.head + self.tail
