"""List the presets, or show what one of them says."""

from __future__ import annotations

import argparse

EXAMPLES = """\
examples:
  boxkite presets
  boxkite presets show review
  boxkite presets show ./mill-review.toml --json
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What to do, and with which preset."""
    parser.add_argument(
        "action", nargs="?", choices=["list", "show"], default="list", help="list them, or show one"
    )
    parser.add_argument("name", nargs="?", metavar="NAME", help="a preset's name, or the path of its file")
    parser.add_argument("--json", action="store_true", help="print JSON instead of tables")


def run(arguments: argparse.Namespace) -> int:
    """List or show."""
    from boxkite.core.errors import RequestError

    if arguments.action == "show":
        if not arguments.name:
            raise RequestError("which preset?", hint="boxkite presets show review")
        return _show(arguments.name, as_json=arguments.json)
    if arguments.name:
        raise RequestError(
            f"“{arguments.name}” is not understood here", hint=f"boxkite presets show {arguments.name}"
        )
    return _list(as_json=arguments.json)


def _list(*, as_json: bool) -> int:
    from boxkite.cli.tables import make_console, print_json, print_line
    from boxkite.core.errors import PresetError
    from boxkite.core.presets.library import list_presets, own_folder, read_preset

    rows, entries, broken = [], [], []
    for file in list_presets():
        try:
            preset = read_preset(file)
        except PresetError as error:
            broken.append(str(error))
            continue
        kept = "built in" if file.built_in else "own"
        rows.append([file.name, preset.summary, preset.good_for, kept])
        entries.append(
            {
                "name": file.name,
                "summary": preset.summary,
                "good_for": preset.good_for,
                "path": str(file.path),
                "built_in": file.built_in,
            }
        )
    if as_json:
        print_json({"presets": entries, "unreadable": broken})
        return 1 if broken else 0
    console = make_console()
    for name, summary, good_for, kept in rows:
        print_line(console, f"{name} ({kept})", "bold")
        print_line(console, f"  {summary}")
        print_line(console, f"  for {good_for}")
    console.print()
    print_line(console, f"your own go in {own_folder()}, one file each, NAME.toml")
    for problem in broken:
        print_line(console, f"! {problem}", "yellow")
    return 1 if broken else 0


def _show(name: str, *, as_json: bool) -> int:
    from boxkite.cli.tables import Column, make_console, print_json, print_line, print_table
    from boxkite.core.presets.library import find_preset, flat_items, preset_as_json, read_preset

    file = find_preset(name)
    preset = read_preset(file)
    if as_json:
        print_json({"path": str(file.path), **preset_as_json(preset)})
        return 0
    console = make_console()
    rows = [[key, str(value)] for key, value in flat_items(preset)]
    print_table(console, [Column("key"), Column("value", gives_way=True)], rows)
    console.print()
    print_line(console, f"kept in {file.path}")
    return 0
