"""Sending the files of a plan: several at once, tried again where it can pass, each checked before it is named."""

from __future__ import annotations

import contextlib
import queue
import threading
import time
from collections.abc import Callable, Generator, Iterator, Sequence
from functools import partial
from pathlib import PurePosixPath
from typing import Any, Literal

from msgspec import Struct

from boxkite.core.errors import BoxkiteError
from boxkite.core.handover.sending.address import Address
from boxkite.core.handover.sending.failures import Failure, failure_of
from boxkite.core.handover.sending.place import ChangedHereError, Content, Place, Remote, WrongThereError
from boxkite.core.handover.sending.places import connect
from boxkite.core.handover.sending.planning import PlannedUpload, SendPlan
from boxkite.core.handover.sending.s3 import S3Place
from boxkite.core.records.sendings import SendingJournal, SentFile, forget_partial
from boxkite.core.records.store import Records

ATTEMPTS = 5
PAUSE_SECONDS = 1.0
"""Before the second attempt; twice as long before each further one."""
LONGEST_PAUSE_SECONDS = 30.0
AT_ONCE = 4
Check = Literal["checksum", "size"]
"""How what was sent is checked: by reading it back, or its server's own checksum; or by its size alone."""


class Sent(Struct, frozen=True):
    """What came of a file."""

    planned: PlannedUpload
    failure: Failure | None = None
    how: str = ""
    """How it was checked."""
    attempts: int = 1
    seconds: float = 0.0


class Bytes(Struct, frozen=True):
    """So many bytes went over; below 0 where they are sent again."""

    count: int


class Retry(Struct, frozen=True):
    """A file is tried again."""

    planned: PlannedUpload
    failure: Failure


SendEvent = Sent | Bytes | Retry


class _StoppedError(Exception):
    """The user, or another file's failure, ended it."""


def send_all(
    plan: SendPlan,
    records: Records,
    *,
    who: str,
    check: Check = "checksum",
    at_once: int = AT_ONCE,
) -> Generator[SendEvent, None, None]:
    """Send what the plan says, and tell how it goes. Closing the iterator stops it; the rest can be sent later.

    Raises RecordsError.
    """
    found = [one for one in plan.uploads if one.what == "identical"]
    if not plan.to_send and not plan.stale and not found:
        return
    journal = SendingJournal(records, plan.address.url, who)
    journal.begin(
        SentFile(one.upload.name, one.upload.path, one.upload.checksum, one.upload.size_bytes,
                 one.partial if one.is_sent else "")
        for one in (*plan.to_send, *found)
    )  # fmt: skip
    for one in found:
        journal.is_now(one.upload.name, "sent", tag=one.tag, how="identical")
    senders = _Senders(plan, check, at_once)
    done: list[PlannedUpload] = []
    try:
        for event in senders.events():
            if isinstance(event, Sent):
                if event.failure:
                    journal.is_now(event.planned.upload.name, "failed", how=event.failure.reason)
                else:
                    done.append(event.planned)
                    journal.is_now(event.planned.upload.name, "sent", how=event.how)
            yield event
    finally:
        senders.stop()
    yield from _look_again(plan, done, journal, records)
    journal.end()


class _Senders:
    """Threads, each with a connection of its own, that take the files of a plan in turn."""

    def __init__(self, plan: SendPlan, check: str, at_once: int) -> None:
        self._plan = plan
        self._check = check
        self._waiting: queue.SimpleQueue[PlannedUpload] = queue.SimpleQueue()
        for one in plan.to_send:
            self._waiting.put(one)
        self._events: queue.Queue[SendEvent | None] = queue.Queue(1000)
        self._ends = threading.Event()
        self._for_all: Failure | None = None
        self._made: set[str] = set()
        self._making = threading.Lock()
        count = max(1, min(at_once, len(plan.to_send)))
        self._threads = [threading.Thread(target=self._work, daemon=True) for _ in range(count)]

    def events(self) -> Iterator[SendEvent]:
        """Start, and everything that happens."""
        for thread in self._threads:
            thread.start()
        left = len(self._threads)
        while left:
            event = self._events.get()
            if event is None:
                left -= 1
            else:
                yield event

    def stop(self) -> None:
        """Let the threads end where they are; what is half sent stays there to be resumed."""
        self._ends.set()
        until = time.monotonic() + 5
        while any(thread.is_alive() for thread in self._threads) and time.monotonic() < until:
            with contextlib.suppress(queue.Empty):
                self._events.get(timeout=0.05)

    def _work(self) -> None:
        connection = Connection(self._plan.address)
        try:
            while not self._ends.is_set():
                try:
                    one = self._waiting.get_nowait()
                except queue.Empty:
                    return
                self._events.put(self._send(connection, one))
        except _StoppedError:
            return
        finally:
            connection.drop()
            self._events.put(None)

    def _send(self, connection: Connection, one: PlannedUpload) -> Sent:
        started = time.monotonic()
        for attempt in range(1, ATTEMPTS + 1):
            if self._for_all:
                return Sent(one, self._for_all, attempts=attempt - 1)
            counted = _Counter(self)
            try:
                how = self._attempt(connection.place(), one, counted)
                return Sent(one, None, how, attempt, time.monotonic() - started)
            except _StoppedError:
                raise
            except Exception as error:
                failure = connection.failure_of(error)
            self._events.put(Bytes(-counted.bytes))
            if failure.is_reconnected:
                connection.drop()
            if failure.is_for_all:
                self._for_all = failure
            if not failure.can_pass or attempt == ATTEMPTS:
                break
            self._events.put(Retry(one, failure))
            self._pause(attempt)
        return Sent(one, failure, attempts=attempt, seconds=time.monotonic() - started)

    def _attempt(self, place: Place, one: PlannedUpload, tick: _Counter) -> str:
        upload = one.upload
        content = Content(upload.path, upload.size_bytes, upload.checksum)
        self._make_folder(place, str(PurePosixPath(upload.name).parent))
        if isinstance(place, S3Place):
            how = place.deliver(content, upload.name, tick, replace=one.what == "replace")
            if self._check == "checksum":
                how = how or self._read_back(place, content, upload.name, tick)
            return how or "size"
        try:
            place.send(content, one.partial, tick)
            how = "size"
            if self._check == "checksum":
                how = place.check(content, one.partial, lambda _: tick(0))
            elif place.can_append and place.length_of(one.partial) != upload.size_bytes:
                raise WrongThereError
        except (WrongThereError, ChangedHereError):
            place.remove(one.partial)
            raise
        place.name_it(one.partial, upload.name, replace=one.what == "replace")
        return how

    def _read_back(self, place: Place, content: Content, name: str, tick: _Counter) -> str:
        """Compare an object that has its name already; a wrong one is taken away again."""
        try:
            return place.check(content, name, lambda _: tick(0))
        except WrongThereError:
            place.remove(name)
            raise

    def _make_folder(self, place: Place, folder: str) -> None:
        folder = "" if folder == "." else folder
        with self._making:
            if folder not in self._made:
                place.make_folder(folder)
                self._made.add(folder)

    def count(self, sent: int) -> None:
        """Tell of bytes that went over. Raises _StoppedError where it is to end."""
        if self._ends.is_set():
            raise _StoppedError
        if sent:
            self._events.put(Bytes(sent))

    def _pause(self, attempt: int) -> None:
        if self._ends.wait(min(LONGEST_PAUSE_SECONDS, PAUSE_SECONDS * 2 ** (attempt - 1))):
            raise _StoppedError


class _Counter:
    """Counts the bytes of one attempt."""

    def __init__(self, senders: _Senders) -> None:
        self._senders = senders
        self.bytes = 0

    def __call__(self, sent: int) -> None:
        self.bytes += sent
        self._senders.count(sent)


class Connection:
    """A connection that is made when it is needed, and made anew after it broke."""

    def __init__(self, address: Address) -> None:
        self._address = address
        self._place: Place | None = None

    def place(self) -> Place:
        """The connection. Raises what its library raises."""
        if self._place is None:
            self._place = connect(self._address)
        return self._place

    def failure_of(self, error: Exception) -> Failure:
        """What an exception of its library means."""
        return failure_of(error, self._place, self._address.protocol, self._address.server)

    def tried(self, call: Callable[[Place], Any]) -> Any:
        """What a call returns, tried again where that can help; else the failure."""
        for attempt in range(1, ATTEMPTS + 1):
            try:
                return call(self.place())
            except BoxkiteError:
                raise  # of the request, not of the destination
            except Exception as error:
                failure = self.failure_of(error)
            if not failure.can_pass or attempt == ATTEMPTS:
                break
            self.drop()
            time.sleep(min(LONGEST_PAUSE_SECONDS, PAUSE_SECONDS * 2 ** (attempt - 1)))
        return failure

    def drop(self) -> None:
        """Close it."""
        if self._place is not None:
            with contextlib.suppress(Exception):
                self._place.close()
            self._place = None


def _look_again(
    plan: SendPlan, done: Sequence[PlannedUpload], journal: SendingJournal, records: Records
) -> Iterator[SendEvent]:
    """Look whether every file bears its name and has its size, note how it is told from others; remove old partials."""
    by_folder: dict[str, list[PlannedUpload]] = {}
    for one in done:
        by_folder.setdefault(str(PurePosixPath(one.upload.name).parent), []).append(one)
    connection = Connection(plan.address)
    for folder, ones in by_folder.items():
        there = connection.tried(partial(_files_in, folder=folder))
        if isinstance(there, Failure):
            yield from (Sent(one, there) for one in ones)
            continue
        tags = []
        for one in ones:
            remote = there.get(PurePosixPath(one.upload.name).name)
            if remote is None or remote.size_bytes != one.upload.size_bytes:
                failure = Failure("it was sent, but is not there under its name in its size")
                journal.is_now(one.upload.name, "failed", how=failure.reason)
                yield Sent(one, failure)
            else:
                tags.append((one.upload.name, remote.tag))
        journal.tags(tags)
    for stale in plan.stale:
        if not isinstance(connection.tried(partial(_remove, name=stale)), Failure):
            forget_partial(records, plan.address.url, stale)
    connection.drop()


def _files_in(place: Place, folder: str) -> dict[str, Remote]:
    return place.files_in("" if folder == "." else folder)


def _remove(place: Place, name: str) -> None:
    place.remove_partial(name)
