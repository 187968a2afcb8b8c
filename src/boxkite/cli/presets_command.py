"""List the presets, show what one of them says, make new ones, check them."""

from __future__ import annotations

import argparse

from boxkite.cli.messages import with_options
from boxkite.cli.screen import Screen
from boxkite.cli.settings import add_settings
from boxkite.core.files.reading import path_from

EXAMPLES = """\
examples:
  boxkite presets
  boxkite presets show review
  boxkite presets show review-light --full
  boxkite presets new mill-web --based-on web --set video.quality=18 --set fit=1280x720
  boxkite presets change mill-web --set video.quality=20 --set watermark.image=mark.png
  boxkite presets remove mill-web
  boxkite presets check ./mill-review.toml
  boxkite presets schema > preset.schema.json
  boxkite presets schema --job > job.schema.json
"""
ACTIONS = ("list", "show", "new", "change", "remove", "check", "schema")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The action and its preset."""
    parser.add_argument(
        "action",
        nargs="?",
        choices=ACTIONS,
        default="list",
        help="list presets, show one, make, change or remove one of your own, check your own and the files they name,"
        " or print the JSON Schema of their files",
    )
    parser.add_argument("names", nargs="*", metavar="NAME", help="a preset's name, or the path of its file")
    parser.add_argument("--full", action="store_true", help="show every setting, defaults too")
    parser.add_argument("--based-on", metavar="NAME", help="preset that the new one starts from")
    add_settings(
        parser,
        "a setting of the new one, as video.quality=18; with change, an empty value takes the setting out",
    )
    parser.add_argument("--job", action="store_true", help="with schema: the schema of job files")
    parser.add_argument(
        "--file", metavar="PATH", help="write the new preset here, not into your presets folder"
    )
    parser.add_argument("--json", action="store_true", help="print JSON instead of tables")


def run(arguments: argparse.Namespace) -> int:
    """List, show, make, check, or print the schema."""
    from boxkite.core.errors import RequestError

    action, names = arguments.action, arguments.names
    if action in ("list", "schema") and names:
        raise RequestError(f"“{names[0]}” is not understood here", hint=f"boxkite presets show {names[0]}")
    if action in ("show", "new", "change", "remove") and len(names) != 1:
        raise RequestError(
            "which preset?" if not names else "one preset at a time",
            hint=f"boxkite presets {action} mill-web",
        )
    if action == "show":
        return _show(names[0], full=arguments.full, as_json=arguments.json)
    if action == "new":
        return _new(names[0], arguments)
    if action in ("change", "remove"):
        return _change(names[0], arguments)
    if action == "check":
        return _check(names, as_json=arguments.json)
    if action == "schema":
        from boxkite.cli.tables import print_json
        from boxkite.core.job.file import job_schema
        from boxkite.core.presets.reading import preset_schema

        print_json(job_schema() if arguments.job else preset_schema())
        return 0
    return _list(as_json=arguments.json)


def _list(*, as_json: bool) -> int:
    from boxkite.cli.tables import Column, print_json, print_table
    from boxkite.core.errors import PresetError
    from boxkite.core.presets.library import Shelf, list_presets, own_folder

    shelf = Shelf()
    entries, broken = [], []
    for file in list_presets():
        try:
            preset = shelf.read(file)
        except PresetError as error:
            broken.append(error.text)
            continue
        entries.append(
            {
                "name": file.name,
                "summary": preset.summary,
                "good_for": preset.good_for,
                "plays": preset.plays,
                "about_mbps": round(preset.usual_bitrate_mbps, 1),
                "path": str(file.path),
                "built_in": file.built_in,
            }
        )
    if as_json:
        print_json({"presets": entries, "unreadable": broken}, "presets")
        return 1 if broken else 0
    screen = Screen()
    columns = [
        Column("preset"),
        Column("about", right=True, optional=True),
        Column("makes", gives_way=True),
        Column("for", gives_way=True, optional=True),
    ]
    rows = []
    for entry in entries:
        name = f"{entry['name']}{'' if entry['built_in'] else ' (own)'}"
        bitrate = _mbps(float(str(entry["about_mbps"]))) if entry["about_mbps"] else ""
        rows.append([name, bitrate, str(entry["summary"]), str(entry["good_for"])])
    print_table(screen, columns, rows)
    screen.print()
    screen.print("“about” is for 1920x1080 at 25 fps with one stereo track")
    screen.print("boxkite presets show NAME shows where it plays, and all its settings")
    screen.print(f"your own presets are kept in {own_folder()}, as NAME.toml")
    for problem in broken:
        screen.print(f"! {problem}", "yellow")
    return 1 if broken else 0


def _mbps(value: float) -> str:
    return f"{value:.0f} Mbit/s" if value >= 10 else f"{value:.1f} Mbit/s"


def _show(name: str, *, full: bool, as_json: bool) -> int:
    from boxkite.cli.tables import Column, print_json, print_table
    from boxkite.core.presets.library import Shelf, flat_items, preset_as_json
    from boxkite.core.presets.reading import read_tables

    shelf = Shelf()
    file = shelf.find(name)
    preset = shelf.read(file)
    if as_json:
        print_json(
            {
                "path": str(file.path),
                "about_mbps": round(preset.usual_bitrate_mbps, 1),
                **preset_as_json(preset),
            },
            "presets-show",
        )
        return 0
    values = preset_as_json(preset) if full else read_tables(file.path)
    screen = Screen()
    rows = [[key, _shown(value)] for key, value in flat_items(values) if value not in ("", [])]
    print_table(screen, [Column("key"), Column("value", gives_way=True)], rows)
    screen.print()
    if preset.usual_bitrate_mbps:
        screen.print(f"about {_mbps(preset.usual_bitrate_mbps)} at 1920x1080 and 25 fps")
    more = "" if full else "; --full shows every setting"
    screen.print(f"kept in {file.path}{more}")
    return 0


def _shown(value: object) -> str:
    if isinstance(value, bool):
        return "true" if value else "false"
    return ", ".join(map(str, value)) if isinstance(value, list) else str(value)


def _new(name: str, arguments: argparse.Namespace) -> int:
    from boxkite.core.errors import RequestError
    from boxkite.core.job.request import read_setting
    from boxkite.core.presets.writing import make_preset

    if not arguments.based_on and not arguments.changes:
        raise RequestError(
            "a new preset begins with another",
            hint=f"boxkite presets new {name} --based-on web --set video.quality=18",
        )
    changes = dict(read_setting(text) for text in arguments.changes)
    path = make_preset(
        name, arguments.based_on, changes, path_from(arguments.file) if arguments.file else None
    )
    Screen().print(f"made {path}")
    return 0


def _change(name: str, arguments: argparse.Namespace) -> int:
    from boxkite.core.errors import RequestError
    from boxkite.core.job.request import read_setting
    from boxkite.core.presets.writing import change_preset, remove_preset

    if arguments.action == "remove":
        Screen().print(f"removed {remove_preset(name)}")
        return 0
    if not arguments.changes:
        raise RequestError(
            "what is to be changed?", hint=f"boxkite presets change {name} --set video.quality=20"
        )
    path = change_preset(name, dict(read_setting(text) for text in arguments.changes))
    Screen().print(f"changed {path}")
    return 0


def _check(names: list[str], *, as_json: bool) -> int:
    from boxkite.cli.tables import print_json
    from boxkite.core.errors import PresetError
    from boxkite.core.looks.preset_files import check_files
    from boxkite.core.presets.library import Shelf, list_presets

    shelf = Shelf()
    files = [shelf.find(name) for name in names] or [file for file in list_presets() if not file.built_in]
    results = []
    for file in files:
        try:
            check_files(shelf.read(file), file.path)
            results.append({"name": file.name, "path": str(file.path), "problem": "", "hint": ""})
        except PresetError as error:
            results.append(
                {
                    "name": file.name,
                    "path": str(file.path),
                    "problem": with_options(error.text),
                    "hint": with_options(error.hint),
                }
            )
    wrong = sum(bool(result["problem"]) for result in results)
    if as_json:
        print_json({"presets": results}, "presets-check")
        return 1 if wrong else 0
    screen = Screen()
    for result in results:
        if result["problem"]:
            hint = f" ({result['hint']})" if result["hint"] else ""
            screen.print(f"! {result['problem']}{hint}", "yellow")
        else:
            screen.print(f"{result['path']}: no problems")
    if not results:
        screen.print("you have no presets of your own yet: boxkite presets new NAME --based-on web")
    return 1 if wrong else 0
