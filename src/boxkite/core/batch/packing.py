"""A plan packed into bytes, so that another process can make its files: later, or on another machine."""

from __future__ import annotations

import importlib
import io
import pickle
import zlib
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from boxkite.core.errors import RecordsError
from boxkite.core.job.job import Job
from boxkite.core.plan.rows import Row

_ELSEWHERE: Mapping[str, frozenset[str]] = {
    "builtins": frozenset({"set", "frozenset", "slice", "range", "bytearray"}),
    "fractions": frozenset({"Fraction"}),
    "datetime": frozenset({"datetime", "date", "time", "timedelta", "timezone"}),
    "pathlib": frozenset({"Path", "PosixPath", "WindowsPath", "PurePosixPath", "PureWindowsPath"}),
    "pathlib._local": frozenset({"Path", "PosixPath", "WindowsPath", "PurePosixPath", "PureWindowsPath"}),
    "collections": frozenset({"OrderedDict", "defaultdict"}),
    "types": frozenset({"MappingProxyType"}),
    "numpy": frozenset({"ndarray", "dtype"}),
    "numpy.core.multiarray": frozenset({"_reconstruct", "scalar"}),
    "numpy._core.multiarray": frozenset({"_reconstruct", "scalar"}),
    "numpy._core.numeric": frozenset({"_frombuffer"}),
    "numpy.core.numeric": frozenset({"_frombuffer"}),
    "copyreg": frozenset({"_reconstructor", "__newobj_ex__"}),
}


@dataclass(frozen=True)
class Packed:
    """What is kept of a plan: the rows to be made, and the job they came of, where there was one."""

    rows: tuple[Row, ...]
    job: Job | None


class PlainUnpickler(pickle.Unpickler):
    """Reads back values of this program and plain ones, and nothing that could run anything else."""

    def find_class(self, module: str, name: str) -> Any:
        """A class that packed plans are made of. Raises UnpicklingError for any other."""
        if name in _ELSEWHERE.get(module, ()):
            return getattr(importlib.import_module(module), name)
        if module.startswith("boxkite.core.") and "." not in name:
            found = getattr(importlib.import_module(module), name, None)
            if isinstance(found, type) and found.__module__ == module:
                return found
        raise pickle.UnpicklingError(f"{module}.{name} does not belong in a plan")


def pack(packed: Packed) -> bytes:
    """The bytes of a plan; only this version of the program is sure to read them."""
    return zlib.compress(pickle.dumps(packed, protocol=pickle.HIGHEST_PROTOCOL), level=1)


def unpack(content: bytes) -> Packed:
    """The plan in some bytes. Raises RecordsError where they are not one."""
    try:
        found = PlainUnpickler(io.BytesIO(zlib.decompress(content))).load()
    except Exception as error:  # bytes that were changed can fail in any way
        raise RecordsError(f"its plan cannot be read back: {error}") from None
    if not isinstance(found, Packed):
        raise RecordsError("its plan cannot be read back: it is something else")
    return found
