"""Sending over WebDAV (RFC 4918): sent in one request under a hidden name, read back, then moved to its name."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator, Mapping
from functools import cache
from typing import Any
from urllib.parse import quote

from boxkite.core.errors import RequestError
from boxkite.core.handover.sending.address import Address
from boxkite.core.handover.sending.logins import Login, login_for
from boxkite.core.handover.sending.place import AT_A_TIME, Content, Place, Remote, Tick, file_system, reading

_SECONDS = 60.0
_TAKEN = 412
"""Precondition failed: the name is taken and is not to be overwritten."""


class WebDavPlace(Place):
    """A folder on a WebDAV server. The protocol cannot add to a file: a half-sent one begins again."""

    can_append = False

    def __init__(self, address: Address) -> None:
        self.has_login = False
        super().__init__(address)

    def connect(self) -> Any:
        """A client with the login of .netrc or the keyring; the server's certificate is checked."""
        login = login_for(self.address)
        self.has_login = login is not None
        port = f":{self.address.port}" if self.address.port else ""
        host = f"[{self.address.host}]" if ":" in self.address.host else self.address.host
        base = f"{self.address.scheme}://{host}{port}"
        trusting = _trusting(self.address.certificate)
        auth = self._auth(base, login, trusting) if login else None
        return file_system("webdav", base_url=base, auth=auth, timeout=_SECONDS, retry=False, **trusting)

    def _auth(self, base: str, login: Login, trusting: Mapping[str, Any]) -> Any:
        """As the server wants it (RFC 7617, RFC 7616)."""
        import httpx

        asked = httpx.options(f"{base}{quote(self.address.path)}/", timeout=_SECONDS, **trusting)
        schemes = asked.headers.get("www-authenticate", "").lower()
        return httpx.DigestAuth(*login) if "digest" in schemes and "basic" not in schemes else tuple(login)

    def close(self) -> None:
        """Close the connections."""
        self.fs.client.http.close()

    def at(self, name: str) -> str:
        """The path, written for a URL."""
        return quote(f"{self.address.path}/{name}")

    def files_in(self, folder: str) -> dict[str, Remote]:
        """By their names as they are, not as URLs write them."""
        try:
            found = self.fs.client.ls(self.at(folder).rstrip("/"), detail=True, allow_listing_resource=False)
        except Exception as error:
            if type(error).__name__ in ("ResourceNotFound", "IsAResourceError"):
                return {}
            raise
        return {
            str(one["name"]).rstrip("/").rpartition("/")[2]: Remote(
                int(one.get("content_length") or 0), str(one.get("etag") or one.get("modified") or "")
            )
            for one in found
            if one.get("type") != "directory"
        }

    def length_of(self, name: str) -> int:
        """Nothing that could be resumed."""
        return 0

    def send(self, content: Content, partial: str, tick: Tick) -> None:
        """In one request."""
        with reading(content) as source:
            self.fs.client.upload_fileobj(_Ticking(source, tick), self.at(partial), overwrite=True,
                                          size=content.size_bytes, chunk_size=AT_A_TIME >> 2)  # fmt: skip
            source.require_whole()

    def read(self, name: str, size_bytes: int) -> Iterator[bytes]:
        """In one request."""
        with self.fs.client.http.stream("GET", self.fs.client.join_url(self.at(name))) as response:
            response.raise_for_status()
            yield from response.iter_bytes(AT_A_TIME)

    def name_it(self, partial: str, name: str, *, replace: bool) -> None:
        """By MOVE, which fails where the name is taken."""
        response = self.fs.client.http.request("MOVE", self.fs.client.join_url(self.at(partial)), headers={
            "Destination": str(self.fs.client.join_url(self.at(name))),
            "Overwrite": "T" if replace else "F",
        })  # fmt: skip
        if response.status_code == _TAKEN:
            raise FileExistsError(name)
        response.raise_for_status()


class _Ticking:
    """A source that tells how much was read of it, as the client takes one."""

    def __init__(self, source: Any, tick: Tick) -> None:
        self._source = source
        self._tick = tick

    def read(self, size: int = -1) -> bytes:
        part: bytes = self._source.read(size)
        self._tick(len(part))
        return part


@cache
def _trusting(certificate: str) -> Mapping[str, Any]:
    """How servers are trusted: the same for all connections, as reading whom to trust takes 0.04 s each time."""
    if not certificate:
        import httpx

        return {"verify": httpx.create_ssl_context()}
    import ssl

    context = ssl.create_default_context()
    with contextlib.suppress(ssl.SSLError):
        try:
            context.load_verify_locations(certificate)
        except OSError as error:
            if isinstance(error, ssl.SSLError):
                raise RequestError("this holds no certificate", path=certificate) from None
            raise RequestError("it cannot be read", path=certificate) from None
    return {"verify": context}
