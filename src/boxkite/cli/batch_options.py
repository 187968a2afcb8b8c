"""The words that say how a batch is run: the same in every command that runs one."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from collections.abc import Sequence

    from boxkite.core.batch.executors.cluster import ClusterExecutor
    from boxkite.core.batch.executors.local import LocalExecutor
    from boxkite.core.batch.notifications import Notifications
    from boxkite.core.batch.turns import Turn

TURNS = ("wait", "share")


def add_batch_arguments(parser: argparse.ArgumentParser) -> None:
    """Options of a batch: workers, its turn, and notifications at its end."""
    how = parser.add_argument_group("how it is run")
    how.add_argument(
        "--workers",
        type=int,
        metavar="N",
        help="shots made at the same time (default: one per core, fewer where memory is short)",
    )
    how.add_argument(
        "--cluster",
        metavar="ADDRESS",
        help="let the workers of this dask.distributed scheduler make it, as tcp://farm:8786",
    )
    how.add_argument(
        "--turn",
        choices=TURNS,
        help="while other batches run: wait for its turn (default), or share the cores with them",
    )
    how.add_argument(
        "--when-ended",
        metavar="COMMAND",
        help="a command to run when the batch has ended; it gets the result in BOXKITE_… and as JSON on its input",
    )
    how.add_argument(
        "--web-hook", metavar="ADDRESS", help="a web address that gets a POST when the batch has ended"
    )


def notifications_from(arguments: argparse.Namespace) -> Notifications:
    """The notifications asked for. Raises RequestError."""
    from boxkite.core.batch.notifications import Notifications
    from boxkite.core.settings import read_settings

    own = read_settings()
    return Notifications(arguments.when_ended or own.when_ended, arguments.web_hook or own.web_hook)


def options_kept_nowhere(arguments: argparse.Namespace) -> list[str]:
    """Options that a process in the background is to be given again, as no record keeps them."""
    options = {
        "--when-ended": arguments.when_ended,
        "--web-hook": arguments.web_hook,
        "--cluster": arguments.cluster,
    }
    return [f"{option}={value}" for option, value in options.items() if value]


def turn_from(arguments: argparse.Namespace) -> Turn:
    """Whether it waits for other batches. Raises RequestError."""
    from boxkite.core.errors import RequestError
    from boxkite.core.settings import read_settings, settings_file

    turn = arguments.turn or read_settings().turn or "wait"
    if turn not in TURNS:
        raise RequestError(f"this is one of {', '.join(TURNS)}", path=settings_file(), key="turn")
    return "share" if turn == "share" else "wait"


def cluster_from(arguments: argparse.Namespace) -> str:
    """The address of the farm that makes it; empty for this machine. Raises RequestError."""
    from boxkite.core.settings import read_settings

    return arguments.cluster or read_settings().cluster


def workers_from(arguments: argparse.Namespace) -> int | None:
    """Shots made at the same time; None where neither options nor settings say. Raises RequestError."""
    from boxkite.core.settings import read_settings

    return read_settings().workers if arguments.workers is None else arguments.workers


def executor_from(cluster: str, workers: int | None) -> LocalExecutor | ClusterExecutor:
    """Whoever makes the shots: processes of this machine, or a farm. Raises RequestError."""
    from boxkite.core.batch.executors.local import LocalExecutor

    if not cluster:
        return LocalExecutor(workers)
    from boxkite.core.batch.executors.cluster import ClusterExecutor
    from boxkite.core.settings import read_settings

    return ClusterExecutor(cluster, read_settings().paths, workers)


def without_secrets(command_line: Sequence[str]) -> list[str]:
    """The arguments of a command as they may be kept: addresses and commands that may hold a secret are left out."""
    kept: list[str] = []
    hidden = False
    for word in command_line:
        option, equals, _ = word.partition("=")
        is_secret = option in _SECRET
        kept.append("…" if hidden else f"{option}=…" if is_secret and equals else word)
        hidden = is_secret and not equals
    return kept


_SECRET = ("--web-hook", "--when-ended", "--cluster")
