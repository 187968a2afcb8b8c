"""The stages import from their left only, and the core knows no command line."""

from __future__ import annotations

import ast
import re
from pathlib import Path

import boxkite

ROOT = Path(boxkite.__file__).parent
ORDER = ["errors", "suggest", "control_groups", "machine", "processes", "notices", "files", "settings", "timebase",
         "footage", "marks", "edit", "metadata", "naming", "presets", "records", "looks", "job", "shots", "plan",
         "picture", "render", "preview", "batch", "handover", "projects", "arrival"]  # fmt: skip


def imports_of(path: Path) -> set[str]:
    tree = ast.parse(path.read_text())
    found = {node.module for node in ast.walk(tree) if isinstance(node, ast.ImportFrom) and node.module}
    return found | {
        alias.name for node in ast.walk(tree) if isinstance(node, ast.Import) for alias in node.names
    }


def test_no_stage_of_the_core_imports_from_its_right_or_from_the_command_line() -> None:
    wrong = []
    for path in sorted((ROOT / "core").rglob("*.py")):
        stage = path.relative_to(ROOT / "core").parts[0].removesuffix(".py")
        for name in imports_of(path):
            parts = name.split(".")
            if parts[:2] in (["boxkite", "cli"], ["boxkite", "demo"]) or parts[0] in ("argparse", "rich"):
                wrong.append((path.name, name))
            if parts[:2] == ["boxkite", "core"] and len(parts) > 2 and stage != "__init__":
                assert parts[2] in ORDER, name
                if ORDER.index(parts[2]) > ORDER.index(stage):
                    wrong.append((path.name, name))
    assert wrong == []


def test_rendering_has_one_face() -> None:
    """Others import these of the package, and nothing else."""
    names = ("making", "result", "failures", "comparing", "quality", "still", "encode.codec_options")
    face = {f"boxkite.core.render.{name}" for name in names}
    outside = [
        (path.name, name)
        for path in sorted(ROOT.rglob("*.py"))
        if "render" not in path.relative_to(ROOT).parts
        for name in imports_of(path)
        if name.startswith("boxkite.core.render") and name not in face
    ]
    assert outside == []


def test_modules_are_short_and_the_plan_is_small() -> None:
    lines = {path: len(path.read_text().splitlines()) for path in ROOT.rglob("*.py")}
    assert [path.name for path, count in lines.items() if count > 400] == []
    assert sum(count for path, count in lines.items() if path.parent.name == "plan") < 2400


def test_the_core_prints_nothing() -> None:
    calls = [
        path.name
        for path in (ROOT / "core").rglob("*.py")
        for node in ast.walk(ast.parse(path.read_text()))
        if isinstance(node, ast.Call)
        and isinstance(node.func, ast.Name)
        and node.func.id in ("print", "input")
    ]
    assert calls == []


def test_every_file_that_the_docs_name_is_there() -> None:
    """CONTRIBUTING.md and the decisions name modules by their path below src/boxkite or core."""
    root = ROOT.parent.parent
    pages = [root / "CONTRIBUTING.md", *(root / "docs").rglob("*.md")]
    named = [
        (page, name)
        for page in pages
        for name in re.findall(r"`([a-z_/]+/[a-z_]+\.(?:py|c))`", page.read_text())
    ]
    lost = [(page.name, name) for page, name in named
            if not any((below / name).is_file() for below in (root, ROOT, ROOT / "core"))]  # fmt: skip
    assert named and not lost
    folders = re.search(r"a test holds this: (.*?)\.", (root / "CONTRIBUTING.md").read_text(), re.DOTALL)
    assert folders and re.findall(r"\w+", folders[1]) == [
        one for one in ORDER if (ROOT / "core" / one).is_dir()
    ]
