"""Running a batch in a process that survives the terminal."""

from __future__ import annotations

import subprocess
import sys
import time
from collections.abc import Sequence
from typing import TYPE_CHECKING

from boxkite.core.machine import users_environment

if TYPE_CHECKING:
    from boxkite.core.records.store import Records

_PATIENCE_SECONDS = 20.0


def resume_in_background(records: Records, name: str, options: Sequence[str] = ()) -> int:
    """Start a process that resumes a batch; its number. options: of resume, for what no record keeps.

    Raises RecordsError where it ends before it begins.
    """
    from boxkite.core.errors import RecordsError
    from boxkite.core.records.batch_lock import is_held, prints_path

    prints = prints_path(records.folder, name)
    prints.parent.mkdir(parents=True, exist_ok=True)
    detached: dict[str, int | bool] = {"start_new_session": True}
    if sys.platform == "win32":
        detached = {"creationflags": subprocess.DETACHED_PROCESS | subprocess.CREATE_NEW_PROCESS_GROUP}
    with prints.open("wb") as output:
        process = subprocess.Popen(
            [sys.executable, "-m", "boxkite", "resume", name, *options],
            stdin=subprocess.DEVNULL,
            stdout=output,
            stderr=output,
            env=users_environment(),
            **detached,  # type: ignore[call-overload]
        )
    patience = time.monotonic() + _PATIENCE_SECONDS
    while time.monotonic() < patience and not is_held(records.folder, name):
        if process.poll() is not None and records.batch(name, with_files=False).state == "waiting":
            said_last = prints.read_text(errors="replace").strip().splitlines()[-1:]
            raise RecordsError(f"batch {name} could not be begun in the background", details=said_last)
        if process.poll() is not None:
            break
        time.sleep(0.05)
    return int(process.pid)
