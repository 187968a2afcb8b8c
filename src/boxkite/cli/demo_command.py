"""Draw made-up footage with its marks and tables, run the whole round on it, and say what to try next."""

from __future__ import annotations

import argparse
import time
from pathlib import Path

from boxkite.cli.screen import Screen
from boxkite.core.files.reading import path_from

EXAMPLES = """\
examples:
  boxkite demo
  boxkite demo ~/tryout
  boxkite demo --draw-only
"""
PRESETS = ("stock", "review", "web")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Where to."""
    parser.add_argument(
        "folder", nargs="?", default="demo", metavar="FOLDER", help="folder to write (default: demo)"
    )
    parser.add_argument("--draw-only", action="store_true", help="only draw the footage")


def run(arguments: argparse.Namespace) -> int:
    """Draw, inspect, plan, run, hand over."""
    from boxkite.cli.tables import counted
    from boxkite.core.errors import PlanError

    folder = path_from(arguments.folder)
    if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
        raise PlanError(
            "the demo needs a folder that is empty or not there yet",
            path=folder,
            hint="remove it, or name another: boxkite demo tryout",
        )
    screen = Screen()
    screen.print(f"Drawing “A Hundred Sheets”, one day at a paper mill, into {folder}", "bold")
    started = time.monotonic()
    files = _draw(screen, folder)
    screen.print(f"drew {counted(len(files), 'file')} in {time.monotonic() - started:.1f} s")
    status = 0 if arguments.draw_only else _round(screen, folder)
    _say_what_next(screen, folder)
    return status


def _draw(screen: Screen, folder: Path) -> list[Path]:
    from rich.progress import Progress

    from boxkite.demo.world import draw_world

    if not screen.is_terminal:
        return draw_world(folder)
    with Progress(console=screen.console, transient=True) as progress:
        task = progress.add_task("drawing")
        return draw_world(folder, lambda done, total: progress.update(task, completed=done, total=total))


def _round(screen: Screen, folder: Path) -> int:
    """Inspect, plan, run, check and hand over, as a user would type it."""
    outputs = [word for preset in PRESETS for word in ("--to", f"{preset}:{folder}/out/{preset}")]
    job = [f"{folder}/mill.mov", "--marks", f"{folder}/mill.edl", "--watermark", f"{folder}/mill-mark.png"]
    _type(screen, "inspect", [str(folder)])
    _type(screen, "plan", [*job, *outputs])
    status = _type(screen, "run", [*job, *outputs])
    return status or _hand_over(screen, folder)


def _hand_over(screen: Screen, folder: Path) -> int:
    """What is done with the files, as far as the extras for it are installed."""
    from importlib.util import find_spec

    steps = [
        ("verify", ["last"], ""),
        ("manifest", ["last", "--form", "xxh128"], ""),
        ("catalogue", [f"{folder}/out/stock", "--columns", "stock", "--into", f"{folder}/shots.csv"], ""),
        ("contact-sheet", [f"{folder}/out/stock", "--into", f"{folder}/contact-sheet.pdf"], "fpdf"),
        ("review-page", ["last", "--title", "A Hundred Sheets", "--into", f"{folder}/page"], "jinja2"),
        ("relink", ["--to", "last", "--preset", "stock", "--into", f"{folder}/shots.otio"], ""),
        ("shot-folders", ["last", "--into", f"{folder}/work"], ""),
    ]
    status = 0
    for command, arguments, package in steps:
        if package and find_spec(package) is None:
            screen.print(f"! {command} needs the extra “handover”", "yellow")
            continue
        status = _type(screen, command, arguments) or status
    return _send(screen, folder) or status


def _send(screen: Screen, folder: Path) -> int:
    """Send the light files to a server on this machine, where the packages for it are installed."""
    from importlib.util import find_spec

    if not all(map(find_spec, ("webdav4", "wsgidav", "cheroot"))):
        screen.print("! send needs the extra “send”, and the extra “demo” for a server to send to", "yellow")
        return 0
    from boxkite.demo.webdav import webdav_server

    with webdav_server(folder / "server") as address:
        return _type(screen, "send", ["last", f"{address}/mill", "--only", "light"])


def _type(screen: Screen, command: str, arguments: list[str]) -> int:
    from boxkite.cli.dispatch import build_parser, module_of

    screen.print()
    typed = " ".join(f'"{one}"' if " " in one else one for one in arguments)
    screen.print(f"$ boxkite {command} {typed}", "bold cyan")
    parsed = build_parser(command).parse_intermixed_args(arguments)
    return int(module_of(command).run(parsed))


def _say_what_next(screen: Screen, folder: Path) -> None:

    screen.print()
    screen.print("What to try next:", "bold")
    for arguments in (
        f"plan {folder}/mill.mov --marks {folder}/mill.edl"
        f' --names "@(count:01)_@(marker:slug)" --to web:{folder}/out/numbered',
        f"plan {folder}/card --by ranges --marks {folder}/picks.csv --metadata {folder}/slates.csv"
        f' --names "@(Paper weight:slug)/@camera@scene@shot.t@take_@marker" --to review:{folder}/out/picks',
        f"plan {folder}/day.otio --by cuts --picture originals --handles 12 --to review:{folder}/out/cuts",
        f"run {folder}/day.otio {folder}/day.mov --by timelines,cuts --to web:{folder}/out/day",
        f"run {folder}/day.otio --picture edit --by timelines --media {folder}/card --to web:{folder}/out/rendered",
        f"preview {folder}/mill.mov --marks {folder}/mill.edl --look {folder}/warm.cube --before-after"
        f" --to review:{folder}/out/review --still {folder}/preview.png",
        f"mark detect {folder}/day.mov --strip {folder}/cuts.png",
        f"inspect {folder}/card --tokens --metadata {folder}/slates.csv",
        f"verify {folder}/out/web --deep --chart {folder}/quality.png",
        "presets show review",
    ):
        screen.print(f"  boxkite {arguments}")
