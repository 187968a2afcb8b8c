"""The names and passwords of servers, from where people keep them: ~/.netrc, then the system's keyring.

S3 and SFTP have places of their own, which their libraries read: AWS profiles and environment, the agent, keys and
settings of SSH. What is found here is handed to the library of the protocol and kept nowhere.
"""

from __future__ import annotations

import contextlib
import netrc
import os
from pathlib import Path
from typing import NamedTuple

from boxkite.core.errors import RequestError
from boxkite.core.handover.sending.address import Address


class Login(NamedTuple):
    """A user and a password."""

    user: str
    password: str

    def __repr__(self) -> str:
        return f"Login({self.user!r}, …)"


def login_for(address: Address) -> Login | None:
    """The login for a server; None where none is kept. Raises RequestError for a .netrc that cannot be read."""
    return _of_netrc(address) or _of_keyring(address)


def _of_netrc(address: Address) -> Login | None:
    named = os.environ.get("NETRC")
    paths = [Path(named)] if named else [Path.home() / ".netrc", Path.home() / "_netrc"]
    path = next((path for path in paths if path.is_file()), None)
    if path is None:
        return None
    try:
        found = netrc.netrc(path).authenticators(address.host)
    except netrc.NetrcParseError as error:
        raise RequestError("this line cannot be read", path=path, line=error.lineno) from None
    except (OSError, UnicodeDecodeError):
        raise RequestError("it cannot be read", path=path) from None
    if found is None or (address.user and found[0] != address.user):
        return None
    return Login(found[0], found[2] or "")


def _of_keyring(address: Address) -> Login | None:
    try:
        import keyring
        from keyring.errors import KeyringError
    except ImportError:
        return None
    with contextlib.suppress(KeyringError, RuntimeError, OSError):
        found = keyring.get_credential(address.server, address.user or None)
        if found is not None and (not address.user or found.username == address.user):
            return Login(found.username, found.password)
    return None
