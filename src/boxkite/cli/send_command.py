"""Send finished files to folders and servers: tried again, checked there, never over another file."""

from __future__ import annotations

import argparse
import contextlib
from typing import TYPE_CHECKING, Any

from boxkite.cli.handover import bytes_progress, note
from boxkite.cli.screen import Screen

if TYPE_CHECKING:
    from collections.abc import Generator, Iterator

    from boxkite.core.handover.sending.address import Address
    from boxkite.core.handover.sending.everywhere import SendPlans
    from boxkite.core.handover.sending.planning import PlannedUpload
    from boxkite.core.handover.sending.sending import SendEvent, Sent

EXAMPLES = """\
examples:
  boxkite send last /media/client/mill
  boxkite send last https://cloud.example/dav/mill --only light
  boxkite send out/review sftp://mia@post.example/incoming s3://mill-shots/review
  boxkite send last client --names "@scene/@marker" --only circled --dry-run

https:// is a WebDAV folder; “client” is a destination of settings.toml. Passwords are read from
~/.netrc and the system's keyring, keys from SSH and AWS profiles; an address holds none.
What is there already is not sent again; what was half sent is resumed.
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What, where to, and how."""
    parser.add_argument("delivery", metavar="BATCH|FOLDER", help="a batch by its name, last, or a folder")
    parser.add_argument("destinations", nargs="+", metavar="DESTINATION",
                        help="folders, URLs, or names of destinations in settings.toml")  # fmt: skip
    parser.add_argument("--only", metavar="CHOICE", action="append", default=[],
                        help="only files that fit (light: what browsers play; new: not sent before; or as in a job,"
                        " circled, keyword:vat, preset:web; repeatable, all must fit)")  # fmt: skip
    parser.add_argument(
        "--names", metavar="PATTERN", help="names and folders there (default: as they are here)"
    )
    parser.add_argument("--files-only", action="store_true",
                        help="no manifests, sheets, pages and other files beside them")  # fmt: skip
    parser.add_argument("--metadata", metavar="FILE", action="append", default=[],
                        help="a table about the files or sources; its columns become tokens (repeatable)")  # fmt: skip
    parser.add_argument(
        "--existing", metavar="POLICY", choices=("stop", "skip", "number", "replace"), default="stop",
        help="what happens where the name is taken (stop, skip, number or replace; default: stop)",
    )  # fmt: skip
    parser.add_argument("--check", choices=("checksum", "size"), default="checksum", metavar="HOW",
                        help="what was sent is compared by checksum or by size alone (default: checksum)")  # fmt: skip
    parser.add_argument("--workers", type=int, metavar="N", default=4,
                        help="files on their way at the same time, for each destination (default: 4)")  # fmt: skip
    parser.add_argument("--dry-run", action="store_true", help="list what would be sent, and send nothing")
    parser.add_argument("--json", action="store_true", help="print JSON instead of lines")


def run(arguments: argparse.Namespace) -> int:
    """Plan, list or send; status 1 where a file could not be sent."""
    from boxkite.core.errors import RequestError
    from boxkite.core.handover.delivery import delivery_of
    from boxkite.core.handover.sending.address import read_address
    from boxkite.core.handover.sending.everywhere import planned_for
    from boxkite.core.handover.sending.uploads import NEW, with_checksums
    from boxkite.core.settings import read_settings

    if not 1 <= arguments.workers <= 64:
        raise RequestError("--workers: 1 to 64")
    named = read_settings().destinations
    addresses = [read_address(text, named) for text in arguments.destinations]
    screen = Screen(stderr=arguments.json)
    delivery = delivery_of(arguments.delivery)
    uploads = _uploads(arguments, delivery)
    unknown = sum(one.size_bytes for one in uploads if not one.checksum)
    with bytes_progress(screen, "reading", unknown) as progress:
        uploads = with_checksums(uploads, progress)
    with contextlib.ExitStack() as held:
        with bytes_progress(screen, "comparing with what is there", 0) as compared:
            plans = held.enter_context(
                planned_for(addresses, uploads, existing=arguments.existing, only_new=NEW in arguments.only,
                            progress=compared)
            )  # fmt: skip
        sent: dict[Address, list[Sent]] = {}
        if not arguments.dry_run:
            for warning in _in_the_clear(addresses):
                screen.print(f"! {warning}", "yellow")
            with contextlib.closing(_send(screen, plans, arguments)) as happening:
                for address, one in happening:
                    sent.setdefault(address, []).append(one)
    if arguments.dry_run:
        _list(screen, plans)
    else:
        from boxkite.core.handover.sending.everywhere import as_lines

        for line in as_lines(plans, sent):
            note(screen, delivery, "sent", None, line)
        _show(screen, plans, sent)
    if arguments.json:
        _print_json(plans, sent, dry_run=arguments.dry_run)
    failed = any(one.failure for found in sent.values() for one in found)
    return int(bool(failed or plans.failures or delivery.unseen))


def _uploads(arguments: argparse.Namespace, delivery: Any) -> list[Any]:
    from boxkite.cli.options import current_user
    from boxkite.core.files.reading import path_from
    from boxkite.core.handover.sending.uploads import NEW, uploads_of
    from boxkite.core.naming.pattern import read_pattern
    from boxkite.core.naming.saved import pattern_of

    names = pattern_of(arguments.names)
    return uploads_of(
        delivery,
        only=[text for text in arguments.only if text != NEW],
        names=read_pattern(names) if names else None,
        tables=[path_from(path) for path in arguments.metadata],
        with_others=not arguments.files_only,
        user=current_user(),
    )


def _in_the_clear(addresses: list[Address]) -> list[str]:
    return [
        f"{address.server} is not encrypted: files and password can be read on the way"
        for address in addresses
        if address.scheme == "http" and address.host not in ("localhost", "127.0.0.1", "::1")
    ]


def _send(
    screen: Screen, plans: SendPlans, arguments: argparse.Namespace
) -> Generator[tuple[Address, Sent], None, None]:
    """Send, with a bar in a window, else a line for each file; what came of each."""
    from boxkite.cli.options import current_user
    from boxkite.core.handover.sending.everywhere import send_everywhere
    from boxkite.core.handover.sending.sending import Bytes, Retry

    happening = send_everywhere(plans, who=current_user(), check=arguments.check, at_once=arguments.workers)
    with _interruptible(), _progress(screen, plans) as tell, contextlib.closing(happening):
        for plan, event in happening:
            if isinstance(event, Bytes):
                tell(event, "")
            elif isinstance(event, Retry):
                tell(event, f"again     {event.planned.upload.name}: {event.failure.reason}")
            elif event.failure:
                tell(event, f"failed    {event.planned.upload.name}: {event.failure.text}")
                yield plan.address, event
            else:
                tell(event, f"sent      {event.planned.upload.name}, {event.how}")
                yield plan.address, event


@contextlib.contextmanager
def _interruptible() -> Iterator[None]:
    """Where the user interrupts it, say how it is resumed."""
    try:
        yield
    except KeyboardInterrupt:
        raise KeyboardInterrupt("the same command sends the rest and resumes what is half sent") from None


@contextlib.contextmanager
def _progress(screen: Screen, plans: SendPlans) -> Iterator[Any]:
    """A function that takes an event and a line of text about it."""
    from boxkite.core.handover.sending.sending import Bytes, Retry, Sent

    if not (screen.is_terminal and plans.to_send):

        def tell_lines(event: SendEvent, line: str) -> None:
            if line:
                screen.print(line)

        yield tell_lines
        return
    from rich.progress import (
        BarColumn,
        DownloadColumn,
        Progress,
        TextColumn,
        TimeRemainingColumn,
        TransferSpeedColumn,
    )

    files, done = plans.to_send, 0
    with Progress(
        TextColumn("{task.description}"), BarColumn(), DownloadColumn(), TransferSpeedColumn(), TimeRemainingColumn(),
        console=screen.console, transient=True,
    ) as progress:  # fmt: skip
        task = progress.add_task(f"sending 0 of {files}", total=plans.size_bytes or None)

        def tell(event: SendEvent, line: str) -> None:
            nonlocal done
            if isinstance(event, Bytes):
                progress.advance(task, event.count)
            elif isinstance(event, Retry) or (isinstance(event, Sent) and event.failure):
                screen.print(line, "yellow" if isinstance(event, Retry) else "red")
            else:
                done += 1
                progress.update(task, description=f"sending {done} of {files}")

        yield tell


def _list(screen: Screen, plans: SendPlans) -> None:
    """Every file, and what would become of it at each destination."""
    from boxkite.cli.tables import Column, counted, file_size, print_table

    columns = [Column("name there", gives_way=True), Column("size", right=True), Column("")]
    for plan in plans.plans:
        screen.print(plan.address.label, "bold")
        rows = [[one.upload.name, file_size(one.upload.size_bytes), _what(one)] for one in plan.uploads]
        print_table(screen, columns, rows)
        screen.print()
    _show_unreached(screen, plans)
    total = f"{counted(plans.to_send, 'file')}, {file_size(plans.size_bytes)}"
    screen.print(f"{total} would be sent; nothing was", "bold green")


def _what(one: PlannedUpload) -> str:
    return {"send": "to send", "replace": "replaces another", "kept": "skipped: another is there",
            "sent before": "there: sent before", "identical": "there: identical"}[one.what]  # fmt: skip


def _show(screen: Screen, plans: SendPlans, sent: dict[Address, list[Sent]]) -> None:
    from boxkite.cli.tables import counted, file_size

    is_terminal = screen.is_terminal
    for plan in plans.plans:
        found = sent.get(plan.address, [])
        failed = {one.planned.upload.name: one for one in found if one.failure}
        done = [one for one in found if not one.failure and one.planned.upload.name not in failed]
        for one in failed.values() if is_terminal else ():
            assert one.failure
            screen.print(f"failed: {one.planned.upload.name}: {one.failure.text}", "red")
        parts = [
            f"{counted(len(done), 'file')} sent, {file_size(sum(one.planned.upload.size_bytes for one in done))}"
        ]
        there = sum(one.what in ("sent before", "identical") for one in plan.uploads)
        kept = sum(one.what == "kept" for one in plan.uploads)
        parts += [f"{there} there before"] if there else []
        parts += [f"{kept} skipped: another file is there"] if kept else []
        parts += [f"{len(failed)} failed"] if failed else []
        how = "; every one checked" if done and not failed and all(one.how != "size" for one in done) else ""
        screen.print(f"{plan.address.label}: {', '.join(parts)}{how}", "bold red" if failed else "bold green")
    _show_unreached(screen, plans)
    if any(one.failure for found in sent.values() for one in found) or plans.failures:
        screen.print("send again sends what is missing")


def _show_unreached(screen: Screen, plans: SendPlans) -> None:
    for address, failure in plans.failures.items():
        screen.print(f"{address.label}: nothing sent: {failure.text}", "bold red")


def _print_json(plans: SendPlans, sent: dict[Address, list[Sent]], *, dry_run: bool) -> None:
    from boxkite.cli.tables import print_json

    destinations = []
    for plan in plans.plans:
        ended = {one.planned.upload.name: one for one in sent.get(plan.address, [])}
        files = []
        for planned in plan.uploads:
            one = ended.get(planned.upload.name)
            files.append({
                "path": str(planned.upload.path), "name": planned.upload.name, "size_bytes": planned.upload.size_bytes,
                "checksum": planned.upload.checksum, "what": planned.what,
                "checked": one.how or None if one and not one.failure else None,
                "attempts": one.attempts if one else 0,
                "failure": one.failure.text if one and one.failure else None,
            })  # fmt: skip
        destinations.append(
            {"destination": plan.address.label, "url": plan.address.url, "files": files, "failure": None}
        )
    destinations += [_as_json(address, [], failure.text) for address, failure in plans.failures.items()]
    print_json({"dry_run": dry_run, "destinations": destinations}, "send")


def _as_json(address: Address, files: list[dict[str, Any]], failure: str | None) -> dict[str, Any]:
    return {"destination": address.label, "url": address.url, "files": files, "failure": failure}
