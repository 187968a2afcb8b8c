"""Real servers on this machine to send to: WebDAV, S3, SSH; and a wire between that breaks, slows down or counts."""

from __future__ import annotations

import contextlib
import datetime
import socket
import subprocess
import threading
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

USER, PASSWORD = "mia", "vat-and-felt-7316"


@contextlib.contextmanager
def webdav_server(
    folder: Path, *, certificate: tuple[Path, Path] | None = None, wrap: Any = None
) -> Iterator[int]:
    """A WebDAV server for a folder; its port. wrap: middleware around its application."""
    from cheroot import wsgi
    from cheroot.ssl.builtin import BuiltinSSLAdapter
    from wsgidav.wsgidav_app import WsgiDAVApp

    app: Any = WsgiDAVApp({
        "provider_mapping": {"/": str(folder)}, "verbose": 0, "logging": {"enable": False},
        "simple_dc": {"user_mapping": {"*": {USER: {"password": PASSWORD}}}},
        "http_authenticator": {"accept_basic": True, "accept_digest": False, "default_to_digest": False},
    })  # fmt: skip
    server: Any = wsgi.Server(("127.0.0.1", 0), wrap(app) if wrap else app, numthreads=10)
    server.error_log = lambda *_, **__: None
    if certificate:
        server.ssl_adapter = BuiltinSSLAdapter(str(certificate[0]), str(certificate[1]))
    server.prepare()
    thread = threading.Thread(target=server.serve, daemon=True)
    thread.start()
    try:
        yield server.bind_addr[1]
    finally:
        server.stop()
        thread.join(5)


@contextlib.contextmanager
def s3_server() -> Iterator[int]:
    """An S3 server that keeps all in memory, with the bucket “mill”; its port. Keys are taken from the environment."""
    from moto.server import ThreadedMotoServer

    server = ThreadedMotoServer("127.0.0.1", 0, verbose=False)
    server.start()
    port = server.get_host_and_port()[1]
    import http.client

    connection = http.client.HTTPConnection("127.0.0.1", port)
    connection.request(
        "PUT",
        "/mill",
        headers={"Authorization": "AWS4-HMAC-SHA256 Credential=k/20260101/us-east-1/s3/aws4_request"},
    )
    assert connection.getresponse().status == 200
    connection.close()
    try:
        yield port
    finally:
        server.stop()


SSHD = Path("/usr/sbin/sshd")


def has_ssh() -> bool:
    """Whether OpenSSH's server is installed."""
    return SSHD.exists()


@contextlib.contextmanager
def ssh_server(home: Path) -> Iterator[int]:
    """OpenSSH for this user alone, with a key of its own in home/.ssh, which knows the host; its port."""
    ssh = home / ".ssh"
    ssh.mkdir(parents=True, mode=0o700, exist_ok=True)
    place = home / "sshd"
    place.mkdir(exist_ok=True)
    for key in (place / "host", ssh / "id_ed25519"):
        if not key.exists():
            subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(key)], check=True)
    (place / "authorized").write_bytes((ssh / "id_ed25519.pub").read_bytes())
    port = free_port()
    (ssh / "known_hosts").write_text(f"[127.0.0.1]:{port} {(place / 'host.pub').read_text()}")
    (place / "config").write_text(
        f"Port {port}\nListenAddress 127.0.0.1\nHostKey {place}/host\nAuthorizedKeysFile {place}/authorized\n"
        f"PidFile {place}/pid\nStrictModes no\nUsePAM no\nPasswordAuthentication no\n"
        "Subsystem sftp internal-sftp\nMaxStartups 100\n"
    )
    Path("/run/sshd").mkdir(exist_ok=True)
    with (place / "log").open("w") as log:
        server = subprocess.Popen([str(SSHD), "-D", "-e", "-f", str(place / "config")], stderr=log)
    try:
        wait_for_port(port)
        yield port
    finally:
        server.terminate()
        server.wait(10)


def free_port() -> int:
    with socket.socket() as one:
        one.bind(("127.0.0.1", 0))
        return int(one.getsockname()[1])


def wait_for_port(port: int) -> None:
    until = time.monotonic() + 10
    while time.monotonic() < until:
        with contextlib.suppress(OSError), socket.create_connection(("127.0.0.1", port), 1):
            return
        time.sleep(0.02)
    raise TimeoutError(port)


class Wire:
    """Passes everything on to a port; cuts connections after so many bytes from the client, or slows them down."""

    def __init__(self, target: int, *, cut_after: list[int] | None = None, bytes_a_second: float = 0) -> None:
        self._target = target
        self.cut_after = cut_after or []
        self._slow = bytes_a_second
        self._lock = threading.Lock()
        self.passed = 0
        self.cuts = 0
        self._socket = socket.create_server(("127.0.0.1", 0))
        self.port = self._socket.getsockname()[1]
        threading.Thread(target=self._serve, daemon=True).start()

    def close(self) -> None:
        self._socket.close()

    def _serve(self) -> None:
        while True:
            try:
                client, _ = self._socket.accept()
            except OSError:
                return
            server = socket.create_connection(("127.0.0.1", self._target))
            threading.Thread(target=self._pass, args=(client, server, True), daemon=True).start()
            threading.Thread(target=self._pass, args=(server, client, False), daemon=True).start()

    def _pass(self, source: socket.socket, target: socket.socket, is_client: bool) -> None:
        with contextlib.suppress(OSError):
            while part := source.recv(1 << 15):
                if is_client and self._is_cut(len(part)):
                    break
                if is_client and self._slow:
                    time.sleep(len(part) / self._slow)
                target.sendall(part)
        for one in (source, target):
            with contextlib.suppress(OSError):
                one.shutdown(socket.SHUT_RDWR)
            one.close()

    def _is_cut(self, length: int) -> bool:
        with self._lock:
            self.passed += length
            if self.cut_after and self.passed >= self.cut_after[0]:
                self.cut_after.pop(0)
                self.cuts += 1
                return True
        return False


def certificate(folder: Path, *, days: tuple[int, int] = (-1, 30)) -> tuple[Path, Path]:
    """A certificate for 127.0.0.1 that vouches for itself, and its key. days: from and until when, from today."""
    from ipaddress import ip_address

    from cryptography import x509
    from cryptography.hazmat.primitives import hashes, serialization
    from cryptography.hazmat.primitives.asymmetric import ec
    from cryptography.x509.oid import NameOID

    key = ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "post.example")])
    now = datetime.datetime.now(datetime.UTC)
    first, last = (now + datetime.timedelta(days=number) for number in days)
    made = (
        x509.CertificateBuilder().subject_name(name).issuer_name(name).public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(first).not_valid_after(last)
        .add_extension(x509.SubjectAlternativeName([x509.IPAddress(ip_address("127.0.0.1"))]), critical=False)
        .add_extension(x509.BasicConstraints(ca=True, path_length=None), critical=True)
        .sign(key, hashes.SHA256())
    )  # fmt: skip
    paths = folder / "server.pem", folder / "server.key"
    paths[0].write_bytes(made.public_bytes(serialization.Encoding.PEM))
    paths[1].write_bytes(key.private_bytes(serialization.Encoding.PEM, serialization.PrivateFormat.TraditionalOpenSSL,
                                           serialization.NoEncryption()))  # fmt: skip
    return paths
