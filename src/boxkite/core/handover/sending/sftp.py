"""Sending over SFTP: with the keys, the agent, the settings and the known hosts of SSH."""

from __future__ import annotations

import contextlib
from typing import Any

from boxkite.core.handover.sending.address import Address
from boxkite.core.handover.sending.logins import login_for
from boxkite.core.handover.sending.place import Place, file_system

_SECONDS = 30


class SftpPlace(Place):
    """A folder on an SSH server. /~/ at the beginning of its path is the user's own folder."""

    def __init__(self, address: Address) -> None:
        self.has_login = True
        self._client: Any = None
        super().__init__(address)

    def connect(self) -> Any:
        """Connected as SSH itself would be; a host that is not known is refused."""
        login = login_for(self.address)
        user = self.address.user or (login.user if login else "")
        options: dict[str, Any] = {
            "known_hosts": (),  # asyncssh: those of the user and the system; the library's default checks nothing
            "connect_timeout": _SECONDS,
            "keepalive_interval": 15,
            "keepalive_count_max": 4,
        }
        if user:
            options["username"] = user
        if login:
            options["password"] = login.password
        return file_system("sftp", host=self.address.host, port=self.address.port, **options)

    def close(self) -> None:
        """Close the connection."""
        with contextlib.suppress(Exception):
            self.fs.client.close()

    def at(self, name: str) -> str:
        """The path; below the user's own folder it is relative."""
        return super().at(name).removeprefix("/~/")

    def bring_to_disk(self, target: Any) -> None:
        """Where the server knows how to, and the volume that it writes to: SFTPBadMessage is EINVAL there."""
        from asyncssh.sftp import SFTPBadMessage, SFTPOpUnsupported

        with contextlib.suppress(SFTPOpUnsupported, SFTPBadMessage):
            target.fsync()

    def name_it(self, partial: str, name: str, *, replace: bool) -> None:
        """By the rename of the protocol, which fails where the name is taken."""
        if replace:
            self.fs.mv(self.at(partial), self.at(name))
            return
        if self.fs.exists(self.at(name)):
            raise FileExistsError(name)
        self._call("rename", self.at(partial), self.at(name))

    def is_full(self, wanted_bytes: int) -> bool:
        """By what the server tells of its volume."""
        try:
            volume = self._call("statvfs", self.at("").rstrip("/") or ".")
        except Exception:
            return False
        return bool(volume.bavail * volume.frsize < wanted_bytes)

    def _call(self, method: str, *arguments: Any) -> Any:
        """A call that the interface of fsspec does not have."""
        from fsspec.asyn import sync

        if self._client is None:
            self._client = sync(self.fs.loop, self._start)
        return sync(self.fs.loop, getattr(self._client, method), *arguments)

    async def _start(self) -> Any:
        return await self.fs.client.start_sftp_client()
