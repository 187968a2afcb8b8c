"""The right to read a media file, before the codec library is asked."""

from __future__ import annotations

import os
from pathlib import Path

from boxkite.core.errors import FootageError, InaccessibleError
from boxkite.core.files.reading import NotAFileError, open_regular, shown_path


def open_media(path: Path) -> int:
    """A descriptor of a regular file with something in it, which whoever asks closes. Raises FootageError otherwise."""
    try:
        descriptor = open_regular(path)
    except FileNotFoundError:
        raise FootageError("there is no such file", path=path) from None
    except IsADirectoryError:
        raise FootageError("this is a folder", path=path, hint="inspect lists what is inside") from None
    except NotAFileError as error:
        raise FootageError(str(error.strerror), path=path) from None
    except ValueError:
        raise FootageError("this is not a path: it holds a zero byte", path=shown_path(path)) from None
    except OSError as error:
        raise InaccessibleError(
            f"it cannot be opened: {(error.strerror or 'unknown cause').lower()}",
            path=path,
            hint="ask for the right to read it",
        ) from None
    if os.fstat(descriptor).st_size == 0:
        os.close(descriptor)
        raise FootageError("the file is empty", path=path)
    return descriptor
