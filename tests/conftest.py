"""What holds for all tests: what is remembered of files and batches lies in folders of its own, never in the user's."""

from __future__ import annotations

import atexit
import os
import shutil
import signal
import tempfile

from hypothesis import settings

settings.register_profile("any machine", deadline=None)  # how long an example takes is the machine's affair
settings.load_profile("any machine")

# Programs started in the background of a shell ignore an interruption, and so would all that the tests start.
signal.signal(signal.SIGINT, signal.default_int_handler)

os.environ.pop("COLUMNS", None)  # which tables fit where they are piped
for variable in ("BOXKITE_CACHE", "BOXKITE_STATE", "BOXKITE_PRESETS"):
    os.environ[variable] = tempfile.mkdtemp(prefix="boxkite-tests-")
    atexit.register(shutil.rmtree, os.environ[variable], ignore_errors=True)
os.environ["BOXKITE_PATTERNS"] = f"{os.environ['BOXKITE_PRESETS']}/patterns.toml"
os.environ["BOXKITE_SETTINGS"] = f"{os.environ['BOXKITE_PRESETS']}/settings.toml"
