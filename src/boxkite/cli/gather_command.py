"""Copy cards to where the originals are kept, verify every file, note the day's metadata, then run a job."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path
from typing import TYPE_CHECKING

from boxkite.cli.batch_options import add_batch_arguments
from boxkite.cli.screen import Screen
from boxkite.cli.settings import add_settings
from boxkite.core.files.reading import path_from

if TYPE_CHECKING:
    from collections.abc import Sequence

    from boxkite.core.arrival.cards import Card, Copied

EXAMPLES = """\
examples:
  boxkite gather /media/A001 /media/B001 --into originals/day1
  boxkite gather /media/A001 --into originals/day1 --value "Scene=3" --value "Unit=second"
  boxkite gather /media/A001 /media/B001 --into originals/day1 --ask Unit,Location --job dailies.toml
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Which cards, where to, what is known of them."""
    parser.add_argument("cards", nargs="+", metavar="CARD", help="cards, or folders copied from them")
    parser.add_argument("--into", required=True, metavar="FOLDER", help="each card gets a folder in it")
    parser.add_argument(
        "--value",
        metavar="NAME=VALUE",
        action="append",
        default=[],
        help="metadata for everything on the cards; names become tokens (repeatable)",
    )
    parser.add_argument(
        "--ask", metavar="NAMES", help="values to ask for, once for all cards, as Unit,Location"
    )
    parser.add_argument("--job", metavar="FILE", help="a job file (.toml) to run on the copies")
    add_settings(
        parser,
        "with --job: any key of it, or a setting of a preset",
    )
    add_batch_arguments(parser)
    parser.add_argument("--json", action="store_true", help="print JSON instead of lines")


def run(arguments: argparse.Namespace) -> int:
    """Copy, compare, note, and run the job; status 1 when a file could not be copied or made."""
    from boxkite.cli.tables import counted, file_size, print_json
    from boxkite.core.arrival.card_lists import check_lists
    from boxkite.core.arrival.cards import count_cards, plan_cards
    from boxkite.core.job.request import request_of_file

    into = path_from(arguments.into).absolute()
    cards = plan_cards([path_from(card) for card in arguments.cards], into)
    check_lists(into)
    if arguments.job:
        # errors in it are reported before anything is copied
        request_of_file(Path(arguments.job), arguments.changes).job_on([])
    metadata = _metadata_given(arguments)
    screen = Screen(stderr=arguments.json)
    copied = _copy(screen, cards)
    failed = [one for one in copied if one.failure]
    checksums, table, unwritten = _lists(into, copied, metadata)
    _note_lists(screen, into, checksums, table)
    counts = count_cards(cards, copied, into)
    complete = not failed and not unwritten and all(count.is_complete for count in counts)
    for one in failed:
        screen.print(f"failed: {one.file.path}: {one.failure}", "red")
    for count in counts:
        for unseen in count.unseen:
            screen.print(f"not copied: {unseen.path}: {unseen.reason}", "red")
    for line in (f"checksums: {checksums}", f"metadata: {table}"):
        screen.print(line)
    for line in unwritten:
        screen.print(f"! {line}", "bold red")
    left = sum(card.left for card in cards)
    if left:
        screen.print(f"{counted(left, 'hidden or system file')} left on the cards")
    for count in counts:
        there = sum(one.was_there for one in copied if one.file.card.name == count.name)
        before = f", {there} of them already there" if there else ""
        screen.print(
            f"{count.name}: {counted(count.files, 'file')}, {file_size(count.size_bytes)} on the card;"
            f" {counted(count.copied_files, 'file')}, {file_size(count.copied_bytes)} copied and verified{before}:"
            f" {'complete' if count.is_complete else 'NOT COMPLETE'}",
            "bold green" if count.is_complete else "bold red",
        )
    if arguments.json:
        print_json(
            {
                "files": [
                    {"source": str(one.file.path), "path": str(one.file.target), "checksum": one.checksum or None,
                     "was_there": one.was_there, "failure": one.failure or None}
                    for one in copied
                ],
                "cards": [
                    {"name": one.name, "files": one.files, "bytes": one.size_bytes, "copied_files": one.copied_files,
                     "copied_bytes": one.copied_bytes, "complete": one.is_complete,
                     "not_copied": [{"path": str(at.path), "reason": at.reason} for at in one.unseen]}
                    for one in counts
                ],
                "checksums": str(checksums),
                "metadata": str(table),
            },
            "gather",
        )  # fmt: skip
    if not arguments.job:
        return int(not complete)
    if not complete:
        screen.print("the job is not run: not every file is there; run the same command again", "bold red")
        return 1
    folders = [into / card.name for card in cards]
    without_manifest = _write_manifests(arguments, screen, folders, copied)
    return _run_job(arguments, folders, table) or without_manifest


def _lists(into: Path, copied: Sequence[Copied], metadata: dict[str, str]) -> tuple[Path, Path, list[str]]:
    """Write checksums and metadata; where they are, and what could not be written."""
    from boxkite.core.arrival.card_lists import CHECKSUMS, METADATA, write_checksums, write_metadata
    from boxkite.core.errors import BoxkiteError

    unwritten = []
    try:
        write_checksums(into, copied)
    except BoxkiteError as error:
        unwritten.append(f"{error.text}; {error.hint}")
    try:
        write_metadata(into, [one.file for one in copied if not one.failure], metadata)
    except BoxkiteError as error:
        unwritten.append(f"{error.text}; {error.hint}")
    return into / CHECKSUMS, into / METADATA, unwritten


def _note_lists(screen: Screen, into: Path, checksums: Path, table: Path) -> None:
    """Note that both lists are ours, so that they are no strangers among the files later."""
    from boxkite.cli.handover import note
    from boxkite.core.handover.delivery import Delivery

    for kind, path in (("checksums", checksums), ("metadata", table)):
        note(screen, Delivery(str(into), is_batch=False, roots=(into,), files=()), kind, path)


def _metadata_given(arguments: argparse.Namespace) -> dict[str, str]:
    """Metadata as given and as answered. Raises RequestError for what is neither, or cannot be asked."""
    from boxkite.core.errors import RequestError

    metadata = {}
    for text in arguments.value:
        name, equals, value = text.partition("=")
        if not equals or not name.strip():
            raise RequestError(f"--value {text}: give a name and a value", hint='as --value "Unit=second"')
        metadata[name.strip()] = value.strip()
    for name in (arguments.ask or "").split(","):
        if name.strip() and name.strip() not in metadata:
            sys.stderr.write(f"{name.strip()}: ")
            sys.stderr.flush()
            answer = sys.stdin.readline()
            if not answer:
                raise RequestError(
                    f"{name.strip()} has no answer", hint=f'--value "{name.strip()}=…" gives it'
                )
            metadata[name.strip()] = answer.strip()
    return metadata


def _copy(screen: Screen, cards: Sequence[Card]) -> list[Copied]:
    """Copy with progress: a bar for each card in a window, a line a file elsewhere."""
    from rich.progress import BarColumn, DownloadColumn, Progress, TextColumn, TransferSpeedColumn

    from boxkite.cli.messages import printable
    from boxkite.core.arrival.cards import Copied, copy_cards

    copied = []
    with Progress(
        TextColumn("{task.description}"), BarColumn(), DownloadColumn(), TransferSpeedColumn(),
        console=screen.console, transient=True, disable=not screen.is_terminal,
    ) as progress:  # fmt: skip
        tasks = {
            card.folder: progress.add_task(printable(card.name), total=card.size_bytes) for card in cards
        }
        for event in copy_cards(cards):
            if not isinstance(event, Copied):
                progress.update(tasks[event.card], completed=event.done_bytes)
                continue
            copied.append(event)
            state = "failed  " if event.failure else "the same" if event.was_there else "verified"
            why = f": {event.failure}" if event.failure else ""
            if not screen.is_terminal or event.failure:
                name = event.file.path.relative_to(event.file.card)
                screen.print(f"{state}  {event.file.card.name}/{name}{why}", "red" if why else "")
    return copied


def _write_manifests(
    arguments: argparse.Namespace, screen: Screen, folders: Sequence[Path], copied: Sequence[Copied]
) -> int:
    """Write a manifest into the folder of each card, where the job asks for manifests; the exit status."""
    from boxkite.core.job.request import request_of_file

    form = request_of_file(Path(arguments.job), arguments.changes).job_on([]).manifest
    if not form:
        return 0
    from boxkite.cli.handover import note
    from boxkite.cli.options import current_user
    from boxkite.core.errors import BoxkiteError
    from boxkite.core.handover.delivery import delivery_of_folder
    from boxkite.core.handover.manifests import write_manifests
    from boxkite.core.records.handovers import MANIFEST

    taken, status = {one.file.target: one.checksum for one in copied if one.checksum}, 0
    for folder in folders:
        delivery = delivery_of_folder(folder)
        try:
            written = write_manifests(delivery, form, author=current_user(), taken=taken)
        except BoxkiteError as error:
            screen.print(f"no manifest: {error.text}", "red")
            status = 1
            continue
        for one in written:
            note(screen, delivery, MANIFEST, one.path)
            screen.print(f"manifest: {one.path}")
    return status


def _run_job(arguments: argparse.Namespace, folders: Sequence[Path], table: Path) -> int:
    from boxkite.cli.batch_options import (
        cluster_from,
        executor_from,
        notifications_from,
        turn_from,
        workers_from,
    )
    from boxkite.cli.options import current_user
    from boxkite.cli.plan_command import plan_with_progress
    from boxkite.cli.run_command import run_and_tell
    from boxkite.core.batch.recording import Batch
    from boxkite.core.job.request import request_of_file

    request = request_of_file(Path(arguments.job), arguments.changes)
    job = request.job_on(folders, metadata=[table], user=current_user())
    batch = Batch(
        turn=turn_from(arguments),
        job=job,
        notifications=notifications_from(arguments),
        cluster=cluster_from(arguments),
    )
    with executor_from(batch.cluster, workers_from(arguments)) as executor:
        return run_and_tell(plan_with_progress(job), executor, batch, as_json=False)
