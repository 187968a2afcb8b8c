"""Box Kite: from a marked program to named, verified files. As a library, see boxkite.api."""

from __future__ import annotations

__version__ = "0.1.0"

TYPE_CHECKING = False  # what checkers take for typing's: loading that is a tenth of the time of --help
if TYPE_CHECKING:
    from typing import Any

    from boxkite.api import *  # noqa: F403
    from boxkite.api import __all__ as __all__


def __getattr__(name: str) -> Any:
    """The names of the library, loaded when the first of them is asked for: the program needs none of them."""
    if name.startswith("_") and name != "__all__":
        raise AttributeError(f"module “boxkite” has no attribute “{name}”")
    from importlib import import_module

    api = import_module("boxkite.api")
    if name == "__all__" or name in api.__all__:
        return getattr(api, name)
    raise AttributeError(f"module “boxkite” has no attribute “{name}”")
