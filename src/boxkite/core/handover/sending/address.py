"""Where files are sent: a folder, or a place on a server. A password never stands in an address."""

from __future__ import annotations

import re
from collections.abc import Mapping
from pathlib import Path
from urllib.parse import quote, unquote, urlsplit

from msgspec import Struct
from msgspec.structs import replace

from boxkite.core.errors import RequestError
from boxkite.core.files.reading import path_from
from boxkite.core.settings import DestinationSettings, settings_file
from boxkite.core.suggest import did_you_mean

FOLDER, WEBDAV, SFTP, S3 = "file", "webdav", "sftp", "s3"
_SCHEME = re.compile(r"[A-Za-z][A-Za-z0-9+.-]*://")
_WEBDAV = {"https": True, "webdavs": True, "davs": True, "http": False, "webdav": False, "dav": False}
"""Each with whether it is encrypted."""
_SAME = {"ssh": SFTP, "local": FOLDER}
_PORTS = {"https": 443, "http": 80, SFTP: 22}
_WHERE_LOGINS_GO = (
    "a user's password belongs into ~/.netrc or the system's keyring, keys of S3 into AWS profiles"
)


class Address(Struct, frozen=True):
    """A place to send to. Holds no secret, and may be shown and kept."""

    protocol: str
    """file, webdav, sftp, s3, or what fsspec calls another."""
    path: str
    """The folder there, without a slash at its end; of S3 the bucket and what comes before names."""
    scheme: str = ""
    """How it is written: https, http, sftp…"""
    host: str = ""
    port: int | None = None
    user: str = ""
    name: str = ""
    """What settings call it; empty for one that was written out."""
    certificate: str = ""
    """A file of certificates to trust instead of the system's."""
    profile: str = ""
    endpoint: str = ""
    """Of S3: the profile, and the server if it is not the one of the profile."""

    @property
    def url(self) -> str:
        """The address as people read it, and as records keep it."""
        if self.protocol == FOLDER:
            return self.path
        user = f"{quote(self.user, safe='')}@" if self.user else ""
        host = f"[{self.host}]" if ":" in self.host else self.host
        port = f":{self.port}" if self.port and self.port != _PORTS.get(self.scheme) else ""
        path = quote(self.path) if self.protocol == WEBDAV else self.path
        at = f" at {self.endpoint}" if self.endpoint else ""
        return f"{self.scheme}://{user}{host}{port}{path}{at}"

    @property
    def server(self) -> str:
        """The server alone, as keyrings and messages call it."""
        host = f"[{self.host}]" if ":" in self.host else self.host
        port = f":{self.port}" if self.port and self.port != _PORTS.get(self.scheme) else ""
        return f"{self.scheme}://{host}{port}" if host else self.endpoint or self.scheme

    @property
    def label(self) -> str:
        """Its name in the settings, else the address."""
        return self.name or self.url


def read_address(text: str, named: Mapping[str, DestinationSettings]) -> Address:
    """The address that a folder, a URL or the name of a destination in the settings means. Raises RequestError."""
    if text in named:
        settings = named[text]
        address = _written(settings.url, f"{text} in {settings_file().name}", settings)
        return _named(address, text, settings)
    if not _SCHEME.match(text) and re.fullmatch(r"[\w-]+", text) and named and not path_from(text).exists():
        hint = did_you_mean(text, named) or f"destinations: {', '.join(named)}"
        raise RequestError(f"there is no destination “{text}”, and no such folder", hint=hint)
    return _written(text, "", DestinationSettings(text))


def _named(address: Address, name: str, settings: DestinationSettings) -> Address:
    return replace(
        address, name=name, user=settings.user or address.user, certificate=settings.certificate,
        profile=settings.profile, endpoint=settings.endpoint,
    )  # fmt: skip


def _written(text: str, where: str, settings: DestinationSettings) -> Address:
    if not _SCHEME.match(text):
        return Address(FOLDER, str(path_from(text).absolute()))
    try:
        parts = urlsplit(text)
        port = parts.port
    except ValueError:
        raise RequestError("this is no address", path=where or without_password(text)) from None
    shown = where or without_password(text)
    if parts.password is not None:
        raise RequestError("a password in an address is seen by others, and is not used", path=shown,
                           hint=_WHERE_LOGINS_GO)  # fmt: skip
    scheme = parts.scheme.lower()
    if scheme in _WEBDAV:
        if parts.query or parts.fragment:
            raise RequestError(
                "an address has no “?” or “#”", path=shown, hint="written as %3F and %23 in a folder's name"
            )
        if not parts.hostname:
            raise RequestError("this address names no server", path=shown)
        written = "https" if _WEBDAV[scheme] else "http"
        return Address(
            WEBDAV,
            unquote(parts.path).rstrip("/"),
            written,
            parts.hostname,
            port,
            unquote(parts.username or ""),
        )
    protocol = _SAME.get(scheme, scheme)
    if protocol == FOLDER:
        return Address(FOLDER, str(Path(unquote(parts.path)).absolute()))
    rest = text.partition("://")[2]
    if protocol == S3:
        if "@" in rest.partition("/")[0] or not rest.strip("/"):
            raise RequestError("this is written s3://bucket/folder", path=shown)
        bucket, _, inside = rest.partition("/")
        return Address(S3, f"/{inside.strip('/')}".rstrip("/"), S3, bucket)
    if protocol == SFTP and not parts.hostname:
        raise RequestError("this address names no server", path=shown)
    host = parts.hostname or ""
    path = "/" + rest.partition("/")[2] if host else rest
    return Address(protocol, path.rstrip("/"), protocol, host, port, unquote(parts.username or ""))


def without_password(text: str) -> str:
    """An address as it may be shown: what stands between the user's name and the server is left out."""
    return re.sub(r"^([A-Za-z][A-Za-z0-9+.-]*://[^/@:]*):[^/]*@", r"\1@", text).partition("?")[0]
