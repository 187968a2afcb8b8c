"""How far batches are: all of them, or one with its files."""

from __future__ import annotations

import argparse
import time
from typing import TYPE_CHECKING

from boxkite.cli.screen import Line, Screen
from boxkite.cli.status_json import AT_WORK

if TYPE_CHECKING:
    from pathlib import Path

    from boxkite.core.records.overview import Overview
    from boxkite.core.records.record import FileRecord
    from boxkite.core.records.store import Records

EXAMPLES = """\
examples:
  boxkite status
  boxkite status last
  boxkite status 2026-11-23.1 --follow
  boxkite status last --open
  boxkite status last --files --json
"""
_EVERY_SECONDS = 0.5
_HAND_OVER = "boxkite verify {name} checks these files; manifest, catalogue, contact-sheet take them too"
_MOST_FILES = 30


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Which batch, and how much of it."""
    parser.add_argument("batch", nargs="?", metavar="BATCH", help="its name, or last (default: all)")
    parser.add_argument("--all", action="store_true", help="all batches, not only the latest 20")
    parser.add_argument(
        "--files", action="store_true", help="every file of the batch, not only those at work or failed"
    )
    parser.add_argument("--follow", action="store_true", help="keep showing it until nothing runs")
    parser.add_argument("--open", action="store_true", help="open the folder its files go to")
    parser.add_argument(
        "--json", action="store_true", help="print JSON; with --follow one line each time it changes"
    )


def run(arguments: argparse.Namespace) -> int:
    """Show it; status 1 for one batch with failed files."""
    from boxkite.cli.messages import print_error
    from boxkite.core.errors import RequestError
    from boxkite.core.projects.unfinished import may_be_unfinished
    from boxkite.core.records.store import LAST, Records

    if may_be_unfinished():
        from boxkite.core.projects.renaming import undo_those_cut_short

        for notice in undo_those_cut_short():
            print_error(notice.marked)
    if not Records.are_kept() and not arguments.batch:
        from boxkite.cli.tables import print_json

        if arguments.json:
            print_json({"batches": []}, "status")
        else:
            Screen().print("no batch has been run on this machine")
        return 0
    if arguments.open and not arguments.batch:
        arguments.batch = LAST
    with Records() as records:
        name = records.batch(arguments.batch, with_files=False).name if arguments.batch else ""
        if arguments.files and not name:
            raise RequestError("--files needs a batch", hint="as boxkite status last --files")
        if arguments.open:
            return _open(records, name)
        if arguments.follow:
            return _follow(records, name, arguments)
        return _show(records, name, arguments)


def _show(records: Records, name: str, arguments: argparse.Namespace) -> int:
    from boxkite.cli.status_json import status_as_json
    from boxkite.cli.tables import print_json

    found = _look(records, name, arguments)
    if arguments.json:
        print_json(
            status_as_json(records, found, name, with_all=not arguments.follow), "batch" if name else "status"
        )
    else:
        screen = Screen()
        screen.print_lines(_drawn(screen, records, found, name, arguments), wrapped=False)
    return int(bool(name and (found[0].failed or found[0].steps_failed)))


def _look(records: Records, name: str, arguments: argparse.Namespace) -> list[Overview]:
    from boxkite.core.records.overview import overviews

    return overviews(records, (name,) if name else (), latest=-1 if arguments.all else 20)


def _follow(records: Records, name: str, arguments: argparse.Namespace) -> int:
    """Show it again until nothing runs: in a window in its place, else a line each time it changes."""
    import json
    import sys

    from boxkite.cli.status_json import status_as_json

    screen = Screen()
    if screen.is_terminal and not arguments.json:
        return _follow_in_window(screen, records, name, arguments)
    shown = ""
    while True:
        found = _look(records, name, arguments)
        if arguments.json:
            text = json.dumps(status_as_json(records, found, name, with_all=not arguments.follow))
        else:
            text = "\n".join(_line(one) for one in found)
        if text != shown:
            shown = text
            if arguments.json:
                sys.stdout.write(text + "\n")
                sys.stdout.flush()
            else:
                for line in text.splitlines():
                    screen.print(line)
        if not any(one.held for one in found):
            return int(bool(name and (found[0].failed or found[0].steps_failed)))
        time.sleep(_EVERY_SECONDS)


def _follow_in_window(screen: Screen, records: Records, name: str, arguments: argparse.Namespace) -> int:
    from rich.live import Live
    from rich.text import Text

    from boxkite.cli.messages import printable

    with Live(console=screen.console, refresh_per_second=4, vertical_overflow="ellipsis") as live:
        while True:
            found = _look(records, name, arguments)
            lines = _drawn(screen, records, found, name, arguments)
            live.update(Text("\n").join(Text(printable(text), style=style) for text, style in lines))
            if not any(one.held for one in found):
                return int(bool(name and (found[0].failed or found[0].steps_failed)))
            time.sleep(_EVERY_SECONDS)


def _drawn(
    screen: Screen, records: Records, found: list[Overview], name: str, arguments: argparse.Namespace
) -> list[Line]:
    if not found:
        return [("no batch has been run on this machine", "")]
    if name:
        from boxkite.core.records.handovers import handovers_of

        lines = _one_batch(screen, found[0], _files(records, name, arguments))
        lines += [
            (f"{one.at[:16].replace('T', ' ')}  {one}", "") for one in handovers_of(records, found[0].name)
        ]
        lines += _step_lines(records, found[0].name)
        if found[0].is_whole and arguments.files:
            lines.append((_HAND_OVER.format(name=found[0].name), ""))
        return lines
    return _all_batches(screen, found)


def _step_lines(records: Records, name: str) -> list[Line]:
    """The steps that are not done yet."""
    from boxkite.core.records.steps import steps_of

    styles = {"failed": "red", "begun": "cyan", "waiting": ""}
    return [
        (f"{one.kind}: {one.state}{f': {one.outcome}' if one.outcome else ''}", styles.get(one.state, ""))
        for one in steps_of(records, name)
        if one.state != "done"
    ]


def _all_batches(screen: Screen, found: list[Overview]) -> list[Line]:
    from boxkite.cli.tables import Column, table_lines

    columns = [
        Column("batch"),
        Column("state"),
        Column("verified", right=True),
        Column("", optional=True),
        Column("left", right=True),
        Column("folder", gives_way=True),
    ]
    rows = [
        [
            one.name,
            one.shown_state,
            f"{one.verified} of {one.files}",
            _bar(one.frames_done, one.frames, 12),
            _time_left(one),
            ", ".join(map(str, one.folders)),
        ]
        for one in found
    ]
    return table_lines(screen, columns, rows, [_style(one) for one in found])


def _one_batch(screen: Screen, one: Overview, files: list[FileRecord]) -> list[Line]:
    from boxkite.cli.tables import Column, file_size, length_of_time, table_lines

    lines: list[Line] = [
        (f"batch {one.name}: {_said_of(one)}", _style(one) or "bold"),
        (
            "  ".join(
                part
                for part in (
                    _bar(one.frames_done, one.frames, 30),
                    f"{one.frames_a_second:.0f} fps" if one.seconds else "",
                    f"{_time_left(one)} left" if _time_left(one) else "",
                    f"{length_of_time(one.seconds)} so far"
                    if one.held
                    else f"took {length_of_time(one.seconds)}",
                    file_size(one.size_bytes),
                )
                if part
            ),
            "",
        ),
        *((f"in {folder}", "") for folder in one.folders),
        *([(f"! {one.note}", "yellow")] if one.note else []),
    ]
    if files:
        columns = [
            Column("file", gives_way=True),
            Column("preset"),
            Column("state"),
            Column("", optional=True),
            Column("frames", right=True),
        ]
        shown = files[:_MOST_FILES] if screen.is_terminal else files
        rows = [
            [file.path.name, file.preset, _file_state(file, one), _bar(file.frames_done, file.frames, 10),
             f"{file.frames_done}/{file.frames}"]
            for file in shown
        ]  # fmt: skip
        styles = {"failed": "red", "verified": "green", "started": "cyan"}
        lines += table_lines(screen, columns, rows, [styles.get(file.state, "") for file in shown])
        if len(files) > len(shown):
            lines.append((f"and {len(files) - len(shown)} more: --json has them all", ""))
        lines += [(f"{file.path.name}: {file.failure}", "red") for file in shown if file.failure]
    if hint := _what_to_do(one):
        lines.append((hint, ""))
    return lines


def _said_of(one: Overview) -> str:
    """A batch in one line."""
    from boxkite.cli.tables import counted

    if one.is_whole:
        left = f"; {counted(one.steps_left, 'step')} left" if one.steps_left else ""
        return f"all of {counted(one.files, 'file')} verified{left}"
    failed = f", {one.failed} failed" if one.failed else ""
    state = one.shown_state.partition(",")[0]
    return f"{state}; {one.verified} of {counted(one.files, 'file')} verified{failed}"


def _what_to_do(one: Overview) -> str:
    if one.held or (one.is_whole and not one.steps_left):
        return ""
    if one.is_whole:
        return f"boxkite resume {one.name} does the steps that are left"
    log = f"boxkite log {one.name} --errors says more; " if one.failed else ""
    return f"{log}boxkite resume {one.name} makes what is missing"


def _files(records: Records, name: str, arguments: argparse.Namespace) -> list[FileRecord]:
    """The files to be shown: those at work and those that failed, or all."""
    if arguments.files:
        return list(records.batch(name).files)
    return records.files_of(name, AT_WORK)


def _file_state(file: FileRecord, one: Overview) -> str:
    state = {"started": "at work", "ready": "at work"}.get(file.state, file.state)
    return "interrupted" if state == "at work" and not one.held else state


def _style(one: Overview) -> str:
    if one.failed or one.steps_failed or one.shown_state == "interrupted":
        return "red"
    return "green" if one.is_whole else "cyan" if one.held else "yellow"


def _bar(done: int, total: int, width: int) -> str:
    share = min(1.0, done / total) if total else 0.0
    full = int(share * width)
    return "━" * full + "─" * (width - full) + f" {int(share * 100):3} %"


def _time_left(one: Overview) -> str:
    from boxkite.cli.tables import length_of_time

    return "" if one.seconds_left is None else length_of_time(one.seconds_left)


def _line(one: Overview) -> str:
    from boxkite.cli.tables import counted

    left = f", {_time_left(one)} left" if _time_left(one) else ""
    failed = f", {one.failed} failed" if one.failed else ""
    return (
        f"{one.name} {one.shown_state}: {one.verified} of {one.files} verified{failed},"
        f" {one.frames_done} of {counted(one.frames, 'frame')}{left}"
    )


def _open(records: Records, name: str) -> int:
    """Show the folder of a batch in the system's own window of files."""

    for folder in records.batch(name, with_files=False).folders:
        _show_folder(folder)
        Screen().print(str(folder))
    return 0


def _show_folder(folder: Path) -> None:
    import os
    import subprocess
    import sys

    from boxkite.core.errors import RequestError
    from boxkite.core.machine import users_environment

    if not folder.is_dir():
        raise RequestError("this folder is not there", path=folder)
    if sys.platform == "win32":
        os.startfile(folder)
        return
    opener = "open" if sys.platform == "darwin" else "xdg-open"
    try:
        subprocess.Popen(
            [opener, str(folder)],
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
            env=users_environment(),
            start_new_session=True,
        )
    except OSError:
        raise RequestError(f"there is no {opener} here to open it with", path=folder) from None
