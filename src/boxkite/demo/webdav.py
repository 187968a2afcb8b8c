"""A WebDAV server on this machine for the demo to send to, open to whoever asks on the loopback address."""

from __future__ import annotations

import contextlib
import threading
from collections.abc import Iterator
from pathlib import Path
from typing import Any


@contextlib.contextmanager
def webdav_server(folder: Path) -> Iterator[str]:
    """Serve a folder; the address. Raises ImportError where its packages are missing."""
    from cheroot import wsgi
    from wsgidav.wsgidav_app import WsgiDAVApp

    folder.mkdir(parents=True, exist_ok=True)
    app = WsgiDAVApp({
        "provider_mapping": {"/": str(folder)}, "simple_dc": {"user_mapping": {"*": True}},
        "verbose": 0, "logging": {"enable": False},
    })  # fmt: skip
    server: Any = wsgi.Server(("127.0.0.1", 0), app, numthreads=8)
    server.prepare()
    thread = threading.Thread(target=server.serve, daemon=True)
    thread.start()
    try:
        yield f"http://127.0.0.1:{server.bind_addr[1]}"
    finally:
        server.stop()
        thread.join(5)
