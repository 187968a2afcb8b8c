"""A real browser without a window, told what to do by its own protocol (Chrome DevTools Protocol)."""

from __future__ import annotations

import base64
import contextlib
import json
import re
import shutil
import subprocess
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from websocket import WebSocket, create_connection

CHROMIUM = shutil.which("chromium") or shutil.which("chromium-browser") or shutil.which("google-chrome")
_SECONDS = 60


class Page:
    """One page in the browser: what it logs and asks for is kept."""

    def __init__(self, socket: WebSocket) -> None:
        self._socket = socket
        self._count = 0
        self.problems: list[str] = []
        self.requests: list[str] = []
        for domain in ("Page", "Runtime", "Network", "Log"):
            self.ask(f"{domain}.enable")

    def ask(self, method: str, **values: Any) -> dict[str, Any]:
        self._count += 1
        number = self._count
        self._socket.send(json.dumps({"id": number, "method": method, "params": values}))
        while True:
            message = json.loads(self._socket.recv())
            self._note(message)
            if message.get("id") == number:
                assert "error" not in message, message
                result: dict[str, Any] = message["result"]
                return result

    def _note(self, message: dict[str, Any]) -> None:
        method, values = message.get("method"), message.get("params", {})
        if method == "Network.requestWillBeSent":
            self.requests.append(values["request"]["url"])
        elif method == "Runtime.exceptionThrown":
            self.problems.append(str(values["exceptionDetails"]))
        elif method == "Runtime.consoleAPICalled" and values["type"] in ("error", "warning"):
            self.problems.append(str(values["args"]))
        elif method == "Log.entryAdded" and values["entry"]["level"] in ("error", "warning"):
            self.problems.append(values["entry"]["text"])

    def open(self, address: str) -> None:
        self.ask("Page.navigate", url=address)
        self.wait("document.readyState === 'complete' && location.href !== 'about:blank'")

    def run(self, script: str) -> Any:
        """The value of an expression, promises waited for."""
        found = self.ask("Runtime.evaluate", expression=script, awaitPromise=True, returnByValue=True)
        assert "exceptionDetails" not in found, found
        return found["result"].get("value")

    def wait(self, condition: str, seconds: float = 20) -> None:
        until = time.monotonic() + seconds
        while not self.run(f"Boolean({condition})"):
            assert time.monotonic() < until, condition
            time.sleep(0.05)

    def key(self, key: str, text: str = "") -> None:
        for kind in ("keyDown", "keyUp"):
            letter = text or (key if len(key) == 1 else "")
            down = {"text": letter} if kind == "keyDown" and letter else {}
            self.ask("Input.dispatchKeyEvent", type=kind, key=key, **down)

    def drag(self, *points: tuple[float, float]) -> None:
        kinds = ["mousePressed", *["mouseMoved"] * (len(points) - 1)]
        for kind, (x, y) in zip(kinds, points, strict=True):
            self.ask("Input.dispatchMouseEvent", type=kind, x=x, y=y, button="left", buttons=1, clickCount=1)
        self.ask(
            "Input.dispatchMouseEvent", type="mouseReleased", x=points[-1][0], y=points[-1][1], button="left"
        )

    def picture(self, path: Path) -> None:
        path.write_bytes(base64.b64decode(self.ask("Page.captureScreenshot")["data"]))


@contextlib.contextmanager
def browser(width: int = 1280, height: int = 800, *, dark: bool = False) -> Iterator[Page]:
    assert CHROMIUM
    with tempfile.TemporaryDirectory(ignore_cleanup_errors=True) as profile:
        words = [
            "headless=new",
            "no-sandbox",
            "disable-gpu",
            "remote-debugging-port=0",
            "mute-audio",
            "no-first-run",
        ]
        words += ["autoplay-policy=no-user-gesture-required", "remote-allow-origins=*"]
        words += [f"user-data-dir={profile}", f"window-size={width},{height}"]
        program = subprocess.Popen(
            [CHROMIUM, *(f"--{word}" for word in words), "about:blank"],
            stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True,
        )  # fmt: skip
        try:
            socket = _socket(program)
            page = Page(socket)
            page.ask(
                "Emulation.setDeviceMetricsOverride",
                width=width,
                height=height,
                deviceScaleFactor=1,
                mobile=width < 600,
            )
            scheme = [{"name": "prefers-color-scheme", "value": "dark" if dark else "light"}]
            page.ask("Emulation.setEmulatedMedia", features=scheme)
            yield page
            socket.close()
        finally:
            program.terminate()
            program.wait(timeout=20)
            if program.stderr:
                program.stderr.close()


def _socket(program: subprocess.Popen[str]) -> WebSocket:
    """The connection to the browser's first page."""
    import urllib.request

    assert program.stderr
    until = time.monotonic() + _SECONDS
    for line in program.stderr:
        if match := re.search(r"ws://([\d.:]+)/", line):
            break
        assert time.monotonic() < until
    else:
        raise AssertionError("the browser did not start")
    while True:
        with urllib.request.urlopen(f"http://{match[1]}/json/list") as answer:
            pages = [one for one in json.load(answer) if one["type"] == "page"]
        if pages:
            return create_connection(pages[0]["webSocketDebuggerUrl"], timeout=_SECONDS)
        assert time.monotonic() < until
        time.sleep(0.05)
