"""Whatever goes wrong while a file is made: in words, in full for the log, and whether trying again can help."""

from __future__ import annotations

import errno
import traceback
from pathlib import Path

import av

from boxkite.core.errors import BoxkiteError, setting
from boxkite.core.plan.rows import Row
from boxkite.core.render.result import Result

_PASSING = {
    getattr(errno, name)
    for name in ("EIO", "ESTALE", "ETIMEDOUT", "ENETDOWN", "ENETUNREACH", "ENETRESET", "EHOSTDOWN", "EHOSTUNREACH",
                 "ECONNRESET", "ECONNABORTED", "ENOTCONN", "EBUSY", "EINTR", "ENOMEM", "EMFILE", "ENFILE")
    if hasattr(errno, name)
}  # fmt: skip
"""Of shares that were gone for a moment, and of a machine that was short of something."""


def failed(row: Row, error: Exception) -> Result:
    """The result of a row that an error has ended."""
    return Result(
        row.number,
        row.path,
        failure=explain(error),
        detail=_detail_of(error),
        may_pass=_may_pass(error),
        out_of_space=_is_no_room(error),
    )


def explain(error: Exception, *, then: str = "boxkite resume") -> str:
    """Any error met while files are made, in one line that says what to do where that is known.

    then: what goes on once there is room.
    """
    if isinstance(error, BoxkiteError):
        return error.text + (f" ({error.hint})" if error.hint else "")
    if _is_no_room(error):
        return f"the disk is full: make room, then {then}"
    if isinstance(error, MemoryError) or (isinstance(error, OSError) and error.errno == errno.ENOMEM):
        return f"there is not enough memory: fewer {setting('workers')} need less of it"
    if isinstance(error, FileNotFoundError):
        where = error.filename.removeprefix("file:") if isinstance(error.filename, str) else ""
        return f"{where or 'a file or folder'} is no longer there"
    if isinstance(error, av.error.FFmpegError):
        return "the codec library gave up on it; the log has its message"
    if isinstance(error, OSError):
        return f"{error.strerror or error}"
    return f"{type(error).__name__}: {error}"


def _detail_of(error: BaseException) -> str:
    """Where in the program an error came from: a line for each call, the innermost last, then the error."""
    before = error.__cause__ or (None if error.__suppress_context__ else error.__context__)
    lines = [_detail_of(before)] if before else []
    lines += [
        f"at {_in_package(frame.filename)}:{frame.lineno} in {frame.name}"
        for frame in traceback.extract_tb(error.__traceback__)
    ]
    return "\n".join([*lines, f"{type(error).__name__}: {error}"])


def _in_package(file: str) -> str:
    """A file's name from the folder of its package on."""
    parts = Path(file).parts
    place = max((index for index, part in enumerate(parts) if part in ("boxkite", "av")), default=-2)
    return "/".join(parts[place:])


def _may_pass(error: Exception) -> bool:
    """Whether the same thing can go well a little later."""
    return isinstance(error, MemoryError) or (isinstance(error, OSError) and error.errno in _PASSING)


def _is_no_room(error: Exception) -> bool:
    return isinstance(error, OSError) and error.errno == errno.ENOSPC
