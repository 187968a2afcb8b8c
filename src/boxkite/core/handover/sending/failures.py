"""Why something could not be sent, in our own words; whether it can pass, and whether the rest would fail too.

Libraries' messages are not shown: they hold addresses, headers and sometimes more.
"""

from __future__ import annotations

import errno
import socket
import ssl
from collections.abc import Iterator
from typing import Any

from msgspec import Struct

from boxkite.core.errors import BoxkiteError
from boxkite.core.handover.sending.address import S3, SFTP, WEBDAV
from boxkite.core.handover.sending.place import ChangedHereError, Place, WrongThereError

_EXPIRED, _NOT_YET = 10, 9
"""Codes of OpenSSL's certificate check."""
_WHERE_LOGINS_ARE = {
    WEBDAV: "logins are read from ~/.netrc and the system's keyring",
    S3: "keys are read from the AWS profile or environment",
    SFTP: "keys are read from the SSH agent and ~/.ssh, passwords from ~/.netrc and the keyring",
}
_FULL = frozenset({errno.ENOSPC, errno.EDQUOT})


class Failure(Struct, frozen=True):
    """Why a file, or all of them, could not be sent."""

    reason: str
    hint: str = ""
    can_pass: bool = False
    """Whether it is worth trying again in a moment."""
    is_for_all: bool = False
    """Whether every other file would fail in the same way."""
    is_reconnected: bool = False
    """Whether the connection is to be made anew before the next try."""

    @property
    def text(self) -> str:
        """In one line."""
        return f"{self.reason}; {self.hint}" if self.hint else self.reason


def failure_of(error: BaseException, place: Place | None, protocol: str, server: str) -> Failure:
    """What an exception of a library means. server: empty for a folder."""
    server = server or "the destination"
    chain = list(_chain(error))
    for one in chain:
        found = _known(one, place, protocol, server)
        if found:
            return found
    kind = type(chain[0]).__name__
    return Failure(f"{server} could not be used ({kind})", "", True, False, True)


def _known(error: BaseException, place: Place | None, protocol: str, server: str) -> Failure | None:
    if isinstance(error, BoxkiteError):
        return Failure(error.text, error.hint, is_for_all=True)
    if isinstance(error, ChangedHereError):
        return Failure("the file here is not what it was when it was recorded or read first",
                       "boxkite verify tells more; send it again once nobody writes to it")  # fmt: skip
    if isinstance(error, WrongThereError):
        return Failure("what was read back is not what was sent; it got no name there", can_pass=True)
    if isinstance(error, FileExistsError):
        return Failure(
            "another file took its name meanwhile; nothing was overwritten", "send again to see which"
        )
    if isinstance(error, ssl.SSLCertVerificationError):
        return _certificate(error, server)
    if status := _http_status(error):
        return _by_status(status, place, protocol, server)
    if code := _s3_code(error):
        return _by_code(code, server)
    return _by_name(error, place, protocol, server) or _by_errno(error, place, server)


def _certificate(error: ssl.SSLCertVerificationError, server: str) -> Failure:
    if error.verify_code == _EXPIRED:
        return Failure(
            f"the certificate of {server} has expired",
            "ask whoever runs it; check the clock here",
            is_for_all=True,
        )
    if error.verify_code == _NOT_YET:
        return Failure(
            f"the certificate of {server} is not valid yet", "check the clock here", is_for_all=True
        )
    return Failure(f"the certificate of {server} is not trusted",
                   "where it has its own, settings.toml names it: certificate = …", is_for_all=True)  # fmt: skip


def _http_status(error: BaseException) -> int:
    response = getattr(error, "response", None)
    found = getattr(error, "status_code", None) or getattr(response, "status_code", None)
    if type(error).__name__ == "InsufficientStorage":
        return 507
    if type(error).__name__ == "BadGatewayError":
        return 502
    return found if isinstance(found, int) else 0


def _by_status(status: int, place: Place | None, protocol: str, server: str) -> Failure | None:
    if status == 401:
        return _login(place, protocol, server)
    if status == 403:
        return Failure(f"{server} does not allow this user to write there", is_for_all=True)
    if status in (404, 409):
        return Failure("this folder is not there", can_pass=False)
    if status == 405:
        return Failure(
            f"{server} takes no files there", "is it the address of a WebDAV folder?", is_for_all=True
        )
    if status == 413:
        return Failure(f"it is larger than {server} takes")
    if status == 423:
        return Failure("somebody has locked it there", can_pass=True)
    if status == 507:
        return _full(server)
    if status in (301, 302, 307, 308):
        return Failure(f"{server} sends to another address", "give that one", is_for_all=True)
    if status in (408, 425, 429) or status >= 500:
        return Failure(f"{server} is busy or out of order (status {status})", can_pass=True)
    return Failure(f"{server} refused it (status {status})")


def _login(place: Place | None, protocol: str, server: str) -> Failure:
    hint = _WHERE_LOGINS_ARE.get(protocol, "")
    if place is not None and getattr(place, "has_login", True):
        return Failure(f"{server} did not take the user name and password", hint, is_for_all=True)
    return Failure(f"{server} wants a user name and password, and none is kept for it", hint, is_for_all=True)


def _full(server: str) -> Failure:
    return Failure(
        f"{server} is full",
        "make room there, then send again",
        is_for_all=True,
    )


def _s3_code(error: BaseException) -> str:
    response: Any = getattr(error, "response", None)
    if isinstance(response, dict) and isinstance(response.get("Error"), dict):
        return str(response["Error"].get("Code", ""))
    return ""


def _by_code(code: str, server: str) -> Failure | None:
    keys = _WHERE_LOGINS_ARE[S3]
    if code in ("InvalidAccessKeyId", "SignatureDoesNotMatch", "InvalidToken", "ExpiredToken", "AuthFailure"):
        return Failure(f"{server} did not take the keys", keys, is_for_all=True)
    if code == "RequestTimeTooSkewed":
        return Failure(
            f"the clocks here and at {server} differ too much", "set the clock here", is_for_all=True
        )
    if code in ("AccessDenied", "403", "Forbidden"):
        return Failure("these keys may not write there", keys, is_for_all=True)
    if code in ("NoSuchBucket", "404"):
        return Failure("there is no such bucket", is_for_all=True)
    if code in ("QuotaExceeded", "InsufficientCapacity", "XMinioStorageFull"):
        return _full(server)
    if code in ("PreconditionFailed", "ConditionalRequestConflict"):
        return Failure(
            "another file took its name meanwhile; nothing was overwritten", "send again to see which"
        )
    if code in (
        "SlowDown",
        "InternalError",
        "ServiceUnavailable",
        "RequestTimeout",
        "503",
        "500",
        "Throttling",
    ):
        return Failure(f"{server} is busy or out of order ({code})", can_pass=True)
    return None


_NAMES = {
    "NoCredentialsError": ("there are no keys for S3", True, False),
    "ProfileNotFound": ("there is no such AWS profile", True, False),
    "EndpointConnectionError": ("{server} does not answer", False, True),
    "ConnectTimeoutError": ("{server} does not answer", False, True),
    "ReadTimeoutError": ("{server} stopped answering", False, True),
    "ConnectionClosedError": ("the connection to {server} broke", False, True),
    "ConnectionLost": ("the connection to {server} broke", False, True),
    "DisconnectError": ("the connection to {server} broke", False, True),
    "SFTPConnectionLost": ("the connection to {server} broke", False, True),
    "SFTPNoConnection": ("the connection to {server} broke", False, True),
    "ChannelOpenError": ("the connection to {server} broke", False, True),
    "RemoteProtocolError": ("the connection to {server} broke", False, True),
    "ReadError": ("the connection to {server} broke", False, True),
    "WriteError": ("the connection to {server} broke", False, True),
    "ServerDisconnectedError": ("the connection to {server} broke", False, True),
    "ConnectTimeout": ("{server} does not answer", False, True),
    "ReadTimeout": ("{server} stopped answering", False, True),
    "WriteTimeout": ("{server} stopped taking anything", False, True),
    "PoolTimeout": ("{server} stopped answering", False, True),
    "SFTPQuotaExceeded": ("{server} is full", True, False),
    "SFTPNoSpaceOnFilesystem": ("{server} is full", True, False),
    "SFTPPermissionDenied": ("{server} does not allow this user to write there", True, False),
    "SFTPNoSuchFile": ("this folder is not there", False, False),
}
"""Exceptions of libraries by name, so that none is imported for it: the reason, whether it is for all, can pass."""


def _by_name(error: BaseException, place: Place | None, protocol: str, server: str) -> Failure | None:
    for kind in type(error).__mro__:
        if kind.__name__ in ("PermissionDenied", "KeyImportError"):
            return Failure(
                f"{server} did not take this user's keys or password",
                _WHERE_LOGINS_ARE[SFTP],
                is_for_all=True,
            )
        if kind.__name__ in ("HostKeyNotVerifiable", "KeyExchangeFailed"):
            return Failure(f"the key of {server} is not among the known hosts",
                           "connect once with ssh, compare the key, accept it", is_for_all=True)  # fmt: skip
        if kind.__name__ == "SFTPFailure":
            if place is not None and place.is_full(1 << 20):
                return _full(server)
            return Failure(f"{server} could not do it", can_pass=True)
        if kind.__name__ in _NAMES:
            reason, is_for_all, can_pass = _NAMES[kind.__name__]
            hint = _WHERE_LOGINS_ARE.get(protocol, "") if "keys" in reason else ""
            return Failure(reason.format(server=server), hint, can_pass, is_for_all, can_pass)
    return None


def _by_errno(error: BaseException, place: Place | None, server: str) -> Failure | None:
    if isinstance(error, socket.gaierror):
        return Failure(f"there is no server {server}, or no network", is_for_all=True)
    if isinstance(error, TimeoutError):
        return Failure(f"{server} stopped answering", "", True, False, True)
    if isinstance(error, ConnectionRefusedError):
        return Failure(f"{server} does not answer", "", True, False, True)
    if isinstance(error, ConnectionError):
        return Failure(f"the connection to {server} broke", "", True, False, True)
    if not isinstance(error, OSError) or error.errno is None:
        return None
    if error.errno in _FULL:
        return _full(server)
    if error.errno in (errno.EACCES, errno.EPERM, errno.EROFS):
        return Failure("this user may not write there", is_for_all=True)
    if error.errno in (errno.ENETUNREACH, errno.EHOSTUNREACH):
        return Failure(f"there is no way to {server}", "", True, False, True)
    name = f" ({error.filename})" if isinstance(error.filename, str) else ""
    return Failure(f"{(error.strerror or 'it failed').lower()}{name}", can_pass=error.errno == errno.EIO)


def _chain(error: BaseException) -> Iterator[BaseException]:
    """The exception, and those that it came from: the cause first, as it knows best."""
    seen: list[BaseException] = []
    one: BaseException | None = error
    while one is not None and one not in seen:
        seen.append(one)
        one = one.__cause__ or one.__context__
    own = [
        one
        for one in seen
        if isinstance(one, (BoxkiteError, ChangedHereError, WrongThereError, FileExistsError))
    ]
    yield from own
    yield from reversed([one for one in seen if one not in own])
