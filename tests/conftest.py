"""What holds for all tests: the memory of files lies in a folder of its own, never in the user's."""

from __future__ import annotations

import os
import tempfile

os.environ["BOXKITE_CACHE"] = tempfile.mkdtemp(prefix="boxkite-tests-")
