"""Sending to several destinations at once: planned for all before the first byte goes out."""

from __future__ import annotations

import contextlib
import hashlib
import queue
import threading
from collections.abc import Callable, Generator, Iterator, Mapping, Sequence

from msgspec import Struct, field

from boxkite.core.errors import SendError
from boxkite.core.handover.sending.address import Address
from boxkite.core.handover.sending.failures import Failure
from boxkite.core.handover.sending.planning import Existing, SendPlan, plan_sending
from boxkite.core.handover.sending.sending import AT_ONCE, Check, Connection, SendEvent, Sent, send_all
from boxkite.core.handover.sending.uploads import Upload
from boxkite.core.records.batch_lock import BatchLock
from boxkite.core.records.store import Records


class SendPlans(Struct):
    """What sending does, by destination."""

    plans: list[SendPlan] = field(default_factory=list)
    failures: dict[Address, Failure] = field(default_factory=dict)
    """Destinations that could not be looked at."""

    @property
    def to_send(self) -> int:
        """How many files go over, to all destinations together."""
        return sum(len(plan.to_send) for plan in self.plans)

    @property
    def size_bytes(self) -> int:
        """How many bytes go over at most."""
        return sum(plan.size_bytes for plan in self.plans)


@contextlib.contextmanager
def planned_for(
    addresses: Sequence[Address],
    uploads: Sequence[Upload],
    *,
    existing: Existing = "stop",
    only_new: bool = False,
    progress: Callable[[int], None] = lambda _: None,
) -> Iterator[SendPlans]:
    """The plans for all destinations, each held so that no other process sends there meanwhile.

    progress: see plan_sending. Raises RecordsError where one does, PlanError where another file has a name and that
    stops it, SendError where no destination could be looked at.
    """
    found = SendPlans()
    with contextlib.ExitStack() as held, Records() as records:
        for address in dict.fromkeys(addresses):
            held.enter_context(_held(records, address))
            connection = Connection(address)
            plan = connection.tried(
                lambda place: plan_sending(
                    place, uploads, records, existing=existing, only_new=only_new, progress=progress
                )
            )
            connection.drop()
            if isinstance(plan, Failure):
                found.failures[address] = plan
            else:
                found.plans.append(plan)
        if not found.plans:
            address, failure = next(iter(found.failures.items()))
            raise SendError(failure.reason, path=address.label, hint=failure.hint)
        for plan in found.plans:
            plan.require_free()
        yield found


def _held(records: Records, address: Address) -> BatchLock:
    key = hashlib.sha256(address.url.encode("utf-8", "surrogatepass")).hexdigest()[:16]
    return BatchLock(records.folder, f"sending-{key}", taken=f"another process is sending to {address.label}",
                     hint="wait for it, or stop it")  # fmt: skip


def send_everywhere(
    plans: SendPlans, *, who: str, check: Check = "checksum", at_once: int = AT_ONCE
) -> Generator[tuple[SendPlan, SendEvent], None, None]:
    """Send to all destinations at the same time, and tell how it goes. Raises BoxkiteError of the records."""
    events: queue.Queue[tuple[SendPlan, SendEvent | BaseException | None]] = queue.Queue(1000)
    ends = threading.Event()

    def send(plan: SendPlan) -> None:
        try:
            with (
                Records() as records,
                contextlib.closing(
                    send_all(plan, records, who=who, check=check, at_once=at_once)
                ) as happening,
            ):
                for event in happening:
                    events.put((plan, event))
                    if ends.is_set():
                        return
        except BaseException as error:
            events.put((plan, error))
        finally:
            events.put((plan, None))

    threads = [threading.Thread(target=send, args=(plan,), daemon=True) for plan in plans.plans]
    for thread in threads:
        thread.start()
    left = len(threads)
    try:
        while left:
            plan, event = events.get()
            if event is None:
                left -= 1
            elif isinstance(event, BaseException):
                raise event
            else:
                yield plan, event
    finally:
        ends.set()
        for thread in threads:
            while thread.is_alive():
                with contextlib.suppress(queue.Empty):
                    events.get(timeout=0.05)


def as_lines(plans: SendPlans, sent: Mapping[Address, Sequence[Sent]]) -> list[str]:
    """For each destination what was sent, in the words of a log."""
    lines = []
    for plan in plans.plans:
        done = [one for one in sent.get(plan.address, ()) if one.failure is None]
        failed = len({one.planned.upload.name for one in sent.get(plan.address, ()) if one.failure})
        names = {one.planned.upload.name for one in done} - {
            one.planned.upload.name for one in sent.get(plan.address, ()) if one.failure
        }
        there = sum(one.what in ("sent before", "identical") for one in plan.uploads)
        parts = [f"{len(names)} files to {plan.address.label}"]
        parts += [f"{there} there before"] if there else []
        parts += [f"{failed} failed"] if failed else []
        lines.append(", ".join(parts))
    return lines
