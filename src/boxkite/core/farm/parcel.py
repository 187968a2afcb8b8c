"""A shot on its way to another machine: its paths are called there as that machine calls them."""

from __future__ import annotations

import io
import pickle
import platform
from collections.abc import Sequence
from pathlib import Path, PurePath
from typing import Any

from boxkite.core.batch.messages import ShotTask
from boxkite.core.batch.packing import PlainUnpickler
from boxkite.core.settings import PathRule, mapped

_PATH = "path"


class _Packer(pickle.Pickler):
    def persistent_id(self, value: Any) -> tuple[str, str] | None:
        """Paths are sent as texts."""
        return (_PATH, str(value)) if isinstance(value, PurePath) else None


class _Unpacker(PlainUnpickler):
    def __init__(self, content: bytes, rules: Sequence[PathRule]) -> None:
        super().__init__(io.BytesIO(content))
        self._rules = rules

    def persistent_load(self, identity: Any) -> Path:
        """Texts become paths of this machine."""
        kind, text = identity
        if kind != _PATH:
            raise pickle.UnpicklingError(f"{kind} does not belong in a shot")
        return Path(mapped(text, self._rules, platform.node()))


def pack_shot(task: ShotTask) -> bytes:
    """A shot as bytes."""
    content = io.BytesIO()
    _Packer(content, protocol=pickle.HIGHEST_PROTOCOL).dump(task)
    return content.getvalue()


def unpack_shot(content: bytes, rules: Sequence[PathRule]) -> ShotTask:
    """The shot, with paths as this machine calls them. Raises UnpicklingError for anything else."""
    task = _Unpacker(content, rules).load()
    if not isinstance(task, ShotTask):
        raise pickle.UnpicklingError("this is no shot")
    return task
