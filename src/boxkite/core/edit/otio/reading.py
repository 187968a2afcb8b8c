"""Timelines by OpenTimelineIO: its own .otio, .otioz and .otiod, and whatever its installed adapters read."""

from __future__ import annotations

import contextlib
import io
import json
import zipfile
from functools import lru_cache
from pathlib import Path
from typing import Any

from boxkite.core.edit.otio.objects import TimelineReader, one_line
from boxkite.core.edit.timeline import Edit
from boxkite.core.errors import MarksError
from boxkite.core.files.reading import is_file
from boxkite.core.files.text import read_text, to_text
from boxkite.core.notices.edit import ADAPTER_SAYS
from boxkite.core.notices.notice import Notice

MOST_BYTES = 256 * 1024 * 1024
_DEEPEST = 150
_OWN = frozenset({".otio", ".otioz", ".otiod"})
_NEVER = _OWN | {".edl", ".ale", ".csv", ".tsv", ".txt", ".ma", ".mb"}
"""Read by ourselves, or by starting another program (.ma, .mb), which is not done for what a stranger sends."""
_MOST_PRINTED = 20
_EXTRA_HINT = 'install the adapters beside Box Kite: pip install "boxkite-shots[timelines]"'


def read_otio_edit(path: Path) -> Edit:
    """Read every timeline of a file. Raises MarksError for what cannot be read or holds none."""
    notices: list[Notice] = []
    found = read_objects(path, notices)
    kind = "timeline file" if path.suffix.lower() in _OWN else "exchange file"
    timelines = tuple(TimelineReader(path, notices).all_of(found))
    if not timelines:
        raise MarksError("there is no timeline in it", path=path)
    return Edit(path, kind, timelines, tuple(notices))


def read_objects(path: Path, notices: list[Notice] | None = None) -> Any:
    """The library's objects of a file. Raises MarksError for what cannot be read."""
    suffix = path.suffix.lower()
    try:
        if suffix in _OWN:
            return _from_json(_json_text(path, suffix), path)
        return _by_adapter(path, suffix, [] if notices is None else notices)
    except MarksError:
        raise
    except Exception as error:  # whatever a broken file makes the library say
        raise MarksError(f"the timeline cannot be read: {one_line(error)}", path=path) from None


def _json_text(path: Path, suffix: str) -> str:
    if suffix == ".otioz":
        try:
            with zipfile.ZipFile(path) as bundle:
                entry = bundle.getinfo("content.otio")
                if entry.file_size > MOST_BYTES:
                    raise MarksError(f"{entry.file_size} bytes are too many for a timeline", path=path)
                return to_text(bundle.read(entry))
        except FileNotFoundError:
            raise MarksError("there is no such file", path=path) from None
        except (zipfile.BadZipFile, KeyError, OSError, NotImplementedError, RuntimeError) as error:
            raise MarksError(f"this is no bundle with a timeline: {one_line(error)}", path=path) from None
    if suffix == ".otiod":
        if not path.is_dir():
            raise MarksError("this should be a folder with content.otio in it", path=path)
        path = path / "content.otio"
    return read_text(path, most_bytes=MOST_BYTES)


def _from_json(text: str, path: Path) -> Any:
    """The objects of a .otio text. The library trusts its input, so depth and shape are looked at before."""
    import opentimelineio as otio

    try:
        content = json.loads(text)
    except ValueError as error:
        line = getattr(error, "lineno", None)
        raise MarksError(f"this is not JSON: {one_line(error)}", path=path, line=line) from None
    except RecursionError:
        raise MarksError("it is nested too deep", path=path) from None
    if _depth(content) > _DEEPEST:
        raise MarksError("it is nested too deep", path=path)
    if not isinstance(content, dict) or "OTIO_SCHEMA" not in content:
        raise MarksError("this is JSON, but no timeline", path=path)
    return otio.adapters.read_from_string(json.dumps(content), "otio_json")


def _depth(content: Any) -> int:
    deepest, waiting = 0, [(content, 1)]
    while waiting:
        value, depth = waiting.pop()
        deepest = max(deepest, depth)
        if depth > _DEEPEST:
            return depth
        if isinstance(value, dict):
            waiting += [(inner, depth + 1) for inner in value.values()]
        elif isinstance(value, list):
            waiting += [(inner, depth + 1) for inner in value]
    return deepest


@lru_cache(maxsize=1)
def adapter_suffixes() -> frozenset[str]:
    """The extensions of timelines that the adapters read which are installed; without those that run a program."""
    import opentimelineio as otio

    return (
        frozenset(f".{name.lower()}" for name in otio.adapters.suffixes_with_defined_adapters(read=True))
        - _NEVER
    )


def _by_adapter(path: Path, suffix: str, notices: list[Notice]) -> Any:
    """The objects that an adapter makes of a file. What it prints becomes a notice: standard output is not its own."""
    import opentimelineio as otio

    if not is_file(path):
        raise MarksError("there is no such file", path=path)
    if path.stat().st_size > MOST_BYTES:
        raise MarksError(f"it has more than the {MOST_BYTES >> 20} MB a timeline may have", path=path)
    if suffix not in adapter_suffixes():
        raise MarksError(
            f"reading {suffix} needs an adapter that is not installed", path=path, hint=_EXTRA_HINT
        )
    if suffix in (".xml", ".fcpxml", ".xges") and "<!ENTITY" in read_text(path).upper():
        raise MarksError("it defines its own entities, which are not followed", path=path)
    printed = io.StringIO()
    with contextlib.redirect_stdout(printed), contextlib.redirect_stderr(printed):
        found = otio.adapters.read_from_file(str(path))
    lines = [line.strip() for line in printed.getvalue().splitlines() if line.strip()]
    notices += [ADAPTER_SAYS(text=line[:150]) for line in dict.fromkeys(lines[:_MOST_PRINTED])]
    return found
