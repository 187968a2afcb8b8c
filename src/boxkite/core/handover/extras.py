"""Packages that only some commands need, and how to get them."""

from __future__ import annotations

from importlib.util import find_spec

from boxkite.core.errors import RequestError

_EXTRAS = {"pandas": "handover", "fpdf": "handover", "jinja2": "handover", "ascmhl": "mhl"}


def require(package: str, what: str) -> None:
    """Raises RequestError where a package is missing. what: that needs it, as "a workbook"."""
    if find_spec(package) is None:
        extra = _EXTRAS[package]
        raise RequestError(
            f"{what} needs the extra “{extra}”", hint=f"pip install 'boxkite-shots[{extra}]' adds it"
        )
