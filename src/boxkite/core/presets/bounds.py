"""The bounds of settings, as annotations that pydantic heeds; the package that has such takes 15 ms of each start."""

from __future__ import annotations

from typing import Any

from msgspec import Struct


class Interval(Struct, frozen=True, kw_only=True):
    """A number above, from, or up to another."""

    gt: float | None = None
    ge: float | None = None
    le: float | None = None

    def __get_pydantic_core_schema__(self, source: Any, handler: Any) -> dict[str, Any]:
        """What pydantic asks annotations that are not its own: the check of a type with these bounds."""
        bounds = {name: getattr(self, name) for name in self.__struct_fields__}
        return {**handler(source), **{name: bound for name, bound in bounds.items() if bound is not None}}


class Len(Struct, frozen=True):
    """A text of so many characters."""

    min_length: int
    max_length: int

    def __get_pydantic_core_schema__(self, source: Any, handler: Any) -> dict[str, Any]:
        """As above."""
        return {**handler(source), "min_length": self.min_length, "max_length": self.max_length}
