"""Writes the schemas of what commands print as JSON, from what they print on the demo's data.

A key that some outputs leave out is not required; a value has the types that were seen. Raise SCHEMA_VERSION when a key
goes or changes its type: scripts rely on them.
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
from pathlib import Path
from typing import Any

from boxkite.cli.tables import SCHEMA_VERSION

FOLDER = Path(__file__).parents[1] / "src/boxkite/cli/schemas"
AT_MARKS = ("mill.mov", "--marks", "mill.edl")
COMMANDS: dict[str, list[tuple[str, ...]]] = {
    "plan": [
        ("plan", *AT_MARKS, "--to", "web:w", "--json"),
        ("plan", *AT_MARKS, "--to", "copy:c", "--to", "frames-png:p", "--only", "number:1", "--json"),
        ("plan", "day.otio", "--picture", "originals", "--media", "card", "--handles", "6", "--to", "web:r", "--json"),
        ("plan", "day.otio", "--picture", "edit", "--by", "timelines", "--media", "card", "--to", "web:e", "--json"),
        ("plan", "card", "--marks", "picks.csv", "--metadata", "slates.csv", "--to", "stock:s", "--json"),
    ],
    "run": [
        ("run", *AT_MARKS, "--to", "web:w", "--only", "number:1,2", "--set", "fit=320x180", "--json"),
        ("run", *AT_MARKS, "--to", "copy:c", "--only", "number:3", "--json"),
        ("run", *AT_MARKS, "--to", "copy:c", "--only", "number:3", "--existing", "skip", "--json"),
    ],
    "inspect": [
        ("inspect", ".", "--json"), ("inspect", "mill.mov", "--deep", "--json"), ("inspect", "day.otio", "--json"),
        ("inspect", "day-cut.edl", "--marks-rate", "25", "--json"),
    ],
    "status": [("status", "--json")],
    "batch": [("status", "last", "--json")],
    "presets": [("presets", "--json")],
    "marks": [("mark", "list", "card", "--json")],
    "marks-changed": [("mark", "add", "mill.mov", "--in", "10", "--length", "5", "--name", "m", "--json"),
                      ("mark", "remove", "mill.mov", "--number", "1", "--json")],
    "gather": [("gather", "card", "--into", "copies", "--json")] * 2,
    "watch": [("watch", "card", "--list", "--json")],
    "trim-plan": [("trim", "day.otio", "--media", "card", "--to", "copy:t", "--show-only", "--json")],
    "trim": [("trim", "day.otio", "--media", "card", "--to", "copy:t", "--json")],
    "verify": [("verify", "w", "--json"), ("verify", "last", "--deep", "--json")],
    "manifest": [("manifest", "w", "--json"), ("manifest", "w", "--form", "md5", "--json")],
    "catalogue": [("catalogue", "w", "--json"), ("catalogue", "w", "--into", "c.csv", "--embed", "--json")],
    "contact-sheet": [("contact-sheet", "w", "--json")],
    "review-page": [("review-page", "w", "--json")],
    "relink": [("relink", "--into", "s.otio", "--json"),
               ("relink", "day.otio", "--into", "t.otio", "--json")],
    "shot-folders": [("shot-folders", "--dry-run", "--json"), ("shot-folders", "--json")],
    "send": [("send", "last", "sent", "--dry-run", "--json"), ("send", "last", "sent", "--json")],
    "records": [("records", "save", "--into", "r.json", "--json"), ("records", "load", "r.json", "--json")],
    "rename": [("rename", "copies", "--names", "x-@clip", "--show-only", "--json"),
               ("rename", "copies", "--names", "x-@clip", "--json")],
    "rename-undo": [("rename", "--undo", "--json")],
    "tokens": [("inspect", "--tokens", "--json")],
    "tokens-of": [("inspect", "mill.mov", "card/A-vat2.mov", "--metadata", "slates.csv", "--tokens", "--json")],
    "patterns": [("patterns", "save", "short", "@clip"), ("patterns", "--json")],
    "presets-show": [("presets", "show", "web", "--json"), ("presets", "show", "frames-png", "--json"),
                     ("presets", "show", "audio-wav", "--json")],
    "presets-check": [("presets", "new", "mine", "--based-on", "web"), ("presets", "check", "--json")],
    "background": [("run", *AT_MARKS, "--to", "copy:b", "--only", "number:1", "--background", "--json"),
                   ("status", "last", "--follow")],
    "log": [("log", "last", "--json")],
}  # fmt: skip
"""By the name of a schema: commands that print such JSON."""


def merged(first: dict[str, Any] | None, value: Any) -> dict[str, Any]:
    """A schema that takes what another takes, and a value."""
    own = _schema_of(value)
    if first is None:
        return own
    kinds = [*first["type"], *(kind for kind in own["type"] if kind not in first["type"])]
    result: dict[str, Any] = {"type": kinds}
    properties = [one for one in (first, own) if "properties" in one]
    if properties:
        keys = dict.fromkeys(key for one in properties for key in one["properties"])
        result["properties"] = {
            key: _together([one["properties"].get(key) for one in properties]) for key in keys
        }
        result["required"] = [key for key in keys if all(key in one["required"] for one in properties)]
    items = [one["items"] for one in (first, own) if one.get("items")]
    if items:
        result["items"] = _together(items)
    return result


def _together(schemas: list[dict[str, Any] | None]) -> dict[str, Any]:
    found = [one for one in schemas if one]
    result = found[0]
    for other in found[1:]:
        kinds = [*result["type"], *(kind for kind in other["type"] if kind not in result["type"])]
        joined: dict[str, Any] = {"type": kinds}
        properties = [one for one in (result, other) if "properties" in one]
        if properties:
            keys = dict.fromkeys(key for one in properties for key in one["properties"])
            joined["properties"] = {
                key: _together([one["properties"].get(key) for one in properties]) for key in keys
            }
            joined["required"] = [key for key in keys if all(key in one["required"] for one in properties)]
        items = [one["items"] for one in (result, other) if one.get("items")]
        if items:
            joined["items"] = _together(items)
        result = joined
    return result


_FREE = ("metadata", "values", "tags", "tokens", "settings", "patterns")
"""Keys whose own keys are data."""


def _schema_of(value: Any) -> dict[str, Any]:
    if isinstance(value, dict):
        properties = {key: {"type": ["object"]} if key in _FREE and isinstance(inner, dict) else _schema_of(inner)
                      for key, inner in value.items()}  # fmt: skip
        return {"type": ["object"], "properties": properties, "required": list(value)}
    if isinstance(value, list):
        return {
            "type": ["array"],
            **({"items": _together([_schema_of(one) for one in value])} if value else {}),
        }
    kinds = {bool: "boolean", int: "number", float: "number", str: "string", type(None): "null"}
    return {"type": [kinds[type(value)]]}


def _opened(schema: dict[str, Any]) -> dict[str, Any]:
    """The schema with nothing said of values that were never there."""
    if schema.get("type") == ["null"]:
        return {}
    result = dict(schema)
    if "properties" in schema:
        result["properties"] = {key: _opened(inner) for key, inner in schema["properties"].items()}
    if "items" in schema:
        result["items"] = _opened(schema["items"])
    return result


def main() -> int:
    """Draw the demo, run the commands, write the schemas."""
    program = str(Path(sys.executable).with_name("boxkite"))
    FOLDER.mkdir(exist_ok=True)
    with tempfile.TemporaryDirectory() as folder:
        kept = {
            f"BOXKITE_{name}": f"{folder}/{name}"
            for name in ("STATE", "CACHE", "PRESETS", "PATTERNS", "SETTINGS")
        }
        environment = {**os.environ, **kept}

        def ask(*words: str) -> str:
            return subprocess.run([program, *words], cwd=f"{folder}/demo", env=environment, capture_output=True,
                                  text=True, check=False).stdout  # fmt: skip

        subprocess.run(
            [program, "demo", "--draw-only", f"{folder}/demo"],
            env=environment,
            check=True,
            capture_output=True,
        )
        ask(
            "mark",
            "add",
            "card/A-vat2.mov",
            "--in",
            "10:12:05:12",
            "--length",
            "2s",
            "--name",
            "dip",
            "--keyword",
            "vat",
        )
        for name, commands in COMMANDS.items():
            schema: dict[str, Any] | None = None
            for words in commands:
                said = ask(*words)
                entries = said.splitlines() if name == "log" else [said] if "--json" in words else []
                for entry in entries:
                    schema = merged(schema, json.loads(entry))
            assert schema
            schema = _opened(schema)
            head = {
                "$schema": "https://json-schema.org/draft/2020-12/schema",
                "$id": f"boxkite/{name}/{SCHEMA_VERSION}",
                "title": f"What boxkite {commands[0][0]} prints with --json",
            }
            (FOLDER / f"{name}.json").write_text(json.dumps(head | schema, indent=1) + "\n")
            print(f"{name}: {len(commands)} outputs")
    return 0


if __name__ == "__main__":
    sys.exit(main())
