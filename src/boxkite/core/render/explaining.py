"""Whatever goes wrong while a file is made, in words."""

from __future__ import annotations

import errno

import av

from boxkite.core.errors import BoxkiteError


def explain(error: Exception) -> str:
    """Any error met while rendering, in one line that says what to do where that is known."""
    if isinstance(error, BoxkiteError):
        return f"{error}" + (f" ({error.hint})" if error.hint else "")
    if isinstance(error, OSError) and error.errno == errno.ENOSPC:
        return "the disk is full: make room, then run the rest again"
    if isinstance(error, av.error.FFmpegError):
        return f"the codec library gave up: {error.strerror}"
    if isinstance(error, OSError):
        return f"{error.strerror or error}"
    return f"{type(error).__name__}: {error}"
