"""Notifications when a batch ends: a command that is run, a web address that gets a POST."""

from __future__ import annotations

import json
import os
import shlex
import subprocess
import time
from collections.abc import Mapping
from typing import Any

from msgspec import Struct

from boxkite.core.errors import RequestError, setting
from boxkite.core.machine import users_environment
from boxkite.core.notices.batches import NOT_NOTIFIED
from boxkite.core.notices.notice import Notice
from boxkite.core.records.overview import Overview

_COMMAND_SECONDS = 60
_HOOK_SECONDS = 15
_HOOK_ATTEMPTS = 3
_MOST_SAID = 400


class Notifications(Struct, frozen=True):
    """The command and the web address, where given."""

    command: str = ""
    """As typed in a shell, run without one."""
    web_hook: str = ""
    """An http or https address."""

    def __post_init__(self) -> None:
        """Raises RequestError for a command that cannot be run and an address that is none."""
        if self.web_hook and not self.web_hook.lower().startswith(("http://", "https://")):
            raise RequestError(
                f"{setting('web-hook')} {self.web_hook}: this is no address of the web",
                hint="as https://example.org/hook",
            )
        try:
            words = shlex.split(self.command)
        except ValueError as error:
            raise RequestError(f"{setting('when-ended')} {self.command}: {error}") from None
        if self.command and not words:
            raise RequestError(f"{setting('when-ended')} is empty")

    def __bool__(self) -> bool:
        return bool(self.command or self.web_hook)

    def send(self, batch: Overview) -> list[Notice]:
        """Tell everyone how a batch has ended; notices of what went wrong with that."""
        report = report_of(batch)
        problems = [_run(self.command, report)] if self.command else []
        problems += [_post(self.web_hook, report)] if self.web_hook else []
        return [NOT_NOTIFIED(reason=problem) for problem in problems if problem]


def report_of(batch: Overview) -> dict[str, Any]:
    """The report on a batch, as plain values."""
    return {
        "batch": batch.name,
        "state_now": batch.shown_state,
        "files": batch.files,
        "verified": batch.verified,
        "failed": batch.failed,
        "left": batch.files - batch.verified - batch.failed,
        "size_bytes": batch.size_bytes,
        "seconds": round(batch.seconds, 1),
        "folders": [str(folder) for folder in batch.folders],
        "note": batch.note,
    }


def _run(command: str, report: Mapping[str, Any]) -> str:
    """Run the command, the metadata in its environment and, as JSON, on its standard input."""
    values = {
        f"BOXKITE_{key.upper()}": os.pathsep.join(value) if isinstance(value, list) else str(value)
        for key, value in report.items()
    }
    try:
        done = subprocess.run(
            shlex.split(command),
            env={**users_environment(), **values},
            input=json.dumps(report),
            text=True,
            errors="replace",
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            timeout=_COMMAND_SECONDS,
            check=False,
        )
    except (OSError, ValueError) as error:
        return f"the notice could not be given: {command}: {error}"
    except subprocess.TimeoutExpired:
        return f"the notice was not given within {_COMMAND_SECONDS} seconds: {command}"
    if done.returncode:
        output = done.stdout.strip()[-_MOST_SAID:]
        return f"the notice ended with status {done.returncode}: {command}" + (
            f": {output}" if output else ""
        )
    return ""


def _post(address: str, report: Mapping[str, Any]) -> str:
    """Send the metadata to an address as JSON by POST (RFC 9110), a few times where that fails."""
    import urllib.error  # takes time to load, and few batches need it
    import urllib.parse
    import urllib.request

    request = urllib.request.Request(
        address,
        data=json.dumps(report).encode(),
        headers={"Content-Type": "application/json", "User-Agent": "boxkite"},
        method="POST",
    )
    problem = ""
    for attempt in range(_HOOK_ATTEMPTS):
        if attempt:
            time.sleep(2**attempt - 1)
        try:
            with urllib.request.urlopen(request, timeout=_HOOK_SECONDS):
                return ""
        except urllib.error.HTTPError as error:
            error.close()
            problem = f"it answered {error.code}"
            if error.code < 500:
                break
        except (OSError, ValueError) as error:
            problem = str(getattr(error, "reason", error))
    host = urllib.parse.urlsplit(address).hostname  # the rest of such addresses is often a secret
    return f"the notice could not be sent to {host}: {problem}"
