"""Watch a folder: a job is run once on every source that arrives complete; others are set aside."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from boxkite.cli.batch_options import (
    add_batch_arguments,
    cluster_from,
    executor_from,
    notifications_from,
    turn_from,
    workers_from,
)
from boxkite.cli.handover import run_steps_of
from boxkite.cli.screen import Screen
from boxkite.cli.settings import add_settings
from boxkite.core.files.reading import path_from

if TYPE_CHECKING:
    from collections.abc import Sequence

    from boxkite.core.arrival.watching import WatchEvent
    from boxkite.core.job.job import Job

EXAMPLES = """\
examples:
  boxkite watch landing/ --job review.toml
  boxkite watch /srv/landing --job review.toml --settle 30 --patience 3600
  boxkite watch landing/ --job review.toml --set "names=@clip_@date" --once
  boxkite watch landing/ --list
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Which folder, by which job."""
    parser.add_argument("folder", metavar="FOLDER", help="folder in which files arrive, subfolders included")
    parser.add_argument("--job", metavar="FILE", help="job file (.toml) that makes them")
    add_settings(
        parser,
        "any key of a job file, or a setting of a preset",
    )
    parser.add_argument(
        "--settle",
        type=float,
        default=10.0,
        metavar="SECONDS",
        help="without change before a file is opened (default: 10)",
    )
    parser.add_argument(
        "--patience",
        type=float,
        default=600.0,
        metavar="SECONDS",
        help="without change before an incomplete file is set aside (default: 600)",
    )
    parser.add_argument(
        "--every", type=float, default=2.0, metavar="SECONDS", help="between two scans (default: 2)"
    )
    parser.add_argument("--once", action="store_true", help="end when nothing is left to wait for")
    parser.add_argument("--list", action="store_true", help="list what has arrived so far, and end")
    parser.add_argument("--again", action="store_true", help="check again what was set aside")
    add_batch_arguments(parser)
    parser.add_argument("--json", action="store_true", help="with --list: print JSON")


def run(arguments: argparse.Namespace) -> int:
    """Watch until it is ended; status 1 with --once where something was set aside or failed."""
    from boxkite.cli.options import current_user
    from boxkite.cli.plan_command import check_after
    from boxkite.core.arrival.watching import WatchSettings, watch
    from boxkite.core.errors import RequestError
    from boxkite.core.job.request import request_of_file
    from boxkite.core.records.arrivals import ArrivalLog
    from boxkite.core.records.store import Records

    folder = path_from(arguments.folder).resolve()
    if arguments.list:
        return _list(folder, as_json=arguments.json)
    if not arguments.job:
        raise RequestError("--job is missing", hint="plan … --save-job job.toml writes one")
    for word in ("settle", "patience", "every"):
        if not 0 <= getattr(arguments, word) < 10**7:
            raise RequestError(f"--{word}: give seconds from 0")

    def job_of(paths: Sequence[Path]) -> Job:
        return request_of_file(Path(arguments.job), arguments.changes).job_on(paths, user=current_user())

    check_after(job_of([]))
    if arguments.again:
        with Records() as records:
            ArrivalLog(records, folder).look_again()
    settings = WatchSettings(
        settle_seconds=arguments.settle,
        patience_seconds=arguments.patience,
        look_every_seconds=max(0.1, arguments.every),
        once=arguments.once,
        workers=workers_from(arguments),
        turn=turn_from(arguments),
        cluster=cluster_from(arguments),
        executor_of=executor_from,
        notifications=notifications_from(arguments),
        images=job_of([]).images,
    )
    screen = Screen()
    if named := request_of_file(Path(arguments.job), arguments.changes).own_paths:
        screen.print(f"{arguments.job} names {', '.join(named)}: not used here, only what arrives", "yellow")
    bad = 0
    screen.print(f"watching {folder}; end it with Ctrl-C")
    for event in watch(folder, job_of, settings):
        bad += _tell(screen, event)
    return 1 if bad else 0


def _tell(screen: Screen, event: WatchEvent) -> int:
    """Say what has happened; 1 where it is a failure."""
    from datetime import datetime

    from boxkite.cli.progress import file_line, line_of
    from boxkite.cli.tables import counted
    from boxkite.core.arrival.watching import BatchBegins, BatchEnds, SetAside, Unreachable
    from boxkite.core.batch.events import FileEnded, OutOfSpace

    at = f"{datetime.now():%H:%M:%S}"
    if isinstance(event, SetAside):
        screen.print(f"{at} set aside  {event.arrival.name}: {event.reason}", "red")
        return 1
    if isinstance(event, Unreachable):
        screen.print(f"{at} ! {event.folder}: {event.reason}", "yellow")
    elif isinstance(event, BatchBegins):
        sources = dict.fromkeys(row.shot.footage.source.label for row in event.rows)
        names = ", ".join(sources)
        how = "is resumed" if event.resumed else "begins"
        files = counted(len(event.rows), "file")
        screen.print(f"{at} batch {event.batch.name} {how}: {files} of {names}", "bold")
    elif isinstance(event, FileEnded):
        text, style = file_line(event)
        screen.print(f"{at} {text}", style)
        return int(bool(event.result.failure))
    elif isinstance(event, BatchEnds):
        problems = [event.batch.problem] if event.batch.problem else []
        for notice in (*problems, *event.batch.notices):
            screen.print(f"{at} ! {notice.marked}", "yellow")
        return run_steps_of(screen, event.batch.name, is_held=True)
    elif isinstance(event, OutOfSpace):
        left = counted(len(event.rows), "file")
        screen.print(f"{at} ! {left} not begun: no room in {event.folder}", "bold yellow")
        return 1
    elif text := line_of(event):
        screen.print(f"{at} {text}", "yellow")
    return 0


def _list(folder: Path, *, as_json: bool) -> int:
    """List the sources that arrived, their state, and those that wait; status 1 where a folder could not be entered."""
    from boxkite.cli.tables import Column, print_json, print_table
    from boxkite.cli.warnings import show_unseen
    from boxkite.core.arrival.listing import list_folder
    from boxkite.core.errors import RequestError
    from boxkite.core.records.store import Records

    try:
        with Records() as records:
            listing = list_folder(records, folder)
    except OSError as error:
        raise RequestError(f"it cannot be looked into: {error.strerror or error}", path=folder) from None
    if as_json:
        print_json(
            {
                "folder": str(folder),
                "watched": listing.is_watched,
                "landed": [
                    {"path": str(one.path), "state": one.state, "batch": one.batch or None,
                     "reason": one.reason or None, "at": one.at or None, "files": one.files,
                     "verified": one.verified}
                    for one in listing.sources
                ],
                "unseen": [{"path": str(one.path), "reason": one.reason} for one in listing.unseen],
            },
            "watch",
        )  # fmt: skip
        return int(bool(listing.unseen))
    screen = Screen()
    columns = [
        Column("landed"),
        Column("source", gives_way=True),
        Column("state"),
        Column("files", right=True),
        Column("batch"),
        Column("reason", gives_way=True),
    ]
    rows = [
        [one.at[:19].replace("T", " "), one.path.name, one.state,
         f"{one.verified}/{one.files}" if one.files else "", one.batch, one.reason]
        for one in listing.sources
    ]  # fmt: skip
    if rows:
        print_table(screen, columns, rows)
        screen.print()
    waiting = sum(not one.at for one in listing.sources)
    landed = f"{len(rows) - waiting} landed, {waiting} waiting" if rows else "nothing has landed yet"
    watched = "the folder is being watched" if listing.is_watched else "nobody watches the folder now"
    screen.print(f"{landed}; {watched}", "bold")
    show_unseen(screen, listing.unseen)
    return int(bool(listing.unseen))
